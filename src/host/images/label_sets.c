#include "images/label_sets.h"

#include <string.h>

#include "images/label_names.h"

struct nsk_label_sets {
    int labels;
    GPtrArray *sets;     /* of bool[labels] */
    GHashTable *numbers; /* such, as bytes, to number + 1 */
};

nsk_label_sets *nsk_label_sets_new(int labels) {
    nsk_label_sets *s = g_new0(nsk_label_sets, 1);
    s->labels = labels;
    s->sets = g_ptr_array_new_with_free_func(g_free);
    s->numbers =
        g_hash_table_new_full(g_bytes_hash, g_bytes_equal, (GDestroyNotify)g_bytes_unref, NULL);
    return s;
}

void nsk_label_sets_free(nsk_label_sets *s) {
    if (s != NULL) {
        g_hash_table_destroy(s->numbers);
        g_ptr_array_free(s->sets, TRUE);
        g_free(s);
    }
}

int nsk_label_sets_number(nsk_label_sets *s, const bool *has) {
    GBytes *key = g_bytes_new(has, (gsize)s->labels * sizeof *has);
    int known = GPOINTER_TO_INT(g_hash_table_lookup(s->numbers, key));
    if (known > 0) {
        g_bytes_unref(key);
        return known - 1;
    }
    g_ptr_array_add(s->sets, g_memdup2(has, (gsize)s->labels * sizeof *has));
    g_hash_table_insert(s->numbers, key, GINT_TO_POINTER((int)s->sets->len));
    return (int)s->sets->len - 1;
}

int nsk_label_sets_count(const nsk_label_sets *s) {
    return (int)s->sets->len;
}

const bool *nsk_label_sets_at(const nsk_label_sets *s, int number) {
    return s->sets->pdata[number];
}

static const char no_label[] = "none";

char *nsk_label_set_text(const bool *has, const nsk_labels *labels) {
    GString *text = g_string_new(NULL);
    for (int i = 0; i < labels->count; i++) {
        if (has[i]) {
            g_string_append_printf(text, "%s%s", text->len > 0 ? "+" : "", labels->names[i]);
        }
    }
    return g_string_free(text->len > 0 ? text : g_string_append(text, no_label), FALSE);
}

/* Parts that are no label are parted again, by blanks. */
static bool take_parts(const nsk_labels *labels, const char *text, const char *signs, bool *has,
                       char **unknown) {
    bool good = true;
    char **parts = g_strsplit_set(text, signs, -1);
    for (char **part = parts; *part != NULL && good; part++) {
        const char *name = g_strstrip(*part);
        int label = nsk_label_of_text(labels, name);
        if (label >= 0) {
            has[label] = true;
        } else if (strpbrk(name, " \t") != NULL) {
            good = take_parts(labels, name, " \t", has, unknown);
        } else if (*name != '\0') {
            *unknown = g_strdup(name);
            good = false;
        }
    }
    g_strfreev(parts);
    return good;
}

bool nsk_label_set_of_text(const nsk_labels *labels, const char *text, bool *has, char **unknown) {
    int alone = nsk_label_of_text(labels, text);
    memset(has, 0, (size_t)labels->count * sizeof *has);
    *unknown = NULL;
    if (alone >= 0) {
        has[alone] = true;
        return true;
    }
    return strcmp(text, no_label) == 0 || take_parts(labels, text, ";|+", has, unknown);
}
