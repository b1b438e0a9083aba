/* Sixteen channels at a time, two taps at a time. Products are 16 bits wide, in an even and an odd
 * half; the sum of two fits in 16 bits too. Sums of 32 bits stand in four quarters: lane i of
 * quarter k is channel 4 i + k. */
#include "../depthwise.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_MVE)

#include "../arithmetic.h"
#include "../format.h"
#include "../sixteen.h"
#include "mve.h"

enum { QUARTERS = 4, LANES = 4 };

typedef struct block {
    int8_t weights[NSK_SIXTEEN_TAPS + 1][NSK_SIXTEEN];
    int32_t bias[QUARTERS][LANES];
    struct {
        int32_t factor[LANES], shift[LANES];
    } requantise[QUARTERS];
    int32_t pairs, zero, out_step;
} block;

static void start(void *state, const nsk_layer *l, int32_t first) {
    block *b = (block *)state;
    int32_t taps = (int32_t)nsk_kernel_area(l);
    const int8_t *w = (const int8_t *)l->weights + first;
    b->pairs = (taps + 1) / 2;
    b->zero = l->out.zero;
    b->out_step = l->out.pixel_stride;
    for (int32_t k = 0; k < taps; k++, w += l->out.channels) {
        vstrbq_s8(b->weights[k], vldrbq_s8(w));
    }
    vstrbq_s8(b->weights[taps], vdupq_n_s8(0));
    for (int32_t i = 0; i < NSK_SIXTEEN; i++) {
        uint32_t k = (uint32_t)(first + i);
        int32_t requantise = nsk_word(l->requantise, k);
        b->bias[i % 4][i / 4] = nsk_requantise_bias(requantise);
        b->requantise[i % 4].factor[i / 4] = nsk_requantise_factor(requantise);
        b->requantise[i % 4].shift[i / 4] = -nsk_requantise_shift(requantise);
    }
}

/* Two taps; compilers run out of the eight vectors. */
#define TWO_TAPS                                                                                   \
    "ldrd %[x], %[y], [%[at]], #8\n\t"                                                             \
    "add %[x], %[x], %[step]\n\t"                                                                  \
    "add %[y], %[y], %[step]\n\t"                                                                  \
    "vldrb.8 q0, [%[x]]\n\t"                                                                       \
    "vldrb.8 q1, [%[w]], #16\n\t"                                                                  \
    "vmullb.s8 q2, q0, q1\n\t"                                                                     \
    "vmullt.s8 q3, q0, q1\n\t"                                                                     \
    "vldrb.8 q0, [%[y]]\n\t"                                                                       \
    "vldrb.8 q1, [%[w]]\n\t"                                                                       \
    "vmullb.s8 q1, q0, q1\n\t"                                                                     \
    "vadd.i16 q2, q2, q1\n\t"                                                                      \
    "vldrb.8 q1, [%[w]], #16\n\t"                                                                  \
    "vmullt.s8 q1, q0, q1\n\t"                                                                     \
    "vadd.i16 q3, q3, q1\n\t"                                                                      \
    "vmovlb.s16 q0, q2\n\t"                                                                        \
    "vadd.i32 q4, q4, q0\n\t"                                                                      \
    "vmovlb.s16 q1, q3\n\t"                                                                        \
    "vadd.i32 q5, q5, q1\n\t"                                                                      \
    "vmovlt.s16 q0, q2\n\t"                                                                        \
    "vadd.i32 q6, q6, q0\n\t"                                                                      \
    "vmovlt.s16 q1, q3\n\t"                                                                        \
    "vadd.i32 q7, q7, q1\n\t"

/* nsk_requantise_four of the quarter in `sum`. */
#define REQUANTISE(sum)                                                                            \
    "vldrw.32 q0, [%[w]], #16\n\t"                                                                 \
    "vldrw.32 q1, [%[w]], #16\n\t"                                                                 \
    "vmul.i32 " sum ", " sum ", q0\n\t"                                                            \
    "vrshl.s32 " sum ", " sum ", q1\n\t"                                                           \
    "vadd.i32 " sum ", " sum ", %[zero]\n\t"                                                       \
    "vqshl.s32 " sum ", " sum ", #24\n\t"                                                          \
    "vshr.s32 " sum ", " sum ", #24\n\t"

static NSK_NOINLINE void write(const void *state, const int8_t *const *at, int32_t step,
                               int32_t pixels, int8_t *out) {
    const block *b = (const block *)state;
    for (int32_t moved = 0; pixels > 0; pixels--, moved += step, out += b->out_step) {
        const int8_t *const *tap = at;
        const void *w = b->weights;
        const int8_t *x;
        const int8_t *y;
        __asm__ volatile("vldrw.32 q4, [%[bias]]\n\t"
                         "vldrw.32 q5, [%[bias], #16]\n\t"
                         "vldrw.32 q6, [%[bias], #32]\n\t"
                         "vldrw.32 q7, [%[bias], #48]\n\t"
                         "dls lr, %[pairs]\n"
                         "1:\n\t" TWO_TAPS "le lr, 1b\n\t"
                         "mov %[w], %[requantise]\n\t" REQUANTISE("q4") REQUANTISE("q5")
                             REQUANTISE("q6") REQUANTISE("q7") "vsli.32 q4, q5, #8\n\t"
                                                               "vsli.32 q4, q6, #16\n\t"
                                                               "vsli.32 q4, q7, #24\n\t"
                                                               "vstrb.8 q4, [%[out]]\n\t"
                         : [at] "+&r"(tap), [w] "+&r"(w), [x] "=&r"(x), [y] "=&r"(y)
                         : [step] "r"(moved), [bias] "r"(b->bias), [requantise] "r"(b->requantise),
                           [pairs] "r"(b->pairs), [zero] "r"(b->zero), [out] "r"(out)
                         : "lr", "q0", "q1", "q2", "q3", "q4", "q5", "q6", "q7", "memory");
    }
}

void nsk_depthwise_run(const nsk_layer *l, int8_t *workspace) {
    static const nsk_sixteen_kernel kernel = {start, write};
    if (nsk_sixteen_fits(l) && nsk_requantise_is_plain(l)) {
        block b;
        nsk_sixteen_run(l, workspace, &kernel, &b);
    } else {
        nsk_depthwise_run_plain(l, workspace, 0, l->out.channels);
    }
}

#endif
