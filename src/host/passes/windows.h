/* passes/windows: some windows of a picture, evenly spread, that show what a layer's weights are
 * multiplied with; and where the taps of each stand. */
#ifndef NSK_PASSES_WINDOWS_H
#define NSK_PASSES_WINDOWS_H

#include "lowered/lowered.h"

/* Tap place * channels + c of a window is channel c of the group's at that window's place. */
typedef struct nsk_windows {
    int groups;   /* of input channels that see each other; 0: the layer is not looked at */
    int channels; /* of a group */
    int places;   /* of a window: the kernel's */
    int taps;     /* of one output: places x channels */
    int count;    /* windows of a picture */
    /* of the float network's value: from a channel to the next, from a pixel to the next */
    int channel_step, pixel_step;
    int32_t *pixel; /* [window][place], NSK_NONE in the margin; NULL where groups is 0 */
} nsk_windows;

/* Those of a layer with weights. It is not looked at where it has more than 1,280 taps, is dense on
 * more than one pixel, has its weights from the file as integers, or its input stands in an order
 * of its own. */
void nsk_windows_of(const nsk_graph *graph, const nsk_lowered *lowered, int layer, nsk_windows *to);
void nsk_windows_clear(nsk_windows *windows);

#endif
