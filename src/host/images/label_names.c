#include "images/label_names.h"

#include <string.h>

void nsk_labels_copy(const nsk_labels *from, nsk_labels *to) {
    to->count = from->count;
    to->names = g_strdupv(from->names);
    to->thresholds =
        g_memdup2(from->thresholds, (gsize)from->count * sizeof *from->thresholds); /* or NULL */
}

void nsk_labels_clear(nsk_labels *labels) {
    g_strfreev(labels->names);
    g_free(labels->thresholds);
    *labels = (nsk_labels){0};
}

int nsk_label_index(const nsk_labels *labels, const char *name) {
    char *wanted = g_utf8_normalize(name, -1, G_NORMALIZE_NFC); /* NULL: not UTF-8 */
    int found = -1;
    for (int i = 0; i < labels->count && found < 0; i++) {
        char *label = g_utf8_normalize(labels->names[i], -1, G_NORMALIZE_NFC);
        bool same = wanted != NULL && label != NULL ? strcmp(wanted, label) == 0
                                                    : strcmp(name, labels->names[i]) == 0;
        found = same ? i : -1;
        g_free(label);
    }
    g_free(wanted);
    return found;
}

int nsk_label_of_text(const nsk_labels *labels, const char *text) {
    char *end;
    int label = nsk_label_index(labels, text);
    guint64 number = g_ascii_strtoull(text, &end, 10);
    bool is_number = g_ascii_isdigit(text[0]) && *end == '\0';
    return label < 0 && is_number && number < (guint64)labels->count ? (int)number : label;
}
