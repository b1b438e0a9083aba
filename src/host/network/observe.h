/* network/observe: the float network on a picture of a set, to see what its tensors take. */
#ifndef NSK_NETWORK_OBSERVE_H
#define NSK_NETWORK_OBSERVE_H

#include "float/forward.h"
#include "netsuke/images.h"

/* Runs picture `image` through the network; `frame` is room for nsk_images_frame_bytes(images).
 * Any number of threads may do so, each with a pass and a frame of its own. */
bool nsk_observe_image(const nsk_graph *graph, nsk_pass *pass, const nsk_images *images, int image,
                       uint8_t *frame, nsk_error *error);

/* Where all of a large set would say no more than a part of it: so many at the most. */
enum { NSK_ENOUGH_IMAGES = 256 };
/* The k-th of `count` images that are evenly spread over a set, and so over its classes. */
int nsk_spread_image(const nsk_images *images, int count, int k);

#endif
