/* Whatever networks and classes are called, their hand-over compiles, as C and as C++. */
#include <stdlib.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "device/crc.h"
#include "device/format.h"
#include "netsuke/emit.h"

/* Alone, as the headers of the C library, as what stdint.h makes of a type, as files of the runtime
 * and of the self-test. */
static const char *const words[] = {
    "kiln",     "board",    "self test", "nsk",      "nsk model",   "nsk_open", "netsuke",
    "firmware", "int",      "int8",      "UINT16",   "size",        "intptr",   "char",
    "float",    "double",   "class",     "new",      "template",    "auto",     "this",
    "bool",     "true",     "NULL",      "stdint",   "stdbool",     "stddef",   "string",
    "math",     "limits",   "errno",     "assert",   "signal",      "time",     "memory",
    "main",     "model",    "sizes",     "test",     "data",        "arm_mve",  "src",
    "zephyr",   "Makefile", "3 tiles",   "9",        "\303\274ber", "a/b",      "a b",
    "a-b",      "..",       "-",         "'quoted'", "*/",          "?\?/",     "%s"};
static const char *const labels[] = {"h",      "width",       "max",   "workspace bytes", "a",
                                     "a!",     "a 1",         "class", "channels",        "model",
                                     "height", "frame_bytes", "min",   "CLASSES",         "a_1_5"};

static void put32(uint8_t *at, uint32_t value) {
    for (int i = 0; i < 4; i++) {
        at[i] = (uint8_t)(value >> (8 * i));
    }
}

/* The model with other labels, from the list's `first` on. */
static nsk_model_file relabelled(const nsk_model_file *file, unsigned classes, size_t first) {
    GByteArray *bytes = g_byte_array_new();
    g_byte_array_append(bytes, file->bytes, (guint)file->size);
    uint32_t offsets = nsk_load32(file->bytes + NSK_H_LABELS_AT);
    for (unsigned c = 0; c < classes; c++) {
        const char *label = labels[(first + c) % G_N_ELEMENTS(labels)];
        put32(bytes->data + offsets + 4 * c, bytes->len);
        g_byte_array_append(bytes, (const guint8 *)label, (guint)strlen(label) + 1);
    }
    put32(bytes->data + NSK_H_SIZE, bytes->len);
    uint32_t crc = nsk_crc32(0, bytes->data, NSK_H_CRC);
    put32(bytes->data + NSK_H_CRC,
          nsk_crc32(crc, bytes->data + NSK_H_WORKSPACE, bytes->len - NSK_H_WORKSPACE));
    nsk_model_file made = *file;
    made.size = bytes->len;
    made.bytes = g_byte_array_free(bytes, FALSE);
    return made;
}

/* Its header behind those of the C library, where constants could be the same; all of it where
 * files could be. */
static void hand_over(const nsk_model_file *file, const char *word, bool all) {
    nsk_error error = {.text = ""};
    char *folder = scratch_new();
    char *handed = scratch_path(folder, "c");
    char *name = nsk_handed_name(word);
    const nsk_handed_network network = {.name = name, .model = file};
    char **files = nsk_emit(&network, 1, handed, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(files);
    static const char *const compilers[] = {"cc -x c -std=c11", "c++ -x c++ -std=c++17"};
    for (size_t i = 0; i < G_N_ELEMENTS(compilers); i++) {
        char *line = g_strdup_printf(
            "printf '#include <stdint.h>\n#include <limits.h>\n#include <float.h>\n#include "
            "\"%s.h\"\n' | %s -Wall -Wextra -Werror -fsyntax-only -I. -",
            name, compilers[i]);
        CU_ASSERT(runs(handed, line));
        g_free(line);
    }
    CU_ASSERT(!all || runs(handed, "make -s > t.txt"));
    g_strfreev(files);
    g_free(name);
    g_free(handed);
    scratch_remove(folder);
}

static void every_name_compiles(void) {
    static const char *const as_files[] = {"board",  "self test", "nsk model",
                                           "stdint", "nsk",       NULL};
    noisy n;
    noisy_load(&n, "GlobalAveragePool x > g; Flatten g > f; Gemm f h_5_3 c_5 > z transB=i1", 5);
    for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
        bool all = g_strv_contains(as_files, words[i]) != FALSE;
        nsk_model_file other = relabelled(n.file, 5, 5 * i);
        hand_over(&other, words[i], all);
        g_free(other.bytes);
    }
    noisy_free(&n);
}

CU_TestInfo handed_tests[] = {
    {"every name compiles", every_name_compiles},
    CU_TEST_INFO_NULL,
};
