/* What Frama-C shows for all inputs, as far as it takes a minute: units of the device half, a small
 * network's hand-over, the product's loop on it. `make proof` shows it of the demo's networks. */
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "netsuke/emit.h"

static void units_have_no_alarm_without_its_reason(void) {
    static const char *const units[] = {"crc", "decide", "frame_check", "open", "slots", "wire"};
    for (size_t i = 0; i < G_N_ELEMENTS(units); i++) {
        char *line = g_strdup_printf("scripts/proof --once %s", units[i]);
        CU_ASSERT(runs(NSK_SOURCE_DIR, line));
        g_free(line);
    }
}

/* The hand-over of a network with the usual kinds of layer, as "tile". */
static char *hand_over(char **folder) {
    nsk_error error = {.text = ""};
    noisy n;
    *folder = scratch_new();
    char *handed = scratch_path(*folder, "c");
    noisy_load(
        &n,
        "Conv x w_4_3_3_3 b_4 > a strides=l2,2; Relu a > r; Conv r d_4_1_3_3 c_4 > d group=i4 "
        "pads=l1,1,1,1; GlobalAveragePool d > g; Flatten g > f; Gemm f h_5_4 e_5 > z "
        "transB=i1; Softmax z > y",
        5);
    const nsk_handed_network network = {.name = "tile", .model = n.file};
    char **files = nsk_emit(&network, 1, handed, &error);
    assert_error(&error, "");
    g_strfreev(files);
    noisy_free(&n);
    return handed;
}

static char *text_of(const char *folder, const char *name) {
    char *path = g_build_filename(folder, name, NULL);
    char *text = NULL;
    CU_ASSERT_FATAL(g_file_get_contents(path, &text, NULL, NULL) != FALSE);
    g_free(path);
    return text;
}

static void prove(const char *handed, const char *said, bool expected, const char *result) {
    nsk_error error = {.text = ""};
    bool alarms = !expected;
    char *text = nsk_handed_prove(handed, &alarms, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(text);
    CU_ASSERT(g_str_has_prefix(text, said));
    CU_ASSERT_EQUAL(alarms, expected);
    char *file = text_of(handed, "proof/tile.txt");
    CU_ASSERT(g_str_has_prefix(file, text));
    CU_ASSERT_PTR_NOT_NULL(strstr(file, result));
    g_free(file);
    g_free(text);
}

/* With half of its workspace, it must not hold. */
static void a_network_is_shown_for_every_frame(void) {
    char *folder;
    char *handed = hand_over(&folder);
    prove(handed, "tile: 0 alarms in ", false, "Assumed:");
    CU_ASSERT(runs(handed, "sed -i 's#+ 3) / 4#+ 3) / 8#' proof/tile.c"));
    prove(handed, "tile: ", true, "out of bounds");
    g_free(handed);
    scratch_remove(folder);
}

static void the_loop_is_shown_for_every_camera(void) {
    char *folder;
    char *handed = hand_over(&folder);
    char *line = g_strdup_printf("scripts/proof loop '%s' tile -DONCE", handed);
    CU_ASSERT(runs(NSK_SOURCE_DIR, line));
    g_free(line);
    g_free(handed);
    scratch_remove(folder);
}

/* Without Frama-C, and where it cannot read what is there. */
static void what_is_missing_is_said(void) {
    nsk_error error = {.text = ""};
    bool alarms;
    char *folder;
    char *handed = hand_over(&folder);
    CU_ASSERT(runs(handed,
                   "mkdir bin && ln -s $(command -v dirname) bin/ && sh=$(command -v sh) && "
                   "PATH=$PWD/bin $sh proof/prove.sh 2> said; test $? = 2 && grep -q "
                   "'^frama-c: not here; install frama-c-base$' said"));
    CU_ASSERT(runs(handed, "echo '}' >> tile_model.c"));
    CU_ASSERT_PTR_NULL(nsk_handed_prove(handed, &alarms, &error));
    assert_error(&error, "tile: nothing was shown; the reason stands in proof/tile.log");
    char *file = text_of(handed, "proof/tile.txt");
    CU_ASSERT_STRING_EQUAL(file, "tile: nothing was shown yet; sh proof/prove.sh\n");
    g_free(file);
    g_free(handed);
    scratch_remove(folder);
}

CU_TestInfo proof_tests[] = {
    {"units have no alarm without its reason", units_have_no_alarm_without_its_reason},
    {"a network is shown for every frame", a_network_is_shown_for_every_frame},
    {"the loop is shown for every camera", the_loop_is_shown_for_every_camera},
    {"what is missing is said", what_is_missing_is_said},
    CU_TEST_INFO_NULL,
};
