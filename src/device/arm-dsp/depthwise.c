/* 3 x 3 taps. The rows that the taps read are widened once, into lines of the scratch with the
 * padding around them: no tap is a special case then. A word of a line is two neighbouring pixels
 * of a channel, so that one instruction is two taps; four channels are widened at a time. */
#include "../depthwise.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_DSP) && defined(NSK_OWN_DEPTHWISE)

#include <stddef.h>

#include "../arithmetic.h"
#include "../format.h"
#include "dsp.h"

enum {
    KERNEL = 3,
    OUTPUTS = 4, /* at a time */
    CHANNELS = 4,
    MOST_SHIFT = 22 /* past it the zero point has no room in `rest` */
};

/* A row of a channel's outputs. The offsets stand in the text of the loop. */
typedef struct row {
    int32_t factor, shift, rest; /*  0: half of what the shift divides by, and the zero point */
    int8_t *out;                 /* 12: the next group's */
    int32_t step;                /* 16: from an output to the next */
    int32_t last;                /* 20: outputs of the last group */
    const uint32_t *end;         /* 24: where the first line stops */
    int32_t bias;                /* 28 */
    uint32_t taps[2 * KERNEL];   /* 32: the first two of each row, and its last two */
} row;
NSK_ASSERT(offsetof(row, taps) == 32, "the text below is for pointers of four bytes");

/* Four channels of the picture. A line is words of them in turns. */
typedef struct four {
    const nsk_layer *layer;
    const int8_t *in;       /* of pixel 0 */
    uint32_t *line[KERNEL]; /* of the rows that the kernel meets next */
    int32_t words;          /* of a line, from the first output's to behind the last group's */
    int32_t inside;         /* pixels of the picture that a line holds */
    row rows[CHANNELS];
} four;

/* Two words: compilers would write one by one. */
static inline uint32_t *put_two(uint32_t *to, uint32_t first, uint32_t second) {
    __asm__ volatile("strd %1, %2, [%0], #8" : "+r"(to) : "r"(first), "r"(second) : "memory");
    return to;
}

/* Two neighbours of four channels: a word of each. */
static inline uint32_t *put_pixels(uint32_t *to, uint32_t left, uint32_t right) {
    const uint32_t low = nsk_low_halves(left, right);
    const uint32_t high = nsk_high_halves(left, right);
    to = put_two(to, nsk_even_bytes(low), nsk_odd_bytes(low));
    return put_two(to, nsk_even_bytes(high), nsk_odd_bytes(high));
}

/* Nothing but the zero point: a row outside of the picture, or lines before their first rows. */
static void clear(const four *f, uint32_t *line, int32_t lines) {
    const uint32_t outside = (uint32_t)(uint16_t)f->layer->in.zero * 0x10001U;
    for (const uint32_t *end = line + lines * (f->words + CHANNELS); line < end;) {
        *line++ = outside;
    }
}

/* A row of the input. What a line has before its first pixel and behind its last one stays. */
static NSK_NOINLINE void widen_row(const four *f, const int8_t *in, uint32_t *to) {
    const nsk_layer *l = f->layer;
    const int32_t step = l->in.channels;
    const uint32_t outside = (uint32_t)(uint8_t)l->in.zero * 0x1010101U;
    uint32_t left = (uint32_t)f->inside;
    to += (uint32_t)l->pad_left / 2U * CHANNELS;
    if (l->pad_left % 2 != 0) {
        to = put_pixels(to, outside, nsk_four_anywhere(in));
        in += step;
        left--;
    }
    for (const uint32_t *end = to + left / 2 * CHANNELS; to < end; in += 2 * step) {
        to = put_pixels(to, nsk_four_anywhere(in), nsk_four_anywhere(in + step));
    }
    if (left % 2 != 0) {
        put_pixels(to, nsk_four_anywhere(in), outside);
    }
}

/* Compilers load everything early and spill the sums, so that a group of four outputs is written
 * out: loads stand behind loads, where they wait least. Of a row of taps r8 holds the first two and
 * r9 the last two; words of the line pass through r10 to r12. The sums begin with the bias, which
 * stands in the last of them; s0 to s2 of a row of taps: what is added to. */
/* clang-format off */
#define LOAD(to, from) "ldr " to ", [" from "]\n\t"
#define BOTH(sum, word, taps, from) "smlad %[" sum "], " word ", " taps ", %[" from "]\n\t"
#define LEFT(sum, word, from) "smlatb %[" sum "], " word ", r8, %[" from "]\n\t"
#define RIGHT(sum, word) "smlabt %[" sum "], " word ", r9, %[" sum "]\n\t"

