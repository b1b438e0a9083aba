/* gather: windows that lie in the picture, one behind the other, which cores have their own way of.
 */
#ifndef NSK_DEVICE_GATHER_H
#define NSK_DEVICE_GATHER_H

#include "layer.h"

/* Of each: `rows` of so many bytes, `row` bytes from one to the next in the picture. */
typedef struct nsk_windows {
    int32_t row, rows, bytes;
    int32_t size; /* bytes of a window, whole words; what its rows leave is 0 */
    int32_t step; /* bytes in the picture from a window to the next */
} nsk_windows;

/* `in`: the first one's. Behind each row but a window's last, up to three bytes more may be read,
 * and written, over which the next row goes. */
void nsk_gather_windows(const nsk_windows *windows, const int8_t *in, int32_t count, int8_t *to);

/* The portable one, for what a core's own leaves. */
void nsk_gather_windows_plain(const nsk_windows *windows, const int8_t *in, int32_t count,
                              int8_t *to);

#endif
