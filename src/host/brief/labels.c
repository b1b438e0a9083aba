#include "brief/labels.h"

#include <string.h>

enum { LONGEST_LABEL = 100 };

static bool check_label(const nsk_labels *labels, int index, const char *path, nsk_error *error) {
    const char *name = labels->names[index];
    if (*name == '\0') {
        return nsk_fail(error, "%s:%d: an empty line; each line is the name of a class", path,
                        index + 1);
    }
    if (!g_utf8_validate(name, -1, NULL) || strlen(name) > LONGEST_LABEL) {
        return nsk_fail(error, "%s:%d: a name is UTF-8 text of at most %d bytes", path, index + 1,
                        LONGEST_LABEL);
    }
    for (int i = 0; i < index; i++) {
        if (strcmp(labels->names[i], name) == 0) {
            return nsk_fail(error, "%s:%d: '%s' stands on line %d already; names must differ", path,
                            index + 1, name, i + 1);
        }
    }
    return true;
}

bool nsk_labels_read(const char *path, nsk_labels *labels, nsk_error *error) {
    size_t size;
    *labels = (nsk_labels){0};
    char *text = (char *)nsk_file_read(path, 1 << 20, &size, error);
    if (text == NULL) {
        return false;
    }
    labels->names = g_strsplit(nsk_past_mark(g_strchomp(text)), "\n", -1);
    labels->count = (int)g_strv_length(labels->names);
    bool good = labels->count >= 2 && labels->count <= NSK_MOST_LABELS && strlen(text) <= size;
    if (!good) {
        nsk_fail(error, "%s: %d labels; a classifier has 2 to %d, one a line", path, labels->count,
                 NSK_MOST_LABELS);
    }
    for (int i = 0; i < labels->count && good; i++) {
        g_strstrip(labels->names[i]);
        good = check_label(labels, i, path, error);
    }
    g_free(text);
    if (!good) {
        nsk_labels_clear(labels);
    }
    return good;
}

void nsk_labels_clear(nsk_labels *labels) {
    g_strfreev(labels->names);
    *labels = (nsk_labels){0};
}
