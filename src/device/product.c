#include "product.h"

#include "arch.h"
#include "arithmetic.h"
#include "format.h"

nsk_matmul nsk_matmul_of(const nsk_layer *l, int32_t row, int32_t group) {
    int32_t outputs = l->out.channels / (l->kind == NSK_KIND_CONV ? (int32_t)l->count : 1);
    int32_t first = group * outputs;
    nsk_matmul p;
    p.weights = (const int8_t *)l->weights + first * row;
    p.requantise = l->requantise + 4 * first;
    p.row = row;
    p.outputs = outputs;
    p.zero = l->out.zero;
    p.low = l->low;
    p.high = l->high;
    p.wide = l->out.element == 2;
    p.plain_requantise = nsk_requantise_is_plain(l);
    p.in_step = row;
    p.out_step = l->out.pixel_stride;
    p.scratch = NULL;
    return p;
}

#if !defined(NSK_ARCH_ARM_DSP) && !defined(NSK_ARCH_RISCV_VECTOR)
static int32_t dot(const int8_t *a, const int8_t *b, int32_t row, int32_t sum) {
    for (const int8_t *end = a + row; a < end; a += 4, b += 4) {
        sum += a[0] * b[0] + a[1] * b[1] + a[2] * b[2] + a[3] * b[3];
    }
    return sum;
}

void nsk_multiply_pixel(const nsk_matmul *p, const int8_t *in, int8_t *out) {
    const int8_t *weights = p->weights;
    for (uint32_t c = 0; c < (uint32_t)p->outputs; c++, weights += p->row) {
        const int32_t requantise = nsk_word(p->requantise, c);
        nsk_put_output(p, dot(in, weights, p->row, nsk_requantise_bias(requantise)), requantise,
                       out, c);
    }
}
#endif

#if defined(NSK_PLAIN_PAIRS)

/* Two pixels by two outputs share their loads: sums a and b of the first output, c and d of the
 * second. */
typedef struct sums {
    int32_t a, b, c, d;
} sums;

static NSK_NOINLINE void dot_pairs(const int8_t *x, const int8_t *y, const int8_t *v,
                                   const int8_t *w, int32_t row, sums *s) {
    int32_t a = s->a;
    int32_t b = s->b;
    int32_t c = s->c;
    int32_t d = s->d;
    for (const int8_t *end = v + row; v < end; x += 4, y += 4, v += 4, w += 4) {
#define MEET(i)                                                                                    \
    a += x[i] * v[i];                                                                              \
    b += y[i] * v[i];                                                                              \
    c += x[i] * w[i];                                                                              \
    d += y[i] * w[i]
        MEET(0);
        MEET(1);
        MEET(2);
        MEET(3);
#undef MEET
    }
    s->a = a;
    s->b = b;
    s->c = c;
    s->d = d;
}

/* Where there is one alone, pixel or output, it is done twice. */
static void two_pixels(const nsk_matmul *p, const int8_t *in, int32_t other_pixel, int8_t *out) {
    const int8_t *second = in + (other_pixel != 0 ? p->in_step : 0);
    const int8_t *weights = p->weights;
    for (uint32_t c = 0; c < (uint32_t)p->outputs; c += 2) {
        uint32_t other = c + 1U < (uint32_t)p->outputs;
        int32_t requantise = nsk_word(p->requantise, c);
        int32_t other_requantise = nsk_word(p->requantise, c + other);
        sums s = {nsk_requantise_bias(requantise), nsk_requantise_bias(requantise),
                  nsk_requantise_bias(other_requantise), nsk_requantise_bias(other_requantise)};
        dot_pairs(in, second, weights, weights + (other != 0 ? p->row : 0), p->row, &s);
        out[c + other] = nsk_requantise(s.c, other_requantise, p->zero, p->low, p->high);
        out[c + other + (uint32_t)other_pixel] =
            nsk_requantise(s.d, other_requantise, p->zero, p->low, p->high);
        out[c] = nsk_requantise(s.a, requantise, p->zero, p->low, p->high);
        out[c + (uint32_t)other_pixel] = nsk_requantise(s.b, requantise, p->zero, p->low, p->high);
        weights += 2 * p->row;
    }
}

void NSK_PLAIN(nsk_multiply_out)(const nsk_matmul *p, const int8_t *in, int32_t pixels,
                                 int8_t *out) {
    if (p->scratch == NULL) {
        nsk_multiply_pixel(p, in, out);
        return;
    }
    for (; pixels > 0; pixels -= 2) {
        two_pixels(p, in, pixels > 1 ? p->out_step : 0, out);
        in += 2 * p->in_step;
        out += 2 * p->out_step;
    }
}

#endif
