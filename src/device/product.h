/* product: the inner part of convolutions and dense layers. For each of some pixels, all outputs:
 * the dot product of the pixel's row of inputs with each output's row of weights, and what makes an
 * output of it. Nearly all of a network's time is spent here, so that cores have their own. */
#ifndef NSK_DEVICE_PRODUCT_H
#define NSK_DEVICE_PRODUCT_H

#include "arithmetic.h"
#include "layer.h"

typedef struct nsk_matmul {
    const int8_t *weights;
    const uint8_t *requantise; /* a word an output */
    int32_t row;               /* bytes of a row: whole words */
    int32_t outputs;
    int32_t zero, low, high;   /* of the output */
    int32_t in_step, out_step; /* bytes from a pixel to the next */
    bool plain_requantise;     /* the clamp is that of int8 */
    bool wide;                 /* outputs are int16, of one pixel: a dense layer's */
    int8_t *scratch;           /* NSK_WIDENED x row bytes, or NULL where there is one pixel */
} nsk_matmul;

/* Of a layer with weights in rows: all of its outputs, or those of one group. */
nsk_matmul nsk_matmul_of(const nsk_layer *layer, int32_t row, int32_t group);

/* `in`: the first pixel's row; `out`: its first output. */
void nsk_multiply_out(const nsk_matmul *product, const int8_t *in, int32_t pixels, int8_t *out);

/* Makes output c of a sum, bias included. */
static inline void nsk_put_output(const nsk_matmul *p, int32_t sum, int32_t requantise, int8_t *out,
                                  uint32_t c) {
    int32_t level = nsk_limit(nsk_scale_down(sum, requantise) + p->zero, p->low, p->high);
    if (p->wide) {
        ((int16_t *)(void *)out)[c] = (int16_t)level;
    } else {
        out[c] = (int8_t)level;
    }
}

/* One pixel, without a scratch: a dense layer's. */
void nsk_multiply_pixel(const nsk_matmul *product, const int8_t *in, int8_t *out);

/* The portable one, where a core's own may be chosen when run. */
void nsk_multiply_out_plain(const nsk_matmul *product, const int8_t *in, int32_t pixels,
                            int8_t *out);

#endif
