/* Four pixels by four outputs at a time. Products are 16 bits wide, and so is the sum of two; pairs
 * of such sums are added to 32 bits. Processors with dot products add four products to a lane. */
#include "../product.h"

#include "../arch.h"

#if defined(NSK_ARCH_AARCH64)

#include <string.h>

#include "neon.h"

enum { TILE = 4, BYTES = 16 };

/* Where the rows of four pixels, or of four outputs' weights, are: the last stands in for those
 * that are not there. */
typedef struct rows {
    const int8_t *at[TILE];
} rows;

static inline rows rows_from(const int8_t *first, int32_t step, int32_t count) {
    rows r;
    for (int32_t i = 0; i < TILE; i++) {
        r.at[i] = first + (i < count ? i : count - 1) * step;
    }
    return r;
}

/* Whether the processor has dot products; a compiler must be told of them function by function. */
#if defined(__ARM_FEATURE_DOTPROD)
#define DOTS
static bool has_dots(void) {
    return true;
}
#elif defined(__linux__) && !defined(__clang__)
#define DOTS __attribute__((target("arch=armv8.2-a+dotprod")))
/* Of the C library: the kernel's word on the processor. Declared here, as its header is no part of
 * what the device half includes. */
unsigned long getauxval(unsigned long type);

static bool has_dots(void) {
    enum { HARDWARE = 16 /* AT_HWCAP */, DOT_PRODUCTS = 1 << 20 /* HWCAP_ASIMDDP */ };
    return (getauxval(HARDWARE) & DOT_PRODUCTS) != 0;
}
#endif

NSK_ALWAYS_INLINE int32x4_t meet(int32x4_t acc, int8x16_t x, int8x16_t w) {
    int16x8_t pairs = vmull_s8(vget_low_s8(x), vget_low_s8(w));
    return vpadalq_s16(acc, vmlal_high_s8(pairs, x, w));
}

/* The last bytes of a row, and zeroes. */
NSK_ALWAYS_INLINE int8x16_t load_rest(const int8_t *at, int32_t bytes) {
    int8_t rest[BYTES] = {0};
    memcpy(rest, at, (size_t)bytes);
    return vld1q_s8(rest);
}

/* Of each pixel the sums of four outputs. Loops over a tile are written out, so that sums stay in
 * registers. */
#define TIMES(i) _Pragma("GCC unroll 4") for (int32_t i = 0; i < TILE; i++)
#define MEET_ROWS(load, meet)                                                                      \
    {                                                                                              \
        int8x16_t x[TILE];                                                                         \
        TIMES(i) {                                                                                 \
            x[i] = load(in->at[i] + k);                                                            \
        }                                                                                          \
        TIMES(j) {                                                                                 \
            const int8x16_t w = load(weights->at[j] + k);                                          \
            TIMES(i) {                                                                             \
                acc[i][j] = meet(acc[i][j], x[i], w);                                              \
            }                                                                                      \
        }                                                                                          \
    }
#define LOAD_REST(at) load_rest(at, row - k)
#define ADD_UP(name, attributes, meet)                                                             \
    attributes static void name(const rows *in, const rows *weights, int32_t row,                  \
                                int32x4_t sums[TILE]) {                                            \
        int32x4_t acc[TILE][TILE];                                                                 \
        int32_t k = 0;                                                                             \
        TIMES(i) {                                                                                 \
            TIMES(j) {                                                                             \
                acc[i][j] = vdupq_n_s32(0);                                                        \
            }                                                                                      \
        }                                                                                          \
        for (; k + BYTES <= row; k += BYTES) {                                                     \
            MEET_ROWS(vld1q_s8, meet)                                                              \
        }                                                                                          \
        if (k < row) {                                                                             \
            MEET_ROWS(LOAD_REST, meet)                                                             \
        }                                                                                          \
        TIMES(i) {                                                                                 \
            sums[i] =                                                                              \
                vpaddq_s32(vpaddq_s32(acc[i][0], acc[i][1]), vpaddq_s32(acc[i][2], acc[i][3]));    \
        }                                                                                          \
    }
ADD_UP(add_up, , meet)
#if defined(DOTS)
ADD_UP(add_up_by_dots, DOTS, vdotq_s32)
#endif

typedef void add_rows(const rows *in, const rows *weights, int32_t row, int32x4_t sums[TILE]);

static add_rows *chosen(void) {
#if defined(DOTS)
    return has_dots() ? add_up_by_dots : add_up;
#else
    return add_up;
#endif
}

/* Four outputs, or fewer at the end, of one pixel. */
static inline void write_outputs(const nsk_matmul *p, const nsk_four *f, int32x4_t sums,
                                 int32_t first, int8_t *out) {
    int16x4_t four = nsk_four_outputs(f, sums);
    int8x8_t bytes = vqmovn_s16(vcombine_s16(four, four));
    int32_t count = p->outputs - first;
    if (count >= TILE) {
        memcpy(out + first, &bytes, TILE);
    } else {
        memcpy(out + first, &bytes, (size_t)count);
    }
}

void nsk_multiply_out(const nsk_matmul *p, const int8_t *in, int32_t pixels, int8_t *out) {
    if (p->wide) {
        nsk_multiply_out_plain(p, in, pixels, out);
        return;
    }
    add_rows *const add = chosen();
    for (int32_t first = 0; first < p->outputs; first += TILE) {
        rows weights = rows_from(p->weights + first * p->row, p->row, p->outputs - first);
        nsk_four f = nsk_four_of(p->requantise + 4 * first, p->outputs - first);
        nsk_four_clamp(&f, p->zero, p->low, p->high);
        for (int32_t i = 0; i < pixels; i += TILE) {
            rows x = rows_from(in + i * p->in_step, p->in_step, pixels - i);
            int32x4_t sums[TILE];
            add(&x, &weights, p->row, sums);
            for (int32_t k = 0; k < TILE && i + k < pixels; k++) {
                write_outputs(p, &f, vaddq_s32(sums[k], f.bias), first,
                              out + (i + k) * p->out_step);
            }
        }
    }
}

#endif
