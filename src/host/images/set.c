/* A labelled set: one folder a class, decoded on demand. */
#include "images/set.h"

#include <string.h>

#include "images/picture.h"

typedef struct entry {
    char *path;
    int label;
} entry;

struct nsk_images {
    GArray *entries; /* of entry, class by class, names in byte order */
    nsk_labels labels;
    nsk_input input;
    bool tolerant;
    int left_out;
    char *first_left_out;
};

/* Leaves something out of a tolerant set; fails for any other. `error` holds the reason. */
static bool leave_out(nsk_images *images, const nsk_error *error) {
    if (!images->tolerant) {
        return false;
    }
    if (images->left_out++ == 0) {
        images->first_left_out = g_strdup(error->text);
    }
    return true;
}

static int label_index(const nsk_labels *labels, const char *name) {
    for (int i = 0; i < labels->count; i++) {
        if (strcmp(labels->names[i], name) == 0) {
            return i;
        }
    }
    return -1;
}

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

static bool has_picture_ending(const char *name) {
    static const char *const endings[] = {".png", ".jpg", ".jpeg"};
    char *lower = g_ascii_strdown(name, -1);
    bool found = false;
    for (size_t i = 0; i < G_N_ELEMENTS(endings); i++) {
        found = found || g_str_has_suffix(lower, endings[i]);
    }
    g_free(lower);
    return found;
}

static bool add_class(nsk_images *images, const char *folder, int label, nsk_error *error) {
    char **names = list_folder(folder, error);
    if (names == NULL) {
        return false;
    }
    guint before = images->entries->len;
    for (char **name = names; *name != NULL; name++) {
        if (has_picture_ending(*name)) {
            entry one = {g_build_filename(folder, *name, NULL), label};
            g_array_append_val(images->entries, one);
        }
    }
    g_strfreev(names);
    if (images->entries->len > before) {
        return true;
    }
    nsk_fail(error, "%s: no PNG or JPEG in this class's folder; add pictures or take the label out",
             folder);
    return leave_out(images, error);
}

static bool add_folder(nsk_images *images, const char *root, const char *name, bool *seen,
                       nsk_error *error) {
    char *folder = g_build_filename(root, name, NULL);
    bool good = true;
    if (g_file_test(folder, G_FILE_TEST_IS_DIR)) {
        int label = label_index(&images->labels, name);
        if (label >= 0) {
            seen[label] = true;
            good = add_class(images, folder, label, error);
        } else {
            nsk_fail(error, "%s: no label is called '%s'; rename the folder or add the label",
                     folder, name);
            good = leave_out(images, error);
        }
    }
    g_free(folder);
    return good;
}

static bool scan(nsk_images *images, const char *root, nsk_error *error) {
    char **names = list_folder(root, error);
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
            good = leave_out(images, error);
        }
    }
    g_free(seen);
    g_strfreev(names);
    return good;
}

/* Takes pictures from the classes in turn until there are `limit`, each class's evenly spaced. */
static void thin(nsk_images *images, int limit) {
    int classes = images->labels.count;
    int total = (int)images->entries->len;
    int *have = g_new0(int, classes);
    int *want = g_new0(int, classes);
    for (int i = 0; i < total; i++) {
        have[g_array_index(images->entries, entry, i).label]++;
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
    GArray *kept = g_array_new(FALSE, FALSE, sizeof(entry));
    for (int i = 0; i < total; i++) {
        entry one = g_array_index(images->entries, entry, i);
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
    GArray *kept = g_array_new(FALSE, FALSE, sizeof(entry));
    for (guint i = 0; i < images->entries->len; i++) {
        entry one = g_array_index(images->entries, entry, i);
        nsk_picture picture;
        nsk_error error;
        if (nsk_picture_read(one.path, &picture, &error)) {
            nsk_picture_clear(&picture);
            g_array_append_val(kept, one);
        } else {
            leave_out(images, &error);
            g_free(one.path);
        }
    }
    g_array_free(images->entries, TRUE);
    images->entries = kept;
}

nsk_images *nsk_images_open(const char *folder, const nsk_labels *labels, const nsk_input *input,
                            int limit, bool tolerant, nsk_error *error) {
    if (folder == NULL) {
        nsk_fail(error, "the brief names no such image set; add it under [images]");
        return NULL;
    }
    nsk_images *images = g_new0(nsk_images, 1);
    images->entries = g_array_new(FALSE, FALSE, sizeof(entry));
    images->labels.count = labels->count;
    images->labels.names = g_strdupv(labels->names);
    images->input = *input;
    images->tolerant = tolerant;
    bool good = scan(images, folder, error);
    if (good && tolerant) {
        leave_out_unreadable(images);
    }
    if (good && images->entries->len == 0) {
        good =
            nsk_fail(error, "%s: no picture of any class; check the path and the labels", folder);
    }
    if (!good) {
        nsk_images_free(images);
        return NULL;
    }
    if (limit > 0) {
        thin(images, limit);
    }
    return images;
}

void nsk_images_free(nsk_images *images) {
    if (images == NULL) {
        return;
    }
    for (guint i = 0; i < images->entries->len; i++) {
        g_free(g_array_index(images->entries, entry, i).path);
    }
    g_array_free(images->entries, TRUE);
    g_strfreev(images->labels.names);
    g_free(images->first_left_out);
    g_free(images);
}

int nsk_images_count(const nsk_images *images) {
    return (int)images->entries->len;
}

int nsk_images_label(const nsk_images *images, int index) {
    return g_array_index(images->entries, entry, index).label;
}

const char *nsk_images_path(const nsk_images *images, int index) {
    return g_array_index(images->entries, entry, index).path;
}

const nsk_labels *nsk_images_labels(const nsk_images *images) {
    return &images->labels;
}

const nsk_input *nsk_images_input(const nsk_images *images) {
    return &images->input;
}

int nsk_images_left_out(const nsk_images *images, const char **first) {
    *first = images->first_left_out;
    return images->left_out;
}

size_t nsk_frame_bytes(const nsk_input *input) {
    return (size_t)input->width * (size_t)input->height * (input->colour == NSK_GREY ? 1 : 3);
}

size_t nsk_images_frame_bytes(const nsk_images *images) {
    return nsk_frame_bytes(&images->input);
}

bool nsk_picture_frame(const char *path, const nsk_input *input, uint8_t *frame, nsk_error *error) {
    nsk_picture picture;
    if (!nsk_picture_read(path, &picture, error)) {
        return false;
    }
    nsk_picture fitted;
    nsk_picture_fit(&picture, input->width, input->height, input->fit, &fitted);
    nsk_picture_channels(&fitted, input->colour, frame);
    nsk_picture_clear(&picture);
    nsk_picture_clear(&fitted);
    return true;
}

bool nsk_images_frame(const nsk_images *images, int index, uint8_t *frame, nsk_error *error) {
    return nsk_picture_frame(nsk_images_path(images, index), &images->input, frame, error);
}
