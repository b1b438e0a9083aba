/* Three by three taps, a channel at a time. Two neighbouring outputs are added up in one word, as
 * product.c does it for two pixels: a column's word in a line of the scratch holds its input and,
 * 2^16 times, that of the next column, which the second output reads there. The three rows that the
 * taps read stand side by side, column by column, each in its place until it is not needed any
 * more: weights are turned as the kernel goes down. */
#include "../depthwise.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_SMALL) && defined(NSK_OWN_DEPTHWISE)

#include <stddef.h>

#include "../arithmetic.h"
#include "../format.h"

enum {
    KERNEL = 3,
    TAPS = 9,
    MOST_SHIFT = 20, /* past it, `rest` has no room */
    LEAST_ROWS = 3   /* for fewer, lines are not worth filling */
};

/* A row of outputs. The offsets stand in the text below. */
typedef struct row_work {
    const int32_t *in;      /*  0: the first output's first column */
    const int32_t *weights; /*  4: column by column, as the rows stand */
    int32_t bias;           /*  8 */
    int32_t factor, shift;  /* 12 */
    int32_t rest;       /* 20: half of what the shift divides by, and the zero point from -128 on */
    int32_t step;       /* 24 */
    const int32_t *end; /* 28 */
    int8_t *out;        /* 32 */
} row_work;
NSK_ASSERT(offsetof(row_work, out) == 32, "the text below is for pointers of four bytes");

/* One or two products in r2 go to T (r8), and their upper half to H (r10). */
#define TAKE_FIRST                                                                                 \
    "add r8, r8, r2\n\t"                                                                           \
    "add r2, r2, r9\n\t"                                                                           \
    "asrs r2, r2, #16\n\t"
#define TAKE_APART TAKE_FIRST "add r10, r10, r2\n\t"
/* The products of a column's three taps, in r2 to r4. */
#define COLUMN                                                                                     \
    "ldm r0!, {r2-r4}\n\t"                                                                         \
    "ldm r1!, {r5-r7}\n\t"                                                                         \
    "muls r2, r5, r2\n\t"                                                                          \
    "muls r3, r6, r3\n\t"                                                                          \
    "muls r4, r7, r4\n\t"

/* T and H of two outputs, from their bias in r11 on. */
#define ADD_UP                                                                                     \
    "mov r8, r11\n\t" COLUMN "mov lr, r4\n\t"                                                      \
    "adds r2, r2, r3\n\t" TAKE_FIRST "mov r10, r2\n\t" COLUMN "add r2, r2, lr\n\t" TAKE_APART      \
    "adds r2, r3, r4\n\t" TAKE_APART COLUMN "adds r2, r2, r3\n\t" TAKE_APART                       \
    "movs r2, r4\n\t" TAKE_APART

/* nsk_requantise of both, to levels from 0 on in r2 and r3. */
#define REQUANTISE                                                                                 \
    "mov r2, r8\n\t"                                                                               \
    "mov r3, r10\n\t"                                                                              \
    "lsls r4, r3, #16\n\t"                                                                         \
    "subs r2, r2, r4\n\t"                                                                          \
    "add r3, r3, r11\n\t"                                                                          \
    "mov r7, r12\n\t"                                                                              \
    "ldm r7!, {r4-r6}\n\t"                                                                         \
    "muls r2, r4, r2\n\t"                                                                          \
    "muls r3, r4, r3\n\t"                                                                          \
    "adds r2, r2, r6\n\t"                                                                          \
    "adds r3, r3, r6\n\t"                                                                          \
    "asrs r2, r2, r5\n\t"                                                                          \
    "asrs r3, r3, r5\n\t"                                                                          \
    "lsrs r4, r2, #8\n\t"                                                                          \
    "bne 4f\n" /* seldom */                                                                        \
    "2:\n\t"                                                                                       \
    "lsrs r4, r3, #8\n\t"                                                                          \
    "bne 5f\n"                                                                                     \
    "3:\n\t"

/* What is out of range becomes the nearer end of it. */
#define HOLD(level, back)                                                                          \
    "asrs " level ", " level ", #31\n\t"                                                           \
    "mvns " level ", " level "\n\t"                                                                \
    "uxtb " level ", " level "\n\t"                                                                \
    "b " back "\n"

/* Every register is spoken for, so that the compiler has no part in it. */
__attribute__((naked, noinline)) static void write_row(row_work *r __attribute__((unused))) {
    __asm__(".syntax unified\n\t"
            "push {r4-r7, lr}\n\t"
            "mov r4, r8\n\t"
            "mov r5, r9\n\t"
            "mov r6, r10\n\t"
            "mov r7, r11\n\t"
            "push {r4-r7}\n\t"
            "mov r12, r0\n\t"
            "movs r2, #12\n\t" /* what requantising reads */
            "add r12, r12, r2\n\t"
            "ldr r2, [r0, #8]\n\t"
            "mov r11, r2\n\t"
            "movs r2, #1\n\t"
            "lsls r2, r2, #15\n\t"
            "mov r9, r2\n\t"
            "ldr r1, [r0, #4]\n\t"
            "ldr r0, [r0, #0]\n"
            "1:\n\t" ADD_UP REQUANTISE "subs r2, #128\n\t"
            "subs r3, #128\n\t"
            "ldm r7!, {r5, r6}\n\t"
            "ldr r4, [r7, #0]\n\t"
            "strb r3, [r4, r5]\n\t"
            "strb r2, [r4, #0]\n\t"
            "adds r4, r4, r5\n\t"
            "adds r4, r4, r5\n\t"
            "str r4, [r7, #0]\n\t"
            "subs r1, #36\n\t"
            "subs r0, #12\n\t"
            "cmp r0, r6\n\t"
            "bne 1b\n\t"
            "pop {r4-r7}\n\t"
            "mov r8, r4\n\t"
            "mov r9, r5\n\t"
            "mov r10, r6\n\t"
            "mov r11, r7\n\t"
            "pop {r4-r7, pc}\n"
            "4:\n\t" HOLD("r2", "2b") "5:\n\t" HOLD("r3", "3b"));
}

