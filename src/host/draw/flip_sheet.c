/* The pictures that float and integer answer differently, both answers under each. */
#include "draw/sheet.h"
#include "images/set.h"
#include "netsuke/compare.h"

enum { COLUMNS = 8, MOST = 48 };

typedef enum outcome { LOST, WON, NEITHER, OUTCOMES } outcome;

static outcome outcome_of(const nsk_answer *a) {
    return a->right[0] ? LOST : a->right[1] ? WON : NEITHER;
}

static void add_flip(nsk_sheet *sheet, const nsk_comparison *c, const nsk_images *images, int index,
                     uint8_t *frame) {
    const nsk_answer *a = &c->answers[index];
    const nsk_labels *labels = nsk_images_labels(images);
    nsk_picture picture;
    nsk_error unreadable; /* it was read a moment ago */
    if (!nsk_images_frame(images, index, frame, &unreadable)) {
        return;
    }
    nsk_picture_of_frame(frame, nsk_images_input(images), &picture);
    char *names[2] = {nsk_comparison_class(c, labels, a->float_class),
                      nsk_comparison_class(c, labels, a->integer_class)};
    char *float_says = g_strdup_printf("%s %.2f", names[0], (double)a->float_probability);
    char *integer_says = g_strdup_printf("%s %.2f", names[1], (double)a->integer_probability);
    nsk_sheet_add(sheet, &picture, float_says, integer_says, !a->right[1]);
    nsk_picture_clear(&picture);
    g_free(names[0]);
    g_free(names[1]);
    g_free(float_says);
    g_free(integer_says);
}

bool nsk_flips_sheet(const nsk_comparison *c, const nsk_images *images, const char *path,
                     nsk_error *error) {
    static const char *const headings[OUTCOMES] = {"lost: only float is right",
                                                   "won: only integer is right", "wrong both ways"};
    const nsk_input *input = nsk_images_input(images);
    int flipped = c->images - c->agree;
    int left = MOST;
    char *title =
        g_strdup_printf("Answered differently, %d of %d images%s: above float's answer, "
                        "below the integer model's",
                        flipped, c->images, flipped > MOST ? ", of which these are the first" : "");
    nsk_sheet *sheet = nsk_sheet_new(title, input->width, input->height, COLUMNS);
    uint8_t *frame = g_malloc(nsk_frame_bytes(input));
    for (int kind = 0; kind < OUTCOMES; kind++) {
        bool first = true;
        for (int i = 0; i < c->images && left > 0; i++) {
            const nsk_answer *a = &c->answers[i];
            if (a->alike || (int)outcome_of(a) != kind) {
                continue;
            }
            if (first) {
                nsk_sheet_row(sheet, headings[kind]);
                first = false;
            }
            add_flip(sheet, c, images, i, frame);
            left--;
        }
    }
    if (flipped == 0) {
        nsk_sheet_row(sheet, "none");
    }
    g_free(frame);
    g_free(title);
    return nsk_sheet_write(sheet, path, error);
}
