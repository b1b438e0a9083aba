#include "images/moved.h"

#include "images/set.h"

nsk_images *nsk_images_with_moved(const nsk_images *images) {
    static const int8_t ways[1 + NSK_WAYS_TO_MOVE][2] = {{0, 0}, {-1, 0}, {1, 0}, {0, -1}, {0, 1}};
    const int each = nsk_images_count(images) < NSK_FEW_IMAGES ? 1 + NSK_WAYS_TO_MOVE : 1;
    const int across = MAX(1, images->input.width / 16);
    const int down = MAX(1, images->input.height / 16);
    nsk_images *more = g_memdup2(images, sizeof *images);
    more->of = images;
    more->entries = g_array_new(FALSE, FALSE, sizeof(nsk_entry));
    for (guint i = 0; i < images->entries->len; i++) {
        for (int k = 0; k < each; k++) {
            nsk_entry one = g_array_index(images->entries, nsk_entry, i);
            one.moved_x = ways[k][0] * across;
            one.moved_y = ways[k][1] * down;
            g_array_append_val(more->entries, one);
        }
    }
    return more;
}
