/* The examples, in the build and against an installed copy. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "drive.h"

static void quantising_in_process(void) {
    JsonNode *root = drive_json(0, "netsuke compare demo/kiln.ini --json");
    outcome o = drive_for(0, "'%s/quantise_in_process' demo/kiln.ini", NSK_BINARY_DIR);
    int right[2];
    int images;
    CU_ASSERT_EQUAL(
        sscanf(o.out, "%d of %d right in float, %d in integer", &right[0], &images, &right[1]), 3);
    CU_ASSERT_EQUAL(right[0], json_number(root, "float.correct"));
    CU_ASSERT_EQUAL(right[1], json_number(root, "integer.correct"));
    json_node_unref(root);
    outcome_clear(&o);
    o = drive_for(2, "'%s/quantise_in_process' nowhere.ini", NSK_BINARY_DIR);
    CU_ASSERT_STRING_EQUAL(o.err, "nowhere.ini: No such file or directory; check the path\n");
    outcome_clear(&o);
    o = drive_for(0, "test $(wc -l < examples/quantise_in_process.c) -lt 50");
    outcome_clear(&o);
}

/* Installs into the scratch folder and builds both examples against that copy alone. */
static void against_an_installed_copy(void) {
    outcome o =
        drive_for(0,
                  "cmake --install '%s' --prefix \"$T/usr\" >/dev/null && "
                  "mkdir -p \"$T/away\" && cp examples/*.c \"$T/away\" && "
                  "netsuke quantise demo/kiln.ini -o \"$T/away/m.nsk\" --array "
                  "\"$T/away/m.c\" --array-name kiln_model >/dev/null && cd \"$T/away\" && "
                  "export PKG_CONFIG_PATH=$(dirname $(find \"$T/usr\" -name netsuke.pc)) && "
                  "cc -std=c11 -Wall -Wextra -Wconversion -Werror quantise_in_process.c "
                  "$(pkg-config --cflags --libs --static netsuke) -o quantise && "
                  "cc -std=c11 -Wall -Wextra -Wconversion -Werror -O2 classify_frame.c m.c "
                  "-I\"$T/usr/include\" $(find \"$T/usr\" -name libnetsuke-device.a) "
                  "-o classify && \"$T/usr/bin/netsuke\" --help >/dev/null",
                  NSK_BINARY_DIR);
    outcome_clear(&o);
    o = drive_for(0, "LD_LIBRARY_PATH=$(dirname $(find \"$T/usr\" -name libnetsuke.so)) "
                     "\"$T/away/quantise\" demo/kiln.ini");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "right in float"));
    outcome_clear(&o);
}

/* The example's scores, the model as a C array, are classify's. Needs the build of the test above.
 */
static void one_frame_one_decision(void) {
    static const char *const pictures[] = {"crack/crack-0003", "belt/belt-0100", "drip/drip-0150",
                                           "chip/chip-0041"};
    for (size_t i = 0; i < G_N_ELEMENTS(pictures); i++) {
        char *picture = g_strdup_printf("demo/images/held-out/%s.png", pictures[i]);
        outcome o =
            drive_for(0, "'%s/frame-bytes' %s | \"$T/away/classify\"", NSK_BINARY_DIR, picture);
        JsonNode *root = drive_json(0,
                                    "netsuke classify demo/kiln.ini --model \"$T/away/m.nsk\" "
                                    "--json %s",
                                    picture);
        for (int c = 0; c < 6; c++) {
            char *path = g_strdup_printf("images.0.integer.%d.class", c);
            char *line = g_strdup_printf("%s ", json_text(root, path));
            g_free(path);
            path = g_strdup_printf("images.0.integer.%d.probability", c);
            const char *at = strstr(o.out, line);
            CU_ASSERT_PTR_NOT_NULL_FATAL(at);
            CU_ASSERT_DOUBLE_EQUAL(atoi(at + strlen(line)) / 0x1p30, json_number(root, path), 1e-7);
            g_free(path);
            g_free(line);
        }
        json_node_unref(root);
        outcome_clear(&o);
        g_free(picture);
    }
    outcome o = drive_for(2, "echo short | \"$T/away/classify\"");
    CU_ASSERT_STRING_EQUAL(o.err, "a frame has 6912 bytes\n");
    outcome_clear(&o);
}

static void it_needs_no_heap(void) {
    outcome o = drive_for(0, "cd \"$T/away\" && cc -std=c11 -O2 -c classify_frame.c "
                             "-I\"$T/usr/include\" && nm classify_frame.o $(find \"$T/usr\" -name "
                             "libnetsuke-device.a) > names && grep -q ' T nsk_run$' names && "
                             "awk '$1 == \"U\" && $2 ~ /^(malloc|calloc|realloc|free)$/' names");
    CU_ASSERT_STRING_EQUAL(o.out, "");
    outcome_clear(&o);
}

/* The campaign of flipped bits, shortened: a row for each place under each protection, every flip
 * is in one, and where the model is checked none of its flips makes a wrong action. */
static void flipped_bits_come_to_a_table(void) {
    outcome o =
        drive_for(0, "'%s/nsk-flips' demo/kiln.ini demo/scenes/plain.csv 640", NSK_BINARY_DIR);
    char **lines = g_strsplit(o.out, "\n", -1);
    int rows = 0;
    int flips = 0;
    for (char **line = lines; *line != NULL; line++) {
        char **cell = g_strsplit(*line, " | ", -1);
        bool row = g_strv_length(cell) == 8 && g_ascii_isdigit(cell[2][0]);
        bool checked =
            row && strstr(cell[0], "every = 1`") != NULL && strcmp(cell[1], "model") == 0;
        rows += row;
        flips += row && strcmp(cell[1], "all") != 0 ? (int)g_ascii_strtoll(cell[2], NULL, 10) : 0;
        CU_ASSERT(!checked || g_str_has_prefix(cell[7], "0.000 %"));
        g_strfreev(cell);
    }
    CU_ASSERT_EQUAL(rows, 20);
    CU_ASSERT_EQUAL(flips, 640);
    g_strfreev(lines);
    outcome_clear(&o);
    o = drive_for(2, "'%s/nsk-flips' demo/kiln.ini nowhere.csv 640", NSK_BINARY_DIR);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "nowhere.csv: No such file"));
    outcome_clear(&o);
}

CU_TestInfo example_tests[] = {
    {"quantising in process", quantising_in_process},
    {"both build against an installed copy", against_an_installed_copy},
    {"one frame, one decision, the same scores", one_frame_one_decision},
    {"no heap", it_needs_no_heap},
    {"flipped bits come to a table", flipped_bits_come_to_a_table},
    CU_TEST_INFO_NULL,
};