/* A channel, and the lines of the scratch. */
typedef struct channel {
    const nsk_layer *layer;
    const int8_t *in; /* of pixel 0 */
    int32_t *lines;   /* word 3 column + row */
    int32_t length;   /* columns of them */
    int32_t inside;   /* those of them that can lie in the picture */
} channel;

/* Row y of the input into a line: from its last word to its first, as the second output's input is
 * that of the column before. */
static NSK_NOINLINE void fill_line(const channel *c, int32_t y, int32_t *line) {
    const nsk_layer *l = c->layer;
    const uint32_t outside = (uint32_t)l->in.zero;
    const uint32_t both = outside + (outside << 16);
    const int32_t step = l->in.channels;
    const bool there = y >= 0 && y < l->in.height;
    int32_t count = there ? c->inside : 0;
    int32_t *to = line + KERNEL * (c->length - 1);
    for (int32_t left = c->length - l->pad_left - count; left > 0; left--, to -= KERNEL) {
        *to = (int32_t)both;
    }
    const int8_t *in = c->in + (there ? (y * l->in.width + count - 1) * step : 0);
    uint32_t next = outside << 16;
    for (; count > 0; count--, in -= step, to -= KERNEL) {
        const uint32_t x = (uint32_t)(int32_t)*in;
        *to = (int32_t)(x + next);
        next = x << 16;
    }
    for (; to >= line; to -= KERNEL) {
        *to = (int32_t)(outside + next);
        next = outside << 16;
    }
}

/* Column by column, for each place that the kernel's first row can have among the lines. */
static void turn_weights(const nsk_layer *l, const int8_t *weights, int32_t turned[KERNEL][TAPS]) {
    for (int32_t k = 0; k < TAPS; k++, weights += l->out.channels) {
        int32_t place = k / KERNEL;
        for (int32_t turn = 0; turn < KERNEL; turn++) {
            turned[turn][KERNEL * (k % KERNEL) + place] = *weights;
            place = place == KERNEL - 1 ? 0 : place + 1;
        }
    }
}

/* Outputs in pairs; the last one alone is written twice. */
static void write_outputs(const channel *c, row_work *r, int8_t *out) {
    const int32_t width = c->layer->out.width;
    r->in = c->lines;
    r->out = out;
    r->end = c->lines + KERNEL * (width & ~1);
    if (r->end != r->in) {
        write_row(r);
    }
    if (width % 2 != 0) {
        const int32_t step = r->step;
        r->in = r->end;
        r->end += 2 * KERNEL;
        r->out = out + (width - 1) * step;
        r->step = 0;
        write_row(r);
        r->step = step;
    }
}

static void run_channel(const channel *c, const int8_t *weights, int32_t requantise, int8_t *out) {
    const nsk_layer *l = c->layer;
    int32_t turned[KERNEL][TAPS];
    int32_t next = -l->pad_top; /* the next row of the input */
    int32_t place = 0;          /* among the lines */
    row_work r;
    r.bias = nsk_requantise_bias(requantise);
    r.factor = nsk_requantise_factor(requantise);
    r.shift = nsk_requantise_shift(requantise);
    r.rest = (INT32_C(1) << (r.shift - 1)) + (l->out.zero + 128) * (INT32_C(1) << r.shift);
    r.step = l->out.pixel_stride;
    turn_weights(l, weights, turned);
    for (int32_t y = 0; y < l->out.height; y++, out += l->out.width * l->out.pixel_stride) {
        for (; next < y - l->pad_top + KERNEL; next++) {
            fill_line(c, next, c->lines + place);
            place = place == KERNEL - 1 ? 0 : place + 1;
        }
        r.weights = turned[place];
        write_outputs(c, &r, out);
    }
}

static bool fits(const nsk_layer *l) {
    bool good = l->out.height >= LEAST_ROWS && l->kernel_height == KERNEL &&
                l->kernel_width == KERNEL && l->stride_down == 1 && l->stride_across == 1 &&
                l->dilate_down == 1 && l->dilate_across == 1 && l->in.channels == l->out.channels &&
                nsk_requantise_is_plain(l);
    for (uint32_t c = 0; good && c < l->out.channels; c++) {
        good = nsk_requantise_shift(nsk_word(l->requantise, c)) <= MOST_SHIFT;
    }
    return good;
}

void nsk_depthwise_run(const nsk_layer *l, int8_t *workspace) {
    channel c;
    if (!fits(l)) {
        nsk_depthwise_run_direct(l, workspace);
        return;
    }
    c.layer = l;
    c.lines = (int32_t *)(void *)(workspace + l->scratch);
    c.length = ((l->out.width + 1) & ~1) + KERNEL - 1;
    c.inside = c.length - l->pad_left < l->in.width ? c.length - l->pad_left : l->in.width;
    for (int32_t i = 0; i < l->out.channels; i++) {
        c.in = workspace + l->in.offset + i;
        run_channel(&c, (const int8_t *)l->weights + i, nsk_word(l->requantise, (uint32_t)i),
                    workspace + l->out.offset + i);
    }
}

#endif
