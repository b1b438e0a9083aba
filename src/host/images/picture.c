/* A picture in memory: made, emptied, turned. */
#include "images/picture.h"

#include <string.h>

static const uint64_t MOST_PIXELS = UINT64_C(64) * 1000 * 1000;

bool nsk_picture_start(nsk_picture *picture, uint64_t width, uint64_t height, nsk_error *error) {
    if (width == 0 || height == 0 || width > 65535 || height > 65535 ||
        width * height > MOST_PIXELS) {
        return nsk_fail(error,
                        "the picture claims %" G_GUINT64_FORMAT " x %" G_GUINT64_FORMAT
                        " pixels; at most 64 million are read",
                        width, height);
    }
    *picture = (nsk_picture){.width = (int)width, .height = (int)height, .colour = true};
    picture->rgb = g_malloc0(3 * width * height);
    return true;
}

bool nsk_picture_refuse(nsk_picture *picture, const char *format, const char *reason,
                        nsk_error *error) {
    nsk_picture_clear(picture);
    return nsk_fail(error, "not a readable %s (%s); replace the file", format, reason);
}

void nsk_picture_clear(nsk_picture *picture) {
    g_free(picture->rgb);
    *picture = (nsk_picture){0};
}

void nsk_picture_turn(nsk_picture *picture, int orientation) {
    bool swap = orientation >= 5;
    bool mirror_x = orientation == 2 || orientation == 3 || orientation == 7 || orientation == 8;
    bool mirror_y = orientation == 3 || orientation == 4 || orientation == 6 || orientation == 7;
    if (orientation < 2 || orientation > 8) {
        return;
    }
    nsk_picture turned = *picture;
    turned.width = swap ? picture->height : picture->width;
    turned.height = swap ? picture->width : picture->height;
    turned.rgb = g_malloc((size_t)3 * (size_t)turned.width * (size_t)turned.height);
    uint8_t *to = turned.rgb;
    for (int y = 0; y < turned.height; y++) {
        for (int x = 0; x < turned.width; x++, to += 3) {
            int from_x = swap ? y : x;
            int from_y = swap ? x : y;
            from_x = mirror_x ? picture->width - 1 - from_x : from_x;
            from_y = mirror_y ? picture->height - 1 - from_y : from_y;
            size_t at = (size_t)from_y * (size_t)picture->width + (size_t)from_x;
            memcpy(to, picture->rgb + 3 * at, 3);
        }
    }
    g_free(picture->rgb);
    *picture = turned;
}
