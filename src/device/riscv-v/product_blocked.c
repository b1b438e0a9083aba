/* Four pixels by as many outputs of a block as a vector holds. A tap's weights meet one input of
 * each pixel; the sum of two products fits in 16 bits, and is added in 32. */
#include "../blocked.h"

#include "../arch.h"

#if defined(NSK_ARCH_RISCV_VECTOR)

#include "../check.h"
#include "rvv.h"

enum { PIXELS = 4 };

/* Some outputs of a block. */
typedef struct part {
    const int8_t *weights;     /* of its first tap */
    const uint8_t *requantise; /* of its first output */
    int32_t width;             /* of the block: from a tap to the next */
    int32_t lanes;
    const int8_t *in[PIXELS];
    int8_t *out[PIXELS];
} part;

#define LOAD_WEIGHTS(to) "vle8.v " to ", (%[w])\n\tadd %[w], %[w], %[width]\n\t"
#define LOAD_INPUTS(tap)                                                                           \
    "lb %[x], " tap "(%[a])\n\t"                                                                   \
    "lb %[y], " tap "(%[b])\n\t"                                                                   \
    "lb %[z], " tap "(%[c])\n\t"                                                                   \
    "lb %[t], " tap "(%[d])\n\t"
#define TWO_TAPS(first, second, v, w)                                                              \
    LOAD_INPUTS(first)                                                                             \
    "vwmul.vx v8, " v ", %[x]\n\t"                                                                 \
    "vwmul.vx v10, " v ", %[y]\n\t"                                                                \
    "vwmul.vx v12, " v ", %[z]\n\t"                                                                \
    "vwmul.vx v14, " v ", %[t]\n\t" LOAD_INPUTS(second) "vwmacc.vx v8, %[x], " w "\n\t"            \
                                                        "vwmacc.vx v10, %[y], " w "\n\t"           \
                                                        "vwmacc.vx v12, %[z], " w "\n\t"           \
                                                        "vwmacc.vx v14, %[t], " w "\n\t"
#define ADD_UP                                                                                     \
    RVV_HALVES "vwadd.wv v16, v16, v8\n\t"                                                         \
               "vwadd.wv v20, v20, v10\n\t"                                                        \
               "vwadd.wv v24, v24, v12\n\t"                                                        \
               "vwadd.wv v28, v28, v14\n\t"
/* nsk_requantise of a pixel's sums: factors stand in v4, shifts in v12. */
#define REQUANTISE(sum, out)                                                                       \
    RVV_WORDS "vmul.vv " sum ", " sum ", v4\n\t"                                                   \
              "vssra.vv " sum ", " sum ", v12\n\t"                                                 \
              "vadd.vx " sum ", " sum                                                              \
              ", %[zero]\n\t" RVV_SATURATE(sum, "v0", "v2") "vse8.v v2, (%[" out "])\n\t"

static NSK_NOINLINE void multiply_part(const part *p, int32_t row, int32_t zero) {
    const int8_t *w = p->weights;
    const int8_t *a = p->in[0];
    const int8_t *b = p->in[1];
    const int8_t *c = p->in[2];
    const int8_t *d = p->in[3];
    int32_t x;
    int32_t y;
    int32_t z;
    int32_t t;
    __asm__ volatile(
        RVV_BEGIN RVV_ROUND_UP RVV_START(
            "%[lanes]") "vle32.v v4, (%[requantise])\n\t"
                        "vsra.vi v16, v4, 9\n\t"
                        "vmv.v.v v20, v16\n\t"
                        "vmv.v.v v24, v16\n\t"
                        "vmv.v.v v28, v16\n"
                        "1:\n\t" RVV_BYTES LOAD_WEIGHTS("v0") LOAD_WEIGHTS("v1") LOAD_WEIGHTS("v2")
                            LOAD_WEIGHTS("v3") TWO_TAPS("0", "1", "v0", "v1")
                                ADD_UP RVV_BYTES TWO_TAPS("2", "3", "v2", "v3") ADD_UP
        "addi %[a], %[a], 4\n\t"
        "addi %[b], %[b], 4\n\t"
        "addi %[c], %[c], 4\n\t"
        "addi %[d], %[d], 4\n\t"
        "bne %[a], %[end], 1b\n\t" RVV_WORDS "vle32.v v4, (%[requantise])\n\t"
        "vsrl.vi v12, v4, 4\n\t" /* a shift takes its lowest five bits */
        "vand.vi v4, v4, 15\n\t" REQUANTISE("v16", "o0") REQUANTISE("v20", "o1")
            REQUANTISE("v24", "o2") REQUANTISE("v28", "o3") RVV_END
        : [w] "+&r"(w), [a] "+&r"(a), [b] "+&r"(b), [c] "+&r"(c), [d] "+&r"(d), [x] "=&r"(x),
          [y] "=&r"(y), [z] "=&r"(z), [t] "=&r"(t)
        : [end] "r"(a + row), [width] "r"(p->width), [requantise] "r"(p->requantise),
          [lanes] "r"(p->lanes), [zero] "r"(zero), [o0] "r"(p->out[0]), [o1] "r"(p->out[1]),
          [o2] "r"(p->out[2]), [o3] "r"(p->out[3])
        : RVV_CLOBBERS);
}

/* Up to four; the last one stands in for those that are not there. */
static void some_pixels(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    part o;
    o.weights = p->weights;
    o.requantise = p->requantise;
    for (int32_t i = 0; i < PIXELS; i++) {
        const int32_t k = i < pixels ? i : pixels - 1;
        o.in[i] = in + k * p->in_step;
        o.out[i] = out + k * p->out_step;
    }
    for (int32_t left = p->outputs; left > 0; left -= NSK_BLOCK) {
        const int8_t *of_block = o.weights;
        o.width = left < NSK_BLOCK ? left : (int32_t)NSK_BLOCK;
        for (int32_t done = 0; done < o.width; done += o.lanes) {
            o.lanes = nsk_lanes(o.width - done);
            multiply_part(&o, p->row, p->zero);
            o.weights += o.lanes;
            o.requantise += 4 * o.lanes;
            for (int32_t i = 0; i < PIXELS; i++) {
                o.out[i] += o.lanes;
            }
        }
        o.weights = of_block + o.width * p->row;
    }
}

void nsk_multiply_blocked(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    for (; pixels > 0; pixels -= PIXELS) {
        some_pixels(p, in, pixels < PIXELS ? pixels : (int32_t)PIXELS, out);
        in += PIXELS * p->in_step;
        out += PIXELS * p->out_step;
    }
}

#endif
