/* Single pictures with what both models say of them. */
#include <string.h>

#include "draw/sheet.h"
#include "netsuke/classify.h"

enum { LEAST_COLUMNS = 4, MOST_COLUMNS = 10 };

static void add_opinion(nsk_sheet *sheet, const nsk_opinion *o, const nsk_input *input) {
    char *says[2];
    for (int side = 0; side < 2; side++) {
        says[side] = g_strdup_printf("%s %.2f", o->says[side], (double)o->likely[side]);
    }
    nsk_picture picture;
    nsk_picture_of_frame(o->frame, input, &picture);
    bool bad = strcmp(o->says[0], o->says[1]) != 0 ||
               (o->truth != NULL && strcmp(o->says[1], o->truth) != 0);
    nsk_sheet_add(sheet, &picture, says[0], says[1], bad);
    nsk_picture_clear(&picture);
    g_free(says[0]);
    g_free(says[1]);
}

bool nsk_opinions_sheet(const nsk_opinions *opinions, const nsk_input *input, int most,
                        const char *path, nsk_error *error) {
    int shown = MIN(opinions->count, most);
    char *first = g_strdup_printf("; the first %d", most);
    char *title =
        g_strdup_printf("Float above, integer below%s", shown < opinions->count ? first : "");
    nsk_sheet *sheet = nsk_sheet_new(title, input->width, input->height,
                                     MAX(LEAST_COLUMNS, MIN(shown, MOST_COLUMNS)));
    nsk_sheet_row(sheet, NULL);
    for (int i = 0; i < shown; i++) {
        add_opinion(sheet, &opinions->opinion[i], input);
    }
    g_free(title);
    g_free(first);
    return nsk_sheet_write(sheet, path, error);
}
