/* Two pixels by two outputs at a time: sixteen products and their sum are one instruction. Four
 * outputs are requantised side by side. */
#include "../product.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_MVE)

#include "../format.h"
#include "mve.h"

enum { OUTPUTS = 4, LANES = 16 /* of bytes */ };

/* Of one output, both pixels; of another. The instruction wants them in even registers, of which
 * there are no more than seven. */
typedef struct sums {
    int32_t a, b, c, d;
} sums;

/* `v` and `w`: the rows of two outputs, to whose biases their sums are added. The loop's last round
 * takes what is left. */
NSK_ALWAYS_INLINE sums dot_pairs(const int8_t *x, const int8_t *y, const int8_t *v, const int8_t *w,
                                 int32_t row, int32_t v_bias, int32_t w_bias) {
    sums s;
    s.a = s.b = v_bias;
    s.c = s.d = w_bias;
    __asm__ volatile("dlstp.8 lr, %[row]\n"
                     "1:\n\t"
                     "vldrb.8 q0, [%[x]], #16\n\t"
                     "vldrb.8 q1, [%[y]], #16\n\t"
                     "vldrb.8 q2, [%[v]], #16\n\t"
                     "vmladava.s8 %[a], q0, q2\n\t"
                     "vmladava.s8 %[b], q1, q2\n\t"
                     "vldrb.8 q2, [%[w]], #16\n\t"
                     "vmladava.s8 %[c], q0, q2\n\t"
                     "vmladava.s8 %[d], q1, q2\n\t"
                     "letp lr, 1b\n\t"
                     : [a] "+Te"(s.a), [b] "+Te"(s.b), [c] "+Te"(s.c), [d] "+Te"(s.d), [x] "+r"(x),
                       [y] "+r"(y), [v] "+r"(v), [w] "+r"(w)
                     : [row] "r"(row)
                     : "lr", "q0", "q1", "q2", "memory");
    return s;
}

/* Lanes 0 and 2; 1 and 3. */
static inline int32x4_t set_even(int32x4_t to, int32_t a, int32_t b) {
    __asm__("vmov %q0[2], %q0[0], %1, %2" : "+w"(to) : "r"(a), "r"(b));
    return to;
}

static inline int32x4_t set_odd(int32x4_t to, int32_t a, int32_t b) {
    __asm__("vmov %q0[3], %q0[1], %1, %2" : "+w"(to) : "r"(a), "r"(b));
    return to;
}

static inline int32x4_t words(const uint8_t *at) {
    return vldrwq_s32((const int32_t *)(const void *)at);
}

/* Four outputs from c on of `pairs` of pixels, whose inputs and outputs are steps apart. */
static NSK_NOINLINE void four_outputs(const nsk_matmul *p, int32_t c, const int8_t *in,
                                      int32_t in_step, int32_t pairs, int8_t *out,
                                      int32_t out_step) {
    const int32_t row = p->row;
    const int32_t zero = p->zero;
    const int8_t *weights = p->weights + c * row;
    const int32x4_t requantise = words(p->requantise + 4 * c);
    const nsk_four f = nsk_four_of(requantise);
    const int32x4_t bias = vshrq_n_s32(requantise, 9);
    const int32_t bias0 = vgetq_lane_s32(bias, 0);
    const int32_t bias1 = vgetq_lane_s32(bias, 1);
    const int32_t bias2 = vgetq_lane_s32(bias, 2);
    const int32_t bias3 = vgetq_lane_s32(bias, 3);
    int32x4_t first = vdupq_n_s32(0);
    int32x4_t second = first;
    for (; pairs > 0; pairs--) {
        const int8_t *other = in + in_step;
        sums s = dot_pairs(in, other, weights, weights + 2 * row, row, bias0, bias2);
        first = set_even(first, s.a, s.c);
        second = set_even(second, s.b, s.d);
        s = dot_pairs(in, other, weights + row, weights + 3 * row, row, bias1, bias3);
        first = set_odd(first, s.a, s.c);
        second = set_odd(second, s.b, s.d);
        vstrbq_s32(out, nsk_requantise_four(first, f, zero));
        out += out_step;
        vstrbq_s32(out, nsk_requantise_four(second, f, zero));
        out += out_step;
        in = other + in_step;
    }
}

/* The same of rows of up to sixteen bytes: the weights of four outputs stay in vectors, and pixels
 * come one by one. Of rows that are shorter, no byte behind them is read. */
