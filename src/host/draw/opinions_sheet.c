/* Single pictures with what both models say of them. */
#include "draw/sheet.h"
#include "netsuke/classify.h"

enum { LEAST_COLUMNS = 4, MOST_COLUMNS = 10 };

static void add_opinion(nsk_sheet *sheet, const nsk_opinion *o, const nsk_labels *labels,
                        const nsk_input *input) {
    const float *said[2] = {o->by_float, o->by_integer};
    int best[2];
    char *says[2];
    for (int side = 0; side < 2; side++) {
        best[side] = nsk_ranked(said[side], labels->count, 0);
        says[side] =
            g_strdup_printf("%s %.2f", labels->names[best[side]], (double)said[side][best[side]]);
    }
    nsk_picture picture;
    nsk_picture_of_frame(o->frame, input, &picture);
    bool bad = best[0] != best[1] || (o->truth >= 0 && best[1] != o->truth);
    nsk_sheet_add(sheet, &picture, says[0], says[1], bad);
    nsk_picture_clear(&picture);
    g_free(says[0]);
    g_free(says[1]);
}

bool nsk_opinions_sheet(const nsk_opinions *opinions, const nsk_labels *labels,
                        const nsk_input *input, int most, const char *path, nsk_error *error) {
    int shown = MIN(opinions->count, most);
    char *first = g_strdup_printf("; the first %d", most);
    char *title =
        g_strdup_printf("Float above, integer below%s", shown < opinions->count ? first : "");
    nsk_sheet *sheet = nsk_sheet_new(title, input->width, input->height,
                                     MAX(LEAST_COLUMNS, MIN(shown, MOST_COLUMNS)));
    nsk_sheet_row(sheet, NULL);
    for (int i = 0; i < shown; i++) {
        add_opinion(sheet, &opinions->opinion[i], labels, input);
    }
    g_free(title);
    g_free(first);
    return nsk_sheet_write(sheet, path, error);
}
