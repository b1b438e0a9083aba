/* images/set: labelled sets of pictures (the calls stand in netsuke/host.h). */
#ifndef NSK_IMAGES_SET_H
#define NSK_IMAGES_SET_H

#include "base/base.h"

/* Bytes of one prepared frame. */
size_t nsk_frame_bytes(const nsk_input *input);

#endif
