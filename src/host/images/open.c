/* From a path to a set: by the form it has, without what cannot be read, of its limit. */
#include "images/set.h"

/* Takes pictures from the classes in turn until there are `limit`, each class's evenly spaced. */
static void thin(nsk_images *images, int limit) {
    int classes = nsk_images_label_sets(images);
    int total = (int)images->entries->len;
    int *have = g_new0(int, classes);
    int *want = g_new0(int, classes);
    for (int i = 0; i < total; i++) {
        have[g_array_index(images->entries, nsk_entry, i).label]++;
    }
    for (int taken = 0; taken < limit && taken < total;) {
        for (int k = 0; k < classes && taken < limit; k++) {
            if (want[k] < have[k]) {
                want[k]++;
                taken++;
            }
        }
    }
    int *place = g_new0(int, classes);
    GArray *kept = g_array_new(FALSE, FALSE, sizeof(nsk_entry));
    for (int i = 0; i < total; i++) {
        nsk_entry one = g_array_index(images->entries, nsk_entry, i);
        int k = one.label;
        int64_t here = (int64_t)place[k] * want[k] / have[k];
        int64_t next = (int64_t)(place[k] + 1) * want[k] / have[k];
        place[k]++;
        if (next > here) {
            g_array_append_val(kept, one);
        } else {
            g_free(one.path);
        }
    }
    g_array_free(images->entries, TRUE);
    images->entries = kept;
    g_free(have);
    g_free(want);
    g_free(place);
}

/* Decodes every picture once and leaves out what cannot be read. */
static void leave_out_unreadable(nsk_images *images) {
    int count = (int)images->entries->len;
    char **reasons = g_new0(char *, (gsize)count + 1);
#pragma omp parallel for schedule(dynamic, 16)
    for (int i = 0; i < count; i++) {
        nsk_picture picture;
        nsk_error error;
        if (nsk_images_picture(images, i, &picture, &error)) {
            nsk_picture_clear(&picture);
        } else {
            reasons[i] = g_strdup(error.text);
        }
    }
    GArray *kept = g_array_new(FALSE, FALSE, sizeof(nsk_entry));
    for (int i = 0; i < count; i++) {
        nsk_entry one = g_array_index(images->entries, nsk_entry, i);
        if (reasons[i] == NULL) {
            g_array_append_val(kept, one);
        } else {
            nsk_error error;
            nsk_fail(&error, "%s", reasons[i]);
            nsk_leave_out(images, &error);
            g_free(one.path);
            g_free(reasons[i]);
        }
    }
    g_free(reasons);
    g_array_free(images->entries, TRUE);
    images->entries = kept;
}

static bool scan(nsk_images *images, const char *path, const char *labels_path, nsk_error *error) {
    if (labels_path != NULL || (!g_file_test(path, G_FILE_TEST_IS_DIR) && nsk_array_is_one(path))) {
        return nsk_scan_array(images, path, labels_path, error);
    }
    return g_file_test(path, G_FILE_TEST_IS_REGULAR) ? nsk_scan_list(images, path, error)
                                                     : nsk_scan_folder(images, path, error);
}

static nsk_images *new_images(const nsk_labels *labels, const nsk_input *input, bool tolerant) {
    nsk_images *images = g_new0(nsk_images, 1);
    images->entries = g_array_new(FALSE, FALSE, sizeof(nsk_entry));
    images->left_out = g_ptr_array_new_with_free_func(g_free);
    nsk_labels_copy(labels, &images->labels);
    images->sets = labels->thresholds != NULL ? nsk_label_sets_new(labels->count) : NULL;
    images->input = *input;
    images->tolerant = tolerant;
    return images;
}

nsk_images *nsk_images_of_paths(const char *const *paths, const int *label_of, int count,
                                const nsk_labels *labels, const nsk_input *input) {
    nsk_images *images = new_images(labels, input, true);
    for (int i = 0; i < count; i++) {
        nsk_images_add(images, g_strdup(paths[i]), label_of[i], -1);
    }
    leave_out_unreadable(images);
    images->found = (int)images->entries->len;
    return images;
}

nsk_images *nsk_images_open_array(const char *path, const char *labels_path,
                                  const nsk_labels *labels, const nsk_input *input, int limit,
                                  bool tolerant, nsk_error *error) {
    if (path == NULL) {
        nsk_fail(error, "the brief names no such image set; add it under [images]");
        return NULL;
    }
    nsk_images *images = new_images(labels, input, tolerant);
    nsk_error unheard = {
        .text = ""}; /* what is left out is kept as a note, whether the caller listens or not */
    error = error != NULL ? error : &unheard;
    bool good = scan(images, path, labels_path, error);
    if (good && tolerant && images->array.data == NULL) {
        leave_out_unreadable(images);
    }
    if (good && images->entries->len == 0) {
        good = nsk_fail(error, "%s: no image of any class; check the path and the labels", path);
    }
    if (!good) {
        nsk_images_free(images);
        return NULL;
    }
    images->found = (int)images->entries->len;
    if (limit > 0) {
        thin(images, limit);
    }
    return images;
}

nsk_images *nsk_images_open(const char *path, const nsk_labels *labels, const nsk_input *input,
                            int limit, bool tolerant, nsk_error *error) {
    return nsk_images_open_array(path, NULL, labels, input, limit, tolerant, error);
}
