/* Every command of the README and the documents is run, as it stands there. */
#include <stdio.h>
#include <string.h>

#include "drive.h"

/* Commands that cannot run inside a test, and where they are run instead. */
static bool runs_elsewhere(const char *line) {
    static const char *const elsewhere[] = {
        "git clone",  /* the reader's own first step */
        "make check", /* this is it */
        "make demo", /* an assay, which the contracts make of fewer pictures; these are its steps */
        "make demo-train", /* five minutes; tests/train covers the trainer */
        "make costs",      /* rewrites a committed file; the budget suite checks it */
        "make fuzz",       /* make check runs it for a few seconds a target */
    };
    for (size_t i = 0; i < G_N_ELEMENTS(elsewhere); i++) {
        if (g_str_has_prefix(line, elsewhere[i])) {
            return true;
        }
    }
    return false;
}

/* Commands of which a part is enough here, and why. */
static const char *shortened(const char *line) {
    static const char *const parts[][2] = {
        {"make bench", "make bench CORES=cortex-m4"}, /* seven more are a minute's compiling */
        {"build/netsuke trial demo/kiln.ini --on emulate:cortex-m4", /* 50 frames: half a minute */
         "build/netsuke trial demo/kiln.ini --on emulate:cortex-m4 --frames 5"},
        {"build/netsuke watch demo/kiln.ini", /* until it is interrupted */
         "timeout -s INT --preserve-status 8 build/netsuke watch demo/kiln.ini"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(parts); i++) {
        if (strcmp(line, parts[i][0]) == 0) {
            return parts[i][1];
        }
    }
    return line;
}

/* Lines of the blocks fenced as sh; a line that ends with a backslash goes on. */
static int run_document(const char *path) {
    char *full = g_build_filename(NSK_SOURCE_DIR, path, NULL);
    char *text = NULL;
    CU_ASSERT_FATAL(g_file_get_contents(full, &text, NULL, NULL));
    char **lines = g_strsplit(text, "\n", -1);
    GString *command = g_string_new("");
    bool inside = false;
    int run = 0;
    for (char **line = lines; *line != NULL; line++) {
        if (g_str_has_prefix(*line, "```")) {
            inside = strcmp(*line, "```sh") == 0;
        } else if (inside && g_str_has_suffix(*line, "\\")) {
            g_string_append_len(command, *line, (gssize)strlen(*line) - 1);
        } else if (inside && **line != '\0') {
            g_string_append(command, *line);
            if (!runs_elsewhere(command->str)) {
                outcome o = drive("%s", shortened(command->str));
                bool good = o.status == 0 || (o.status == 1 && strstr(o.out, "BROKEN") != NULL);
                if (!good) {
                    fprintf(stderr, "\n    %s: %s\n    status %d: %s\n", path, command->str,
                            o.status, o.err);
                }
                CU_ASSERT(good);
                outcome_clear(&o);
                run++;
            }
            g_string_truncate(command, 0);
        }
    }
    g_string_free(command, TRUE);
    g_strfreev(lines);
    g_free(text);
    g_free(full);
    return run;
}

static void readme_runs(void) {
    CU_ASSERT(run_document("README.md") >= 8);
}

static void documents_run(void) {
    CU_ASSERT(run_document("docs/integrating.md") + run_document("docs/estimates.md") +
                  run_document("docs/porting.md") + run_document("docs/live.md") >=
              5);
}

static void pictures_are_there(void) {
    outcome o = drive_for(0, "grep -o 'docs/screenshots/[a-z-]*\\.png' README.md | sort -u | "
                             "xargs ls > /dev/null && ls docs/screenshots/*.png | wc -l");
    int count = 0;
    CU_ASSERT(sscanf(o.out, "%d", &count) == 1 && count >= 7 && count < 20);
    outcome_clear(&o);
}

CU_TestInfo readme_tests[] = {
    {"every command of the README", readme_runs},
    {"every command of the documents", documents_run},
    {"the pictures are there", pictures_are_there},
    CU_TEST_INFO_NULL,
};
