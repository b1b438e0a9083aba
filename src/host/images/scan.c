/* The forms that a labelled set may have. */
#include <string.h>

#include "images/list.h"
#include "images/several.h"

enum { MOST_DEPTH = 8 }; /* of folders in a class's folder: links may go round */

static int by_name(const void *a, const void *b) {
    return strcmp(*(char *const *)a, *(char *const *)b);
}

/* The names in a folder in byte order, hidden ones left out; NULL-terminated. */
static char **list_folder(const char *folder, nsk_error *error) {
    GError *reason = NULL;
    GDir *dir = g_dir_open(folder, 0, &reason);
    if (dir == NULL) {
        nsk_fail(error, "%s: %s; check the path in the brief", folder, reason->message);
        g_error_free(reason);
        return NULL;
    }
    GPtrArray *names = g_ptr_array_new();
    for (const char *name = g_dir_read_name(dir); name != NULL; name = g_dir_read_name(dir)) {
        if (name[0] != '.') {
            g_ptr_array_add(names, g_strdup(name));
        }
    }
    g_dir_close(dir);
    g_ptr_array_sort(names, by_name);
    g_ptr_array_add(names, NULL);
    return (char **)g_ptr_array_free(names, FALSE);
}

bool nsk_is_picture_name(const char *name) {
    static const char *const endings[] = {".png", ".jpg", ".jpeg", ".jpe", ".bmp",
                                          ".dib", ".pbm", ".pgm",  ".ppm", ".pnm"};
    char *lower = g_ascii_strdown(name, -1);
    bool found = false;
    for (size_t i = 0; i < G_N_ELEMENTS(endings); i++) {
        found = found || g_str_has_suffix(lower, endings[i]);
    }
    g_free(lower);
    return found;
}

static bool list_pictures(const char *folder, int depth, GPtrArray *paths, nsk_error *error) {
    char **names = list_folder(folder, error);
    bool good = names != NULL;
    for (char **name = names; good && *name != NULL; name++) {
        char *path = g_build_filename(folder, *name, NULL);
        if (nsk_is_picture_name(*name)) {
            g_ptr_array_add(paths, path);
            continue;
        }
        if (depth < MOST_DEPTH && g_file_test(path, G_FILE_TEST_IS_DIR)) {
            good = list_pictures(path, depth + 1, paths, error);
        }
        g_free(path);
    }
    g_strfreev(names);
    return good;
}

bool nsk_list_pictures(const char *folder, GPtrArray *paths, nsk_error *error) {
    return list_pictures(folder, 0, paths, error);
}

static bool add_class(nsk_images *images, const char *folder, int label, nsk_error *error) {
    GPtrArray *paths = g_ptr_array_new();
    bool good = nsk_list_pictures(folder, paths, error);
    guint found = paths->len;
    for (guint i = 0; i < found; i++) {
        nsk_images_add(images, paths->pdata[i], label, -1);
    }
    g_ptr_array_free(paths, TRUE);
    if (!good || found > 0) {
        return good;
    }
    nsk_fail(error, "%s: no image in this class's folder; add images or take the label out",
             folder);
    return nsk_leave_out(images, error);
}

/* The label, or the number of the set of labels, that a folder's name says; -1 for none. Labels
 * that it says are noted in `seen`. */
static int label_of_folder(const nsk_images *images, const char *name, bool *seen) {
    const int count = images->labels.count;
    int label = nsk_label_index(&images->labels, name);
    bool *has = g_new0(bool, count);
    char *unknown = NULL;
    if (images->sets != NULL) {
        label = nsk_label_set_of_text(&images->labels, name, has, &unknown)
                    ? nsk_label_sets_number(images->sets, has)
                    : -1;
    } else if (label >= 0) {
        has[label] = true;
    }
    for (int i = 0; i < count && label >= 0; i++) {
        seen[i] = seen[i] || has[i];
    }
    g_free(unknown);
    g_free(has);
    return label;
}

static bool add_folder(nsk_images *images, const char *root, const char *name, bool *seen,
                       nsk_error *error) {
    char *folder = g_build_filename(root, name, NULL);
    bool good = true;
    if (g_file_test(folder, G_FILE_TEST_IS_DIR)) {
        int label = label_of_folder(images, name, seen);
        if (label >= 0) {
            good = add_class(images, folder, label, error);
        } else {
            nsk_fail(error, "%s: no label is called '%s'; rename the folder or add the label",
                     folder, name);
            good = nsk_leave_out(images, error);
        }
    }
    g_free(folder);
    return good;
}

/* Arrays and lists take labels that folders cannot have. */
static bool check_folder_names(const nsk_labels *labels, const char *root, nsk_error *error) {
    for (int i = 0; i < labels->count; i++) {
        if (strchr(labels->names[i], '/') != NULL || labels->names[i][0] == '.') {
            return nsk_fail(error,
                            "%s: label '%s' cannot be a folder's name; rename the class, or give "
                            "the set as a CSV of path,label or as an array",
                            root, labels->names[i]);
        }
    }
    return true;
}

