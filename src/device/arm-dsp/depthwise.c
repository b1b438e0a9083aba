/* 3 x 3 taps. Two channels stand in the halves of a word. The rows that the taps read are widened
 * once, into lines of the scratch with the padding around them: no tap is a special case then, and
 * three neighbouring pixels share the columns that they read. */
#include "../depthwise.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_DSP) && defined(NSK_OWN_DEPTHWISE)

#include "../arithmetic.h"
#include "../format.h"
#include "dsp.h"

enum { KERNEL = 3, PIXELS = 3, CHANNELS = 4 };

/* Two of four channels, the first and third, or the second and fourth; and what the loops below
 * walk along. The offsets stand in their text. */
typedef struct half {
    const uint32_t *line[KERNEL]; /*  0: the next group's columns */
    const uint32_t *weights;      /* 12 */
    int32_t bias[2];              /* 16 */
    int32_t multiplier[2];        /* 24 */
    int32_t shift[2];             /* 32 */
    int8_t *out;                  /* 40: the next group's outputs */
    int32_t step;                 /* 44: from a pixel's to the next one's */
    int32_t zero;                 /* 48: of the output */
    int32_t left;                 /* 52: groups that are left */
    uint32_t taps[KERNEL * KERNEL];
} half;

/* Four channels of the picture. */
typedef struct four {
    const nsk_layer *layer;
    const int8_t *in;       /* of pixel 0 */
    uint32_t *line[KERNEL]; /* words of both halves in turns */
    int32_t length;         /* pixels of a line */
    int32_t inside;         /* those of them that can lie in the picture */
    half halves[2];
} four;

/* Nothing but the zero point: a row outside of the picture, or a line before its first row. */
static void clear_line(const nsk_layer *l, uint32_t *line, int32_t length) {
    const uint32_t outside = (uint32_t)(uint16_t)l->in.zero * 0x10001U;
    for (const uint32_t *end = line + 2 * length; line < end;) {
        *line++ = outside;
    }
}

/* A pixel: compilers would write its two words one by one. */
static inline uint32_t *widen_pixel(uint32_t bytes, uint32_t *to) {
    __asm__("strd %1, %2, [%0], #8"
            : "+r"(to)
            : "r"(nsk_even_bytes(bytes)), "r"(nsk_odd_bytes(bytes))
            : "memory");
    return to;
}

/* Row y of the input. What a line has at its ends stays. */
static NSK_NOINLINE void widen_row(const four *f, int32_t y, uint32_t *line) {
    const nsk_layer *l = f->layer;
    const int8_t *in = f->in + y * l->in.width * l->in.channels;
    int32_t step = l->in.channels;
    uint32_t *to = line + 2 * l->pad_left;
    if (y < 0 || y >= l->in.height) {
        clear_line(l, line, f->length);
        return;
    }
    const uint32_t *end = to + 2 * f->inside;
    for (; to + 6 < end; in += 4 * step) {
        const int8_t *behind = in + 2 * step;
        const uint32_t first = nsk_four_anywhere(in);
        const uint32_t second = nsk_four_anywhere(in + step);
        const uint32_t third = nsk_four_anywhere(behind);
        const uint32_t fourth = nsk_four_anywhere(behind + step);
        to = widen_pixel(first, to);
        to = widen_pixel(second, to);
        to = widen_pixel(third, to);
        to = widen_pixel(fourth, to);
    }
    for (; to < end; in += step) {
        to = widen_pixel(nsk_four_anywhere(in), to);
    }
}

/* Compilers load everything early and spill the sums, so that a group of three pixels is written
 * out: the sums l0, h0, ... are those of the low and the high half's channel. */
/* clang-format off */
#define LOAD(offset) "ldr %[x], [%[line], #" offset "]\n\t"
#define MEET(pixel, tap) \
    "smlabb %[l" pixel "], %[x], %[" tap "], %[l" pixel "]\n\t" \
    "smlatt %[h" pixel "], %[x], %[" tap "], %[h" pixel "]\n\t"
