/* A labelled set: entries and what is common to all forms. */
#include "images/set.h"

#include <string.h>

void nsk_images_add(nsk_images *images, char *path, int label, int index) {
    const nsk_entry one = {.path = path, .label = label, .index = index};
    g_array_append_val(images->entries, one);
}

bool nsk_leave_out(nsk_images *images, const nsk_error *error) {
    if (!images->tolerant) {
        return false;
    }
    g_ptr_array_add(images->left_out, g_strdup(error->text));
    return true;
}

void nsk_images_keep(nsk_images *images, int of, bool every) {
    int *place = g_new0(int, nsk_images_label_sets(images));
    GArray *kept = g_array_new(FALSE, FALSE, sizeof(nsk_entry));
    for (guint i = 0; i < images->entries->len; i++) {
        nsk_entry one = g_array_index(images->entries, nsk_entry, i);
        bool is_one = place[one.label]++ % of == of - 1;
        if (is_one == every) {
            g_array_append_val(kept, one);
        } else {
            g_free(one.path);
        }
    }
    g_array_free(images->entries, TRUE);
    images->entries = kept;
    g_free(place);
}

void nsk_images_free(nsk_images *images) {
    if (images == NULL) {
        return;
    }
    for (guint i = 0; images->of == NULL && i < images->entries->len; i++) {
        g_free(g_array_index(images->entries, nsk_entry, i).path);
    }
    g_array_free(images->entries, TRUE);
    if (images->of == NULL) {
        nsk_array_close(&images->array);
        nsk_labels_clear(&images->labels);
        nsk_label_sets_free(images->sets);
        g_ptr_array_free(images->left_out, TRUE);
    }
    g_free(images);
}

int nsk_images_found(const nsk_images *images) {
    return images->found;
}

int nsk_images_count(const nsk_images *images) {
    return (int)images->entries->len;
}

int nsk_images_label(const nsk_images *images, int index) {
    return g_array_index(images->entries, nsk_entry, index).label;
}

int nsk_images_label_sets(const nsk_images *images) {
    return images->sets != NULL ? nsk_label_sets_count(images->sets) : images->labels.count;
}

bool nsk_images_has(const nsk_images *images, int index, int label) {
    int own = nsk_images_label(images, index);
    return images->sets != NULL ? nsk_label_sets_at(images->sets, own)[label] : own == label;
}

const char *nsk_images_path(const nsk_images *images, int index) {
    return g_array_index(images->entries, nsk_entry, index).path;
}

const nsk_labels *nsk_images_labels(const nsk_images *images) {
    return &images->labels;
}

const nsk_input *nsk_images_input(const nsk_images *images) {
    return &images->input;
}

int nsk_images_left_out(const nsk_images *images) {
    return (int)images->left_out->len;
}

const char *nsk_images_left_out_at(const nsk_images *images, int index) {
    return g_ptr_array_index(images->left_out, index);
}

size_t nsk_frame_bytes(const nsk_input *input) {
    return (size_t)input->width * (size_t)input->height *
           (input->colour == NSK_COLOUR_GREY ? 1 : 3);
}

size_t nsk_images_frame_bytes(const nsk_images *images) {
    return nsk_frame_bytes(&images->input);
}

bool nsk_images_picture(const nsk_images *images, int index, nsk_picture *picture,
                        nsk_error *error) {
    const nsk_entry *one = &g_array_index(images->entries, nsk_entry, index);
    if (one->index < 0) {
        return nsk_picture_read(one->path, picture, error);
    }
    nsk_array_picture(&images->array, (size_t)one->index, picture);
    return true;
}

/* Moves what a frame shows; its edge is what comes in. */
static void move(uint8_t *frame, const nsk_input *input, int right, int down) {
    const size_t channels = input->colour == NSK_COLOUR_GREY ? 1 : 3;
    uint8_t *from = g_memdup2(frame, nsk_frame_bytes(input));
    for (int y = 0; y < input->height; y++) {
        const int row = CLAMP(y - down, 0, input->height - 1);
        for (int x = 0; x < input->width; x++, frame += channels) {
            const int column = CLAMP(x - right, 0, input->width - 1);
            const size_t at = (size_t)row * (size_t)input->width + (size_t)column;
            memcpy(frame, from + channels * at, channels);
        }
    }
    g_free(from);
}

static bool make_frame(const nsk_images *images, int index, const nsk_input *input, uint8_t *frame,
                       nsk_error *error) {
    const nsk_entry *one = &g_array_index(images->entries, nsk_entry, index);
    nsk_picture picture;
    if (!nsk_images_picture(images, index, &picture, error)) {
        return false;
    }
    nsk_picture_to_frame(&picture, input, frame);
    nsk_picture_clear(&picture);
    if (one->moved_x != 0 || one->moved_y != 0) {
        move(frame, input, one->moved_x, one->moved_y);
    }
    return true;
}

bool nsk_images_frame(const nsk_images *images, int index, uint8_t *frame, nsk_error *error) {
    return make_frame(images, index, &images->input, frame, error);
}

bool nsk_images_stored_frame(const nsk_images *images, int index, uint8_t *frame,
                             nsk_error *error) {
    nsk_input input = images->input;
    input.sensor = (nsk_sensor){0};
    return make_frame(images, index, &input, frame, error);
}

bool nsk_picture_frame(const char *path, const nsk_input *input, uint8_t *frame, nsk_error *error) {
    nsk_picture picture;
    if (!nsk_picture_read(path, &picture, error)) {
        return false;
    }
    nsk_picture_to_frame(&picture, input, frame);
    nsk_picture_clear(&picture);
    return true;
}
