/* images/moved: a small set with more to see in it. What a classifier sees is the same a little to
 * the left or above, and its layers then meet it at other places of their strides and windows. */
#ifndef NSK_IMAGES_MOVED_H
#define NSK_IMAGES_MOVED_H

#include "netsuke/images.h"

enum {
    NSK_FEW_IMAGES = 64, /* moved copies help with 8, 16 and 32, and no more with 360 */
    NSK_WAYS_TO_MOVE = 4
};

/* The pictures of `images`, and behind each of them, where there are fewer than NSK_FEW_IMAGES,
 * copies that are moved by a sixteenth of the width to the left and to the right, of the height up
 * and down; rows and columns that come in are those of the edge. Uses what `images` holds, which
 * must outlive it. nsk_images_free. */
nsk_images *nsk_images_with_moved(const nsk_images *images);

#endif