#define NEAR_COLUMNS \
    LOAD("0") MEET("0", "u") \
    LOAD("8") MEET("0", "v") MEET("1", "u") \
    LOAD("16") MEET("0", "t") MEET("1", "v") MEET("2", "u") \
    LOAD("24") MEET("1", "t") MEET("2", "v") \
    LOAD("32") MEET("2", "t")
#define FAR_COLUMNS \
    LOAD("0") MEET("0", "u") \
    LOAD("8") MEET("0", "v") \
    LOAD("16") MEET("0", "t") MEET("1", "u") \
    LOAD("24") MEET("1", "v") \
    LOAD("32") MEET("1", "t") MEET("2", "u") \
    LOAD("40") MEET("2", "v") \
    LOAD("48") MEET("2", "t")

/* One row of taps; `advance`: bytes of a line to the next group. */
#define ROW(offset, columns, advance) \
    "ldr %[line], [%[half], #" offset "]\n\t" \
    "ldrd %[u], %[v], [%[w]], #8\n\t" \
    "ldr %[t], [%[w]], #4\n\t" \
    columns \
    "add %[line], %[line], #" advance "\n\t" \
    "str %[line], [%[half], #" offset "]\n\t"

/* nsk_requantise, where the clamp is an int8's: the bit that is shifted out last is the rounding. */
#define REQUANTISE(sum, multiplier, shift) \
    "mul %[" sum "], %[" sum "], %[" multiplier "]\n\t" \
    "asrs %[" sum "], %[" sum "], %[" shift "]\n\t" \
    "adc %[" sum "], %[" sum "], %[w]\n\t" \
    "ssat %[" sum "], #8, %[" sum "]\n\t"
#define REQUANTISE_BOTH(pixel) REQUANTISE("l" pixel, "u", "t") REQUANTISE("h" pixel, "v", "x")
#define STORE_BOTH(pixel) \
    "strb %[l" pixel "], [%[line]]\n\t" \
    "strb %[h" pixel "], [%[line], #2]\n\t" \
    "add %[line], %[line], %[u]\n\t"

#define GROUPS(columns, advance) \
    __asm__ volatile( \
        "1:\n\t" \
        "ldr %[w], [%[half], #12]\n\t" \
        "ldrd %[l0], %[h0], [%[half], #16]\n\t" \
        "mov %[l1], %[l0]\n\t" \
        "mov %[h1], %[h0]\n\t" \
        "mov %[l2], %[l0]\n\t" \
        "mov %[h2], %[h0]\n\t" \
        ROW("0", columns, advance) \
        ROW("4", columns, advance) \
        ROW("8", columns, advance) \
        "ldrd %[u], %[v], [%[half], #24]\n\t" \
        "ldrd %[t], %[x], [%[half], #32]\n\t" \
        "ldr %[w], [%[half], #48]\n\t" \
        REQUANTISE_BOTH("0") REQUANTISE_BOTH("1") REQUANTISE_BOTH("2") \
        "ldrd %[line], %[u], [%[half], #40]\n\t" \
        STORE_BOTH("0") STORE_BOTH("1") STORE_BOTH("2") \
        "str %[line], [%[half], #40]\n\t" \
        "ldr %[t], [%[half], #52]\n\t" \
        "subs %[t], %[t], #1\n\t" \
        "str %[t], [%[half], #52]\n\t" \
        "bne 1b\n\t" \
        : [l0] "=&r"(l0), [h0] "=&r"(h0), [l1] "=&r"(l1), [h1] "=&r"(h1), [l2] "=&r"(l2), \
          [h2] "=&r"(h2), [w] "=&r"(w), [u] "=&r"(u), [v] "=&r"(v), [t] "=&r"(t), [x] "=&r"(x), \
          [line] "=&r"(line) \
        : [half] "r"(h) \
        : "cc", "memory")
/* clang-format on */

/* h->left groups of three pixels, one pixel of the input apart, or two. */
static NSK_NOINLINE void write_groups(half *h, int32_t stride) {
    uint32_t l0;
    uint32_t h0;
    uint32_t l1;
    uint32_t h1;
    uint32_t l2;
    uint32_t h2;
    uint32_t u;
    uint32_t v;
    uint32_t t;
    uint32_t x;
    const uint32_t *w;
    const uint32_t *line;
    if (stride == 1) {
        GROUPS(NEAR_COLUMNS, "24");
    } else {
        GROUPS(FAR_COLUMNS, "48");
    }
}

