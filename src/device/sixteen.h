/* sixteen: depthwise convolution for cores with vectors, sixteen channels at a time: which bytes
 * the taps of every pixel read. What is done with them is the core's own. */
#ifndef NSK_DEVICE_SIXTEEN_H
#define NSK_DEVICE_SIXTEEN_H

#include "layer.h"

enum nsk_sixteen_sizes { NSK_SIXTEEN = 16, NSK_SIXTEEN_TAPS = 49 /* seven by seven */ };

typedef struct nsk_sixteen_kernel {
    /* Sixteen channels from `first` on come next; all of them, where there are fewer and the kernel
     * is run on those, too. */
    void (*start)(void *state, const nsk_layer *layer, int32_t first);
    /* `pixels` of them: tap k of the first reads the bytes at at[k]; the next pixel's are `step`
     * bytes on. There is one more tap than the kernel has, for those who take two at a time; its
     * weights are to be 0. Outputs of pixels are layer->out.channels apart. */
    void (*write)(const void *state, const int8_t *const *at, int32_t step, int32_t pixels,
                  int8_t *out);
} nsk_sixteen_kernel;

/* Whether the layer has as many channels, one for one, and no more than NSK_SIXTEEN_TAPS taps. */
bool nsk_sixteen_fits(const nsk_layer *layer);
void nsk_sixteen_run(const nsk_layer *layer, int8_t *workspace, const nsk_sixteen_kernel *kernel,
                     void *state);

#endif