bool nsk_scan_folder(nsk_images *images, const char *root, nsk_error *error) {
    char **names =
        check_folder_names(&images->labels, root, error) ? list_folder(root, error) : NULL;
    if (names == NULL) {
        return false;
    }
    bool *seen = g_new0(bool, images->labels.count);
    bool good = true;
    for (char **name = names; *name != NULL && good; name++) {
        good = add_folder(images, root, *name, seen, error);
    }
    for (int i = 0; i < images->labels.count && good; i++) {
        if (!seen[i]) {
            nsk_fail(error, "%s: label '%s' has no folder here; add %s/%s", root,
                     images->labels.names[i], root, images->labels.names[i]);
            good = nsk_leave_out(images, error);
        }
    }
    g_free(seen);
    g_strfreev(names);
    return good;
}

/* For sets that are not folders. */
static bool every_label_has_pictures(nsk_images *images, const char *path, nsk_error *error) {
    bool *seen = g_new0(bool, images->labels.count);
    bool good = true;
    for (guint i = 0; i < images->entries->len; i++) {
        for (int k = 0; k < images->labels.count; k++) {
            seen[k] = seen[k] || nsk_images_has(images, (int)i, k);
        }
    }
    for (int i = 0; i < images->labels.count && good; i++) {
        if (!seen[i]) {
            nsk_fail(error, "%s: no image has the label '%s'; add some or take the label out", path,
                     images->labels.names[i]);
            good = nsk_leave_out(images, error);
        }
    }
    g_free(seen);
    return good;
}

static bool add_line(nsk_images *images, const char *list, const nsk_list_line *line, bool first,
                     nsk_error *error) {
    int label = nsk_label_of_text(&images->labels, line->cells[1]);
    char *path = nsk_path_beside(list, line->cells[0]);
    if (label >= 0) {
        nsk_images_add(images, path, label, -1);
        return true;
    }
    bool header = first && !g_file_test(path, G_FILE_TEST_EXISTS);
    g_free(path);
    if (header) {
        return true;
    }
    nsk_fail(error, "%s:%d: no label is called '%s'; correct the line or add the label", list,
             line->line, line->cells[1]);
    return nsk_leave_out(images, error);
}

bool nsk_scan_list(nsk_images *images, const char *path, nsk_error *error) {
    const size_t MOST_TEXT = (size_t)256 << 20;
    size_t size;
    char *text = (char *)nsk_file_read(path, MOST_TEXT, &size, error);
    if (text == NULL) {
        return false;
    }
    GArray *lines = nsk_list_parse(text, size, images->sets != NULL, error);
    g_free(text);
    if (lines == NULL) {
        return nsk_fail_in(error, "%s", path);
    }
    bool good = images->sets == NULL || nsk_several_of_lines(images, path, lines, error);
    for (guint i = 0; i < lines->len && good && images->sets == NULL; i++) {
        good = add_line(images, path, &g_array_index(lines, nsk_list_line, i), i == 0, error);
    }
    nsk_list_free(lines);
    return good && every_label_has_pictures(images, path, error);
}

static bool add_elements(nsk_images *images, const char *path, const nsk_array *labels,
                         const char *labels_path, nsk_error *error) {
    char *name = g_path_get_basename(path);
    for (size_t i = 0; i < labels->dims[0]; i++) {
        int64_t label = nsk_array_integer(labels, i);
        if (label >= 0 && label < images->labels.count) {
            nsk_images_add(images, g_strdup_printf("%s[%zu]", name, i), (int)label, (int)i);
            continue;
        }
        nsk_fail(error, "%s: element %zu is %" G_GINT64_FORMAT ", and there are labels 0 to %d",
                 labels_path, i, label, images->labels.count - 1);
        if (!nsk_leave_out(images, error)) {
            g_free(name);
            return false;
        }
    }
    g_free(name);
    return true;
}

static bool add_labels(nsk_images *images, const char *path, const nsk_array *labels,
                       const char *labels_path, nsk_error *error) {
    if (labels->dims[0] != images->array.dims[0]) {
        return nsk_fail(error,
                        "%s: has %zu labels, %s has %zu images; give those that belong "
                        "together",
                        labels_path, labels->dims[0], path, images->array.dims[0]);
    }
    bool good = images->sets != NULL
                    ? nsk_several_of_array(images, path, labels, labels_path, error)
                    : add_elements(images, path, labels, labels_path, error);
    return good && every_label_has_pictures(images, path, error);
}

bool nsk_scan_array(nsk_images *images, const char *path, const char *labels_path,
                    nsk_error *error) {
    nsk_array labels = {0};
    char *beside = labels_path == NULL ? nsk_array_labels_beside(path) : NULL;
    const char *where = labels_path != NULL ? labels_path : beside;
    bool good = true;
    if (where == NULL) {
        good = nsk_fail(error,
                        "%s: which file holds its labels? Give it beside this one under [images], "
                        "as in 'held-out-labels = FILE'",
                        path);
    }
    good = good && nsk_array_open(path, &images->array, error) &&
           nsk_array_open(where, &labels, error);
    if (good && !nsk_array_is_pictures(&images->array, error)) {
        good = nsk_fail_in(error, "%s", path);
    } else if (good && images->sets == NULL && !nsk_array_is_labels(&labels, error)) {
        good = nsk_fail_in(error, "%s", where);
    }
    good = good && add_labels(images, path, &labels, where, error);
    nsk_array_close(&labels);
    g_free(beside);
    return good;
}
