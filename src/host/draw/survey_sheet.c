/* The contact sheet of both sets: some pictures of each class, as the network sees them. */
#include <string.h>

#include "draw/sheet.h"
#include "images/set.h"
#include "netsuke/survey.h"

/* Some of a class's pictures, evenly spaced over it. */
static void add_class(nsk_sheet *sheet, const nsk_images *images, int label, int most,
                      uint8_t *frame) {
    int in_class = 0;
    for (int i = 0; i < nsk_images_count(images); i++) {
        in_class += nsk_images_has(images, i, label);
    }
    int place = 0;
    in_class = MAX(in_class, 1);
    for (int i = 0; i < nsk_images_count(images); i++) {
        if (!nsk_images_has(images, i, label)) {
            continue;
        }
        bool shown = in_class <= most ||
                     (int64_t)(place + 1) * most / in_class > (int64_t)place * most / in_class;
        place++;
        nsk_picture picture;
        nsk_error unreadable; /* the survey names it */
        if (!shown || !nsk_images_frame(images, i, frame, &unreadable)) {
            continue;
        }
        nsk_picture_of_frame(frame, nsk_images_input(images), &picture);
        char *name = g_path_get_basename(nsk_images_path(images, i));
        nsk_sheet_add(sheet, &picture, name, NULL, false);
        g_free(name);
        nsk_picture_clear(&picture);
    }
}

bool nsk_survey_sheet(const nsk_images *const *sets, int per_class, const char *path,
                      nsk_error *error) {
    const nsk_labels *labels = nsk_images_labels(sets[0]);
    const nsk_input *input = nsk_images_input(sets[0]);
    char *title = g_strdup_printf("As the network sees them, %d x %d: calibration on the left, "
                                  "held-out on the right",
                                  input->width, input->height);
    nsk_sheet *sheet = nsk_sheet_new(title, input->width, input->height, 2 * per_class);
    uint8_t *frame = g_malloc(nsk_frame_bytes(input));
    for (int label = 0; label < labels->count; label++) {
        nsk_sheet_row(sheet, labels->names[label]);
        for (int k = 0; k < 2; k++) {
            nsk_sheet_skip_to(sheet, k * per_class);
            add_class(sheet, sets[k], label, per_class, frame);
        }
    }
    g_free(frame);
    g_free(title);
    return nsk_sheet_write(sheet, path, error);
}
