/* base/element: an element of a tensor of the device, which has one, two or four bytes. */
#ifndef NSK_BASE_ELEMENT_H
#define NSK_BASE_ELEMENT_H

#include <stdint.h>
#include <string.h>

/* What stands at `at`. */
static inline int32_t nsk_element_at(const int8_t *at, unsigned bytes) {
    int16_t wide;
    int32_t widest;
    if (bytes == 1) {
        return *at;
    }
    if (bytes == 2) {
        memcpy(&wide, at, sizeof wide);
        return wide;
    }
    memcpy(&widest, at, sizeof widest);
    return widest;
}

#endif