/* Groups from pixel x on. */
static void write_from(const four *f, half *h, int32_t x, int32_t groups, int8_t *out) {
    int32_t stride = f->layer->stride_across;
    int32_t at = 2 * x * stride + (h != f->halves);
    for (int32_t k = 0; k < KERNEL; k++) {
        h->line[k] = f->line[k] + at;
    }
    h->out = out + x * h->step;
    h->left = groups;
    write_groups(h, stride);
}

/* A row of outputs. Its last three pixels may have been partly done. */
static void write_row(const four *f, half *h, int8_t *out) {
    int32_t width = f->layer->out.width;
    write_from(f, h, 0, width / PIXELS, out);
    if (width % PIXELS != 0) {
        write_from(f, h, width - PIXELS, 1, out);
    }
}

/* Turns the lines round so that those of the next output row come first. */
static void run_four(four *f, int8_t *out) {
    const nsk_layer *l = f->layer;
    int32_t next = -l->pad_top; /* the next row to be widened */
    for (int32_t y = 0; y < l->out.height; y++, out += l->out.width * l->out.pixel_stride) {
        for (int32_t last = y * l->stride_down - l->pad_top + KERNEL; next < last; next++) {
            uint32_t *freed = f->line[0];
            f->line[0] = f->line[1];
            f->line[1] = f->line[2];
            f->line[2] = freed;
            widen_row(f, next, freed);
        }
        write_row(f, &f->halves[0], out);
        write_row(f, &f->halves[1], out + 1);
    }
}

static void start_four(four *f, int32_t channel) {
    const nsk_layer *l = f->layer;
    const int8_t *w = (const int8_t *)l->weights + channel;
    for (int32_t k = 0; k < KERNEL * KERNEL; k++, w += l->out.channels) {
        f->halves[0].taps[k] = nsk_even_bytes(nsk_four_anywhere(w));
        f->halves[1].taps[k] = nsk_odd_bytes(nsk_four_anywhere(w));
    }
    for (uint32_t i = 0; i < CHANNELS; i++) {
        half *h = &f->halves[i % 2];
        uint32_t k = (uint32_t)channel + i;
        h->weights = h->taps;
        h->step = l->out.pixel_stride;
        h->zero = l->out.zero;
        int32_t requantise = nsk_word(l->requantise, k);
        h->bias[i / 2] = nsk_requantise_bias(requantise);
        h->multiplier[i / 2] = nsk_requantise_factor(requantise);
        h->shift[i / 2] = nsk_requantise_shift(requantise);
    }
}

void nsk_depthwise_run(const nsk_layer *l, int8_t *workspace) {
    bool fits = l->kernel_height == KERNEL && l->kernel_width == KERNEL &&
                l->stride_down == l->stride_across && l->stride_across <= 2 &&
                l->dilate_down == 1 && l->dilate_across == 1 && l->out.width >= PIXELS &&
                l->in.channels >= CHANNELS && l->in.channels == l->out.channels &&
                l->in.offset % 4 == 0 && nsk_requantise_is_plain(l);
    int32_t whole = fits ? l->out.channels & ~(CHANNELS - 1) : 0; /* channels, four at a time */
    nsk_depthwise_run_plain(l, workspace, whole, l->out.channels);
    if (whole == 0) {
        return;
    }
    four f;
    f.layer = l;
    f.length = (l->out.width - 1) * l->stride_across + KERNEL;
    f.inside = l->in.width < f.length - l->pad_left ? l->in.width : f.length - l->pad_left;
    for (int32_t k = 0; k < KERNEL; k++) {
        f.line[k] = (uint32_t *)(void *)(workspace + l->scratch) + 2 * k * f.length;
        clear_line(l, f.line[k], f.length);
    }
    for (int32_t c = 0; c < whole; c += CHANNELS) {
        f.in = workspace + l->in.offset + c;
        start_four(&f, c);
        run_four(&f, workspace + l->out.offset + c);
    }
}

#endif