static NSK_NOINLINE void four_of_short_rows(const nsk_matmul *p, int32_t c, const int8_t *in,
                                            int32_t pixels, int8_t *out) {
    const int8_t *weights = p->weights + c * p->row;
    const int32x4_t requantise = words(p->requantise + 4 * c);
    const nsk_four f = nsk_four_of(requantise);
    const int32x4_t bias = vshrq_n_s32(requantise, 9);
    __asm__ volatile("vctp.8 %[row]\n\t"
                     "vpst\n\t"
                     "vldrbt.8 q0, [%[weights]]\n\t"
                     "add %[weights], %[weights], %[row]\n\t"
                     "vpst\n\t"
                     "vldrbt.8 q1, [%[weights]]\n\t"
                     "add %[weights], %[weights], %[row]\n\t"
                     "vpst\n\t"
                     "vldrbt.8 q2, [%[weights]]\n\t"
                     "add %[weights], %[weights], %[row]\n\t"
                     "vpst\n\t"
                     "vldrbt.8 q3, [%[weights]]\n\t"
                     "dls lr, %[pixels]\n"
                     "1:\n\t"
                     "vpst\n\t"
                     "vldrbt.8 q4, [%[in]]\n\t"
                     "add %[in], %[in], %[in_step]\n\t"
                     "vmladav.s8 r0, q4, q0\n\t"
                     "vmladav.s8 r2, q4, q1\n\t"
                     "vmladav.s8 r4, q4, q2\n\t"
                     "vmladav.s8 r6, q4, q3\n\t"
                     "vmov q4[2], q4[0], r0, r4\n\t"
                     "vmov q4[3], q4[1], r2, r6\n\t"
                     "vadd.i32 q4, q4, %q[bias]\n\t"
                     "vmul.i32 q4, q4, %q[factor]\n\t"
                     "vrshl.s32 q4, q4, %q[shift]\n\t"
                     "vadd.i32 q4, q4, %[zero]\n\t"
                     "vqmovnb.s32 q4, q4\n\t"
                     "vqmovnb.s16 q4, q4\n\t"
                     "vstrb.32 q4, [%[out]]\n\t"
                     "add %[out], %[out], %[out_step]\n\t"
                     "le lr, 1b\n\t"
                     : [weights] "+&r"(weights), [in] "+&r"(in), [out] "+&l"(out)
                     : [row] "r"(p->row), [pixels] "r"(pixels), [in_step] "r"(p->in_step),
                       [out_step] "r"(p->out_step), [zero] "r"(p->zero), [bias] "w"(bias),
                       [factor] "w"(f.factor), [shift] "w"(f.shift)
                     : "lr", "r0", "r2", "r4", "r6", "q0", "q1", "q2", "q3", "q4", "memory");
}

/* Four outputs of one pixel as int16, whose zero is 0. */
static NSK_NOINLINE void four_wide(const nsk_matmul *p, int32_t c, const int8_t *in, int16_t *out) {
    const int32_t row = p->row;
    const int8_t *weights = p->weights + c * row;
    const int32x4_t requantise = words(p->requantise + 4 * c);
    const nsk_four f = nsk_four_of(requantise);
    sums even = dot_pairs(in, in, weights, weights + 2 * row, row, 0, 0);
    sums odd = dot_pairs(in, in, weights + row, weights + 3 * row, row, 0, 0);
    int32x4_t sum = set_odd(set_even(vdupq_n_s32(0), even.a, even.c), odd.a, odd.c);
    sum = nsk_scale_down_four(vaddq_s32(sum, vshrq_n_s32(requantise, 9)), f);
    vstrhq_s32(out + c, vshrq_n_s32(vqshlq_n_s32(sum, 16), 16));
}

void nsk_multiply_out(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    if ((!p->plain_requantise && !p->wide) || p->outputs < OUTPUTS) {
        nsk_multiply_out_plain(p, in, pixels, out);
        return;
    }
    for (int32_t next = 0; next < p->outputs; next += OUTPUTS) {
        /* some of the last four may have been done before */
        int32_t c = next + OUTPUTS <= p->outputs ? next : p->outputs - OUTPUTS;
        if (p->wide) {
            four_wide(p, c, in, (int16_t *)(void *)out);
            continue;
        }
        if (p->row <= LANES && pixels > 0) {
            four_of_short_rows(p, c, in, pixels, out + c);
            continue;
        }
        if (pixels > 1) {
            four_outputs(p, c, in, p->in_step, pixels / 2, out + c, p->out_step);
        }
        if (pixels % 2 == 1) { /* alone, it is done twice */
            int32_t last = pixels - 1;
            four_outputs(p, c, in + last * p->in_step, 0, 1, out + c + last * p->out_step, 0);
        }
    }
}

#endif
