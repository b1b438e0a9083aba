/* Sets of real sizes: ten thousand small pictures in one file, a thousand and more files. */
#include <fcntl.h>
#include <stdio.h>
#include <string.h>
#include <sys/resource.h>
#include <sys/wait.h>
#include <unistd.h>

#include "drive.h"

/* Runs the command by itself; MiB that it held at most. Its output goes to a file. */
static double peak_of(char *const *arguments, const char *output, int *status) {
    struct rusage usage = {.ru_maxrss = 0};
    pid_t child = fork();
    if (child == 0) {
        int file = open(output, O_WRONLY | O_CREAT | O_TRUNC, 0600);
        if (file < 0 || chdir(NSK_SOURCE_DIR) != 0 || dup2(file, STDOUT_FILENO) < 0) {
            _exit(100);
        }
        execv(NSK_COMMAND, arguments);
        _exit(101);
    }
    CU_ASSERT_FATAL(child > 0);
    CU_ASSERT_EQUAL(wait4(child, status, 0, &usage), child);
    return (double)usage.ru_maxrss / 1024.0;
}

static void compare_within(const char *brief, int images) {
    char *output = g_strdup_printf("%s/large.json", scratch());
    char *const arguments[] = {(char *)"netsuke", (char *)"compare", (char *)brief,
                               (char *)"--json", NULL};
    int status;
    double peak = peak_of(arguments, output, &status);
    CU_ASSERT(WIFEXITED(status) && WEXITSTATUS(status) <= 1);
    CU_ASSERT(peak < 300.0);
    outcome o = drive_for(0, "cat \"$T/large.json\"");
    char *wanted = g_strdup_printf("\"images\" : %d,", images);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, wanted));
    printf("[%d images, %.0f MiB] ", images, peak);
    outcome_clear(&o);
    g_free(wanted);
    g_free(output);
}

/* 28 x 28 grey noise in IDX, labels beside it, and a brief for it. */
static void write_idx_set(void) {
    outcome o = drive_for(
        0, "mkdir -p \"$T/idx\" && cd \"$T/idx\" && { printf "
           "'\\0\\0\\10\\3\\0\\0\\47\\20\\0\\0\\0\\34\\0\\0\\0\\34'; head -c 7840000 /dev/urandom; "
           "} > many-images-idx3-ubyte && { printf '\\0\\0\\10\\1\\0\\0\\47\\20'; for i in $(seq "
           "2500); do printf '\\0\\1\\2\\3'; done; } > many-labels-idx1-ubyte && "
           "printf '\\4\\5' | dd of=many-labels-idx1-ubyte bs=1 seek=100 conv=notrunc status=none");
    outcome_clear(&o);
    o = drive_for(0, "sed \"s#images/calibration#$PWD/demo/images/calibration#;s#kiln.onnx#"
                     "$PWD/demo/kiln.onnx#;s#labels.txt#$PWD/demo/labels.txt#;"
                     "s#images/held-out#many-images-idx3-ubyte#;s#^loss.*##;s#\\.\\./boards#$PWD/"
                     "boards#\" demo/kiln.ini > "
                     "\"$T/idx/many.ini\"");
    outcome_clear(&o);
}

static void ten_thousand_in_idx(void) {
    write_idx_set();
    char *brief = g_strdup_printf("%s/idx/many.ini", scratch());
    compare_within(brief, 10000);
    g_free(brief);
}

static void a_folder_of_files(void) {
    compare_within("demo/kiln.ini", 1200);
}

/* Progress is drawn where standard error is a terminal, and nowhere else. */
/* Twenty thousand lines that name the same few pictures take seconds. */
static void lists_of_copies(void) {
    outcome o = drive_for(
        0, "for i in $(seq 834); do ls $PWD/demo/images/held-out/*/*-000[0-3].png; done | sed "
           "'s#.*/\\([a-z]*\\)/[^/]*$#&,\\1#' > \"$T/copies.csv\" && wc -l < "
           "\"$T/copies.csv\" && ulimit -t 60 && netsuke survey demo/kiln.ini --held-out "
           "\"$T/copies.csv\"");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "20016"));
    outcome_clear(&o);
}

static void progress_is_drawn_on_terminals(void) {
    outcome o = drive_for(0, "script -qec \"'%s' compare demo/kiln.ini\" /dev/null", NSK_COMMAND);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "[####################....................] 60"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, " of 1200"));
    outcome_clear(&o);
    o = drive_for(0, "netsuke compare demo/kiln.ini");
    CU_ASSERT_STRING_EQUAL(o.err, "");
    outcome_clear(&o);
}

CU_TestInfo large_tests[] = {
    {"lists of copies take seconds", lists_of_copies},
    {"ten thousand pictures in an IDX file", ten_thousand_in_idx},
    {"a folder of files", a_folder_of_files},
    {"progress is drawn on terminals", progress_is_drawn_on_terminals},
    CU_TEST_INFO_NULL,
};
