/* Sixteen channels, or as many as four registers hold in words; two taps at a time, whose products
 * are added in 16 bits. */
#include "../depthwise.h"

#include "../arch.h"

#if defined(NSK_ARCH_RISCV_VECTOR)

#include <string.h>

#include "../arithmetic.h"
#include "../format.h"
#include "../sixteen.h"
#include "rvv.h"

typedef struct block {
    int8_t weights[NSK_SIXTEEN_TAPS + 1][NSK_SIXTEEN];
    int32_t requantise[NSK_SIXTEEN];
    int32_t channels, pairs, zero, out_step;
} block;

static void start(void *state, const nsk_layer *l, int32_t first) {
    block *b = (block *)state;
    int32_t taps = (int32_t)nsk_kernel_area(l);
    const int8_t *w = (const int8_t *)l->weights + first;
    b->pairs = (taps + 1) / 2;
    b->zero = l->out.zero;
    b->out_step = l->out.pixel_stride;
    b->channels = l->out.channels < NSK_SIXTEEN ? l->out.channels : (int32_t)NSK_SIXTEEN;
    for (int32_t k = 0; k < taps; k++, w += l->out.channels) {
        memcpy(b->weights[k], w, (size_t)b->channels);
    }
    memset(b->weights[taps], 0, NSK_SIXTEEN);
    for (int32_t i = 0; i < b->channels; i++) {
        b->requantise[i] = nsk_word(l->requantise, (uint32_t)(first + i));
    }
}

/* So many channels, `from` behind the first, of a run of pixels. */
static NSK_NOINLINE void some_channels(const block *b, const int8_t *const *at, int32_t from,
                                       int32_t lanes, int32_t step, int32_t pixels, int8_t *out) {
    const int8_t *const *tap;
    const int8_t *w;
    const int8_t *x;
    const int8_t *y;
    int32_t moved = from; /* bytes from what a tap reads at first */
    __asm__ volatile(
        RVV_BEGIN RVV_ROUND_UP RVV_START(
            "%[lanes]") "vle32.v v24, (%[requantise])\n\t"
                        "vsra.vi v28, v24, 9\n\t"
                        "vsrl.vi v20, v24, 4\n\t"
                        "vand.vi v24, v24, 15\n"
                        "1:\n\t" RVV_WORDS "vmv.v.v v16, v28\n\t"
                        "mv %[tap], %[at]\n\t"
                        "mv %[w], %[weights]\n"
                        "2:\n\t" RVV_BYTES "lw %[x], 0(%[tap])\n\t"
                        "lw %[y], 4(%[tap])\n\t"
                        "addi %[tap], %[tap], 8\n\t"
                        "add %[x], %[x], %[moved]\n\t"
                        "add %[y], %[y], %[moved]\n\t"
                        "vle8.v v0, (%[x])\n\t"
                        "vle8.v v2, (%[w])\n\t"
                        "addi %[x], %[w], 16\n\t"
                        "vle8.v v1, (%[y])\n\t"
                        "vle8.v v3, (%[x])\n\t"
                        "addi %[w], %[w], 32\n\t"
                        "vwmul.vv v8, v0, v2\n\t"
                        "vwmacc.vv v8, v1, v3\n\t" RVV_HALVES "vwadd.wv v16, v16, v8\n\t"
                        "bne %[tap], %[end], 2b\n\t" RVV_WORDS "vmul.vv v16, v16, v24\n\t"
                        "vssra.vv v16, v16, v20\n\t"
                        "vadd.vx v16, v16, %[zero]\n\t" RVV_SATURATE(
                            "v16", "v0", "v2") "vse8.v v2, (%[out])\n\t"
                                               "addi %[pixels], %[pixels], -1\n\t"
                                               "add %[out], %[out], %[out_step]\n\t"
                                               "add %[moved], %[moved], %[step]\n\t"
                                               "bnez %[pixels], 1b\n\t" RVV_END
        : [tap] "=&r"(tap), [w] "=&r"(w), [x] "=&r"(x), [y] "=&r"(y), [moved] "+&r"(moved),
          [pixels] "+&r"(pixels), [out] "+&r"(out)
        : [at] "r"(at), [weights] "r"(b->weights[0] + from), [requantise] "r"(b->requantise + from),
          [end] "r"(at + 2 * b->pairs), [zero] "r"(b->zero), [out_step] "r"(b->out_step),
          [step] "r"(step), [lanes] "r"(lanes)
        : RVV_CLOBBERS);
}

static void write(const void *state, const int8_t *const *at, int32_t step, int32_t pixels,
                  int8_t *out) {
    const block *b = (const block *)state;
    int32_t lanes;
    for (int32_t from = 0; from < b->channels; from += lanes) {
        lanes = nsk_lanes(b->channels - from);
        some_channels(b, at, from, lanes, step, pixels, out + from);
    }
}

void nsk_depthwise_run(const nsk_layer *l, int8_t *workspace) {
    static const nsk_sixteen_kernel kernel = {start, write};
    if (l->in.channels == l->out.channels && nsk_kernel_area(l) <= NSK_SIXTEEN_TAPS &&
        nsk_requantise_is_plain(l)) { /* fewer channels than sixteen, too */
        block b;
        nsk_sixteen_run(l, workspace, &kernel, &b);
    } else {
        nsk_depthwise_run_plain(l, workspace, 0, l->out.channels);
    }
}

#endif