/* A row of taps, of columns one apart, and two. */
#define NEAR(line, first, last, s0, s1, s2) \
    LOAD("r8", "%[r], #" first) LOAD("r9", "%[r], #" last) \
    LOAD("r10", "%[" line "]") LOAD("r11", "%[" line "], #16") "ldr r12, [%[" line "], #32]!\n\t" \
    BOTH("s0", "r10", "r8", s0) LEFT("s1", "r10", s1) \
    BOTH("s2", "r11", "r8", s2) LEFT("s3", "r11", "s3") \
    RIGHT("s0", "r11") BOTH("s1", "r11", "r9", "s1") \
    RIGHT("s2", "r12") BOTH("s3", "r12", "r9", "s3")
#define FAR(line, first, last, s0, s1, s2) \
    LOAD("r8", "%[r], #" first) LOAD("r9", "%[r], #" last) \
    LOAD("r10", "%[" line "]") LOAD("r11", "%[" line "], #16") LOAD("r12", "%[" line "], #32") \
    BOTH("s0", "r10", "r8", s0) BOTH("s1", "r11", "r8", s1) BOTH("s2", "r12", "r8", s2) \
    RIGHT("s0", "r11") RIGHT("s1", "r12") \
    LOAD("r10", "%[" line "], #48") "ldr r11, [%[" line "], #64]!\n\t" \
    BOTH("s3", "r10", "r8", "s3") RIGHT("s2", "r10") RIGHT("s3", "r11")

/* nsk_requantise, where the clamp is an int8's. */
#define REQUANTISE(sum) \
    "mla %[" sum "], %[" sum "], r8, r10\n\t" \
    "asrs %[" sum "], %[" sum "], r9\n\t" \
    "ssat %[" sum "], #8, %[" sum "]\n\t"
#define STORE(sum) "strb %[" sum "], [r11]\n\t"
#define STORE_NEXT(sum) "strb %[" sum "], [r11, r12]\n\t"
#define ADVANCE "add r11, r11, r12, lsl #1\n\t"
#define UNLESS_DONE \
    "subs r8, r8, #1\n\t" \
    "beq 3f\n\t"

/* Of the last group, as many outputs as the row still has. */
#define GROUPS(ROW) \
    __asm__ volatile( \
        "1:\n\t" \
        LOAD("%[s3]", "%[r], #28") \
        ROW("l0", "32", "36", "s3", "s3", "s3") \
        ROW("l1", "40", "44", "s0", "s1", "s2") \
        ROW("l2", "48", "52", "s0", "s1", "s2") \
        "ldm %[r], {r8-r12}\n\t" \
        REQUANTISE("s0") REQUANTISE("s1") REQUANTISE("s2") REQUANTISE("s3") \
        LOAD("r8", "%[r], #24") \
        "cmp %[l0], r8\n\t" \
        "beq 2f\n\t" \
        STORE("s0") STORE_NEXT("s1") ADVANCE STORE("s2") STORE_NEXT("s3") ADVANCE \
        "str r11, [%[r], #12]\n\t" \
        "b 1b\n" \
        "2:\n\t" \
        LOAD("r8", "%[r], #20") \
        STORE("s0") UNLESS_DONE STORE_NEXT("s1") ADVANCE \
        UNLESS_DONE STORE("s2") UNLESS_DONE STORE_NEXT("s3") \
        "3:\n\t" \
        : [l0] "+r"(l0), [l1] "+r"(l1), [l2] "+r"(l2), [s0] "=&r"(s0), [s1] "=&r"(s1), \
          [s2] "=&r"(s2), [s3] "=&r"(s3) \
        : [r] "r"(r) \
        : "r8", "r9", "r10", "r11", "r12", "cc", "memory")
/* clang-format on */

/* A row of all channels' outputs. */
static NSK_NOINLINE void write_rows(four *f, int8_t *out) {
    for (int32_t i = 0; i < CHANNELS; i++) {
        row *r = &f->rows[i];
        const uint32_t *l0 = f->line[0] + i;
        const uint32_t *l1 = f->line[1] + i;
        const uint32_t *l2 = f->line[2] + i;
        uint32_t s0;
        uint32_t s1;
        uint32_t s2;
        uint32_t s3;
        r->end = l0 + f->words;
        r->out = out + i;
        if (f->layer->stride_across == 1) {
            GROUPS(NEAR);
        } else {
            GROUPS(FAR);
        }
    }
}

