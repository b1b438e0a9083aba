#include "images/several.h"

#include <string.h>

#include "images/list.h"

/* ---- lists ---- */

typedef struct list_reader {
    nsk_images *images;
    const char *list;
    bool *has;           /* the line's labels */
    int *column;         /* the cell of each label; NULL: labels stand by name in the second */
    GHashTable *entries; /* path to the entry's place + 1 */
} list_reader;

/* The cells of the labels, where the line names them all; NULL where it does not. g_free. */
static int *find_columns(const nsk_labels *labels, const nsk_list_line *line) {
    int *column = g_new0(int, labels->count);
    int found = 0;
    for (int cell = 1; cell < line->count; cell++) {
        int label = nsk_label_index(labels, line->cells[cell]);
        if (label >= 0 && column[label] == 0) {
            column[label] = cell;
            found++;
        }
    }
    if (found < labels->count) {
        g_clear_pointer(&column, g_free);
    }
    return column;
}

/* 1, 0, or -1 for neither. */
static int yes_or_no(const char *text) {
    static const char *const words[2][5] = {{"0", "0.0", "false", "no", NULL},
                                            {"1", "1.0", "true", "yes", NULL}};
    char *lower = g_ascii_strdown(text, -1);
    int answer = g_strv_contains(words[1], lower) ? 1 : g_strv_contains(words[0], lower) ? 0 : -1;
    g_free(lower);
    return answer;
}

static bool read_columns(const list_reader *r, const nsk_list_line *line, nsk_error *error) {
    const nsk_labels *labels = &r->images->labels;
    for (int i = 0; i < labels->count; i++) {
        const char *text = r->column[i] < line->count ? line->cells[r->column[i]] : "";
        int answer = yes_or_no(text);
        if (answer < 0) {
            return nsk_fail(error, "%s:%d: '%s' under '%s' should be 1 or 0; correct the line",
                            r->list, line->line, text, labels->names[i]);
        }
        r->has[i] = answer == 1;
    }
    return true;
}

static bool read_names(const list_reader *r, const nsk_list_line *line, nsk_error *error) {
    char *unknown;
    if (nsk_label_set_of_text(&r->images->labels, line->cells[1], r->has, &unknown)) {
        return true;
    }
    nsk_fail(error, "%s:%d: no label is called '%s'; correct the line or add the label", r->list,
             line->line, unknown);
    g_free(unknown);
    return false;
}

/* Takes over `path`. */
static void add(const list_reader *r, char *path) {
    nsk_label_sets *sets = r->images->sets;
    int place = GPOINTER_TO_INT(g_hash_table_lookup(r->entries, path)) - 1;
    if (place < 0) {
        nsk_images_add(r->images, path, nsk_label_sets_number(sets, r->has), -1);
        g_hash_table_insert(r->entries, path, GINT_TO_POINTER((int)r->images->entries->len));
        return;
    }
    nsk_entry *known = &g_array_index(r->images->entries, nsk_entry, place);
    for (int i = 0; i < r->images->labels.count; i++) {
        r->has[i] = r->has[i] || nsk_label_sets_at(sets, known->label)[i];
    }
    known->label = nsk_label_sets_number(sets, r->has);
    g_free(path);
}

static bool take_line(const list_reader *r, const nsk_list_line *line, bool first,
                      nsk_error *error) {
    nsk_error fault;
    char *path = nsk_path_beside(r->list, line->cells[0]);
    bool good = r->column != NULL ? read_columns(r, line, &fault) : read_names(r, line, &fault);
    if (good) {
        add(r, path);
        return true;
    }
    bool header = first && r->column == NULL && !g_file_test(path, G_FILE_TEST_EXISTS);
    g_free(path);
    if (!header) {
        nsk_error_copy(error, &fault);
    }
    return header || nsk_leave_out(r->images, &fault);
}

bool nsk_several_of_lines(nsk_images *images, const char *list, const GArray *lines,
                          nsk_error *error) {
    list_reader r = {images, list, g_new0(bool, images->labels.count), NULL,
                     g_hash_table_new(g_str_hash, g_str_equal)};
    bool good = true;
    for (guint i = 0; i < lines->len && good; i++) {
        const nsk_list_line *line = &g_array_index(lines, nsk_list_line, i);
        r.column = i == 0 ? find_columns(&images->labels, line) : r.column;
        if (i > 0 || r.column == NULL) {
            good = take_line(&r, line, i == 0, error);
        }
    }
    g_hash_table_destroy(r.entries);
    g_free(r.column);
    g_free(r.has);
    return good;
}

/* ---- arrays ---- */

static bool read_row(const nsk_array *labels, size_t row, const char *labels_path, bool *has,
                     nsk_error *error) {
    for (size_t i = 0; i < labels->dims[1]; i++) {
        double number = nsk_array_number(labels, row * labels->dims[1] + i);
        has[i] = number > 0.5;
        if (number != 0.0 && number != 1.0) {
            return nsk_fail(error, "%s: row %zu has %g for label %zu; each should be 1 or 0",
                            labels_path, row, number, i);
        }
    }
    return true;
}

bool nsk_several_of_array(nsk_images *images, const char *path, const nsk_array *labels,
                          const char *labels_path, nsk_error *error) {
    size_t count = (size_t)images->labels.count;
    if (labels->rank != 2 || labels->dims[1] != count) {
        return nsk_fail(error,
                        "%s: a row of %zu numbers for each image is needed, 1 for a label that it "
                        "has and 0 for others",
                        labels_path, count);
    }
    bool *has = g_new0(bool, count);
    char *name = g_path_get_basename(path);
    bool good = true;
    for (size_t i = 0; i < labels->dims[0] && good; i++) {
        if (read_row(labels, i, labels_path, has, error)) {
            nsk_images_add(images, g_strdup_printf("%s[%zu]", name, i),
                           nsk_label_sets_number(images->sets, has), (int)i);
        } else {
            good = nsk_leave_out(images, error);
        }
    }
    g_free(name);
    g_free(has);
    return good;
}
