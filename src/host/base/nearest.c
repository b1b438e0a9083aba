#include "netsuke/tools.h"

#include <glib.h>
#include <stdbool.h>
#include <stdint.h>
#include <string.h>

/* What people write who have learned other words for the same. */
static const char *const other_names[][2] = {
    {"color", "colour"},
    {"std", "deviation"},
    {"stddev", "deviation"},
    {"sigma", "deviation"},
    {"means", "mean"},
    {"gray", "grey"},
    {"grayscale", "grey"},
    {"greyscale", "grey"},
    {"quantize", "quantise"},
    {"equalize", "equalise"},
    {"license", "licence"},
    {"width", "size"},
    {"height", "size"},
    {"resolution", "size"},
    {"shape", "size"},
    {"test", "held-out"},
    {"validation", "held-out"},
    {"heldout", "held-out"},
    {"train", "training"},
    {"mhz", "clock"},
    {"frequency", "clock"},
    {"fps", "camera-rate"},
    {"frame-rate", "camera-rate"},
    {"sram", "ram"},
    {"rom", "flash"},
    {"time", "latency"},
    {"path", "file"},
    {"onnx", "file"},
    {"interpolation", "resample"},
    {"resize", "fit"},
    {"minmax", "extremes"},
    {"true", "yes"},
    {"false", "no"},
    {"on", "yes"},
    {"off", "no"},
};

/* Slips between two words: letters left out, put in, changed, or two exchanged (F. J. Damerau,
 * Communications of the ACM 7, 1964, in its restricted form). */
static size_t slips(const char *a, const char *b) {
    enum { LONGEST = 40 };
    size_t rows = strlen(a);
    size_t columns = strlen(b);
    size_t table[LONGEST + 1][LONGEST + 1];
    if (rows > LONGEST || columns > LONGEST) {
        return SIZE_MAX;
    }
    for (size_t i = 0; i <= rows; i++) {
        for (size_t k = 0; k <= columns; k++) {
            if (i == 0 || k == 0) {
                table[i][k] = i + k;
                continue;
            }
            size_t least = table[i - 1][k - 1] + (a[i - 1] != b[k - 1]);
            least = MIN(least, MIN(table[i - 1][k], table[i][k - 1]) + 1);
            if (i > 1 && k > 1 && a[i - 1] == b[k - 2] && a[i - 2] == b[k - 1]) {
                least = MIN(least, table[i - 2][k - 2] + 1);
            }
            table[i][k] = least;
        }
    }
    return table[rows][columns];
}

const char *nsk_nearest(const char *word, const char *const *known) {
    char *small = g_ascii_strdown(word, -1);
    g_strdelimit(small, "_ ", '-');
    size_t allowed = strlen(small) > 4 ? 2 : 1;
    const char *nearest = NULL;
    size_t least = allowed + 1;
    for (size_t i = 0; i < G_N_ELEMENTS(other_names); i++) {
        bool same = strcmp(small, other_names[i][0]) == 0;
        for (const char *const *name = known; same && *name != NULL; name++) {
            if (strcmp(*name, other_names[i][1]) == 0) {
                nearest = *name;
                least = 0;
            }
        }
    }
    for (const char *const *name = known; *name != NULL; name++) {
        size_t far = slips(small, *name);
        if (far < least) {
            nearest = *name;
            least = far;
        }
    }
    g_free(small);
    return nearest;
}

char *nsk_did_you_mean(const char *word, const char *const *known) {
    const char *nearest = nsk_nearest(word, known);
    return nearest != NULL ? g_strdup_printf("; did you mean '%s'?", nearest) : g_strdup("");
}