/* Turns the lines round so that those of the next output row come first. */
static void run_four(four *f, int8_t *out) {
    const nsk_layer *l = f->layer;
    const int32_t row_bytes = l->in.width * l->in.channels;
    int32_t next = -l->pad_top; /* the next row to be widened */
    for (int32_t y = 0; y < l->out.height; y++, out += l->out.width * l->out.pixel_stride) {
        for (int32_t last = y * l->stride_down - l->pad_top + KERNEL; next < last; next++) {
            uint32_t *freed = f->line[0];
            f->line[0] = f->line[1];
            f->line[1] = f->line[2];
            f->line[2] = freed;
            if (next >= 0 && next < l->in.height) {
                widen_row(f, f->in + next * row_bytes, freed);
            } else {
                clear(f, freed, 1);
            }
        }
        write_rows(f, out);
    }
}

static void start_four(four *f, uint32_t channel) {
    const nsk_layer *l = f->layer;
    const int32_t step = l->out.channels;
    const int8_t *w = (const int8_t *)l->weights + channel;
    /* from a row's first two taps one on to its last two, from those two on to the next row */
    for (int32_t k = 0; k < 2 * KERNEL; k++, w += k % 2 != 0 ? step : 2 * step) {
        uint32_t taps[CHANNELS];
        put_pixels(taps, nsk_four_anywhere(w), nsk_four_anywhere(w + step));
        for (int32_t i = 0; i < CHANNELS; i++) {
            f->rows[i].taps[k] = taps[i];
        }
    }
    for (uint32_t i = 0; i < CHANNELS; i++) {
        row *r = &f->rows[i];
        const int32_t requantise = nsk_word(l->requantise, channel + i);
        r->bias = nsk_requantise_bias(requantise);
        r->factor = nsk_requantise_factor(requantise);
        r->shift = nsk_requantise_shift(requantise);
        r->rest = (INT32_C(1) << (r->shift - 1)) + l->out.zero * (INT32_C(1) << r->shift);
        r->step = l->out.pixel_stride;
        r->last = (l->out.width - 1) % OUTPUTS + 1;
    }
}

static bool shifts_are_good(const nsk_layer *l, uint32_t channel) {
    for (uint32_t i = 0; i < CHANNELS; i++) {
        if (nsk_requantise_shift(nsk_word(l->requantise, channel + i)) > MOST_SHIFT) {
            return false;
        }
    }
    return true;
}

static bool fits(const nsk_layer *l) {
    return l->kernel_height == KERNEL && l->kernel_width == KERNEL &&
           l->stride_down == l->stride_across && l->stride_across <= 2 && l->dilate_down == 1 &&
           l->dilate_across == 1 && l->in.channels == l->out.channels && nsk_requantise_is_plain(l);
}

/* The picture's measures, and empty lines. */
static void start(const nsk_layer *l, int8_t *workspace, four *f) {
    const int32_t groups = (l->out.width + OUTPUTS - 1) / OUTPUTS;
    f->layer = l;
    f->words = groups * (OUTPUTS / 2) * l->stride_across * CHANNELS;
    const int32_t columns = f->words / (CHANNELS / 2) + 2 - l->pad_left;
    f->inside = columns < l->in.width ? columns : l->in.width;
    uint32_t *line = (uint32_t *)(void *)(workspace + l->scratch);
    for (int32_t k = 0; k < KERNEL; k++) {
        f->line[k] = line + k * (f->words + CHANNELS);
    }
    clear(f, line, KERNEL);
}

void nsk_depthwise_run(const nsk_layer *l, int8_t *workspace) {
    const int32_t channels = l->out.channels;
    const int32_t whole = fits(l) ? channels & ~(CHANNELS - 1) : 0; /* channels, four at a time */
    nsk_depthwise_run_plain(l, workspace, whole, channels);
    if (whole == 0) {
        return;
    }
    four f;
    start(l, workspace, &f);
    for (int32_t c = 0; c < whole; c += CHANNELS) {
        if (shifts_are_good(l, (uint32_t)c)) {
            f.in = workspace + l->in.offset + c;
            start_four(&f, (uint32_t)c);
            run_four(&f, workspace + l->out.offset + c);
        } else {
            nsk_depthwise_run_plain(l, workspace, c, c + CHANNELS);
            start(l, workspace, &f); /* its lines stood where ours did */
        }
    }
}

#endif
