#include "brief/labels.h"

#include <string.h>

#include "netsuke/tools.h"

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

bool nsk_labels_read_thresholds(const nsk_settings *s, nsk_labels *labels, nsk_error *error) {
    static const char group[] = "thresholds";
    const char *const *keys = nsk_settings_keys(s, group);
    double every = 0.5;
    if (keys == NULL) {
        return true;
    }
    bool good = nsk_settings_number(s, group, "every", NSK_UNIT_SHARE, 0, 1, &every, error);
    labels->thresholds = g_new(double, labels->count);
    for (int i = 0; i < labels->count; i++) {
        labels->thresholds[i] = every;
    }
    for (; *keys != NULL && good; keys++) {
        int label = nsk_label_index(labels, *keys);
        if (label >= 0) {
            good = nsk_settings_number(s, group, *keys, NSK_UNIT_SHARE, 0, 1,
                                       &labels->thresholds[label], error);
        } else if (strcmp(*keys, "every") != 0) {
            char *meant = nsk_did_you_mean(*keys, (const char *const *)labels->names);
            char *wrong = g_strdup_printf("no label has this name%s%s", meant,
                                          *meant != '\0' ? "" : "; 'every' stands for all");
            good = nsk_settings_fail(s, group, *keys, error, wrong);
            g_free(wrong);
            g_free(meant);
        }
    }
    return good;
}
