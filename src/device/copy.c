/* Elements to other places: transposition, slice, concatenation, margin, repetition. */
#include <string.h>

#include "check.h"
#include "format.h"

enum { MOST_ELEMENTS = 1 << 26 };

/* All elements that the loops reach lie inside of both tensors. */
static NSK_SELDOM bool check(const nsk_model *m, const nsk_layer *l) {
    if (l->count < 1 || l->count > NSK_MOST_LOOPS ||
        !nsk_lies_inside(m, l->loops, 4U * (NSK_M_LOOPS + 3U * l->count), 4) ||
        ((l->flags & NSK_FLAG_TABLE) != 0 && !nsk_lies_inside(m, l->table, 256, 1))) {
        return false;
    }
    int64_t size[2] = {nsk_tensor_elements(&l->in), nsk_tensor_elements(&l->out)};
    int64_t copies = 1;
    int64_t least[2];
    int64_t most[2];
    for (uint32_t side = 0; side < 2; side++) {
        least[side] = most[side] = nsk_word(l->loops, NSK_M_IN_ORIGIN + side);
    }
    for (uint32_t i = 0; i < l->count; i++) {
        const uint8_t *loop = l->loops + 4U * (NSK_M_LOOPS + 3U * i);
        int64_t count = nsk_word(loop, 0);
        if (count < 1 || count > MOST_ELEMENTS || (copies *= count) > MOST_ELEMENTS) {
            return false;
        }
        for (uint32_t side = 0; side < 2; side++) {
            int64_t step = nsk_word(loop, 1U + side);
            if (step < -MOST_ELEMENTS || step > MOST_ELEMENTS) {
                return false; /* so that what the kernel computes stays within 32 bits */
            }
            *(step < 0 ? &least[side] : &most[side]) += step * (count - 1);
        }
    }
    return least[0] >= 0 && most[0] < size[0] && least[1] >= 0 && most[1] < size[1];
}

typedef struct span {
    int32_t count, in_step, out_step;
} span;

static span span_at(const nsk_layer *l, uint32_t loop) {
    const uint8_t *at = l->loops + 4U * (NSK_M_LOOPS + 3U * loop);
    span r = {nsk_word(at, 0), nsk_word(at, 1), nsk_word(at, 2)};
    return r;
}

/* Where the next element stands in both tensors. */
typedef struct position {
    int32_t in, out;
} position;

static NSK_NOINLINE void copy_run(const int8_t *in, int8_t *out, position at, span r,
                                  const uint8_t *table) {
    for (; r.count > 0; r.count--) {
        out[at.out] = table != NULL ? (int8_t)table[in[at.in] + 128] : in[at.in];
        at.in += r.in_step;
        at.out += r.out_step;
    }
}

/* Steps to the next run: the innermost outer loop that has not ended goes on, those in it start
 * anew. False behind the last. */
static bool next_run(const nsk_layer *l, int32_t *done, position *at) {
    for (uint32_t loop = 1; loop < l->count; loop++) {
        span r = span_at(l, loop);
        if (++done[loop] < r.count) {
            at->in += r.in_step;
            at->out += r.out_step;
            return true;
        }
        done[loop] = 0;
        at->in -= r.in_step * (r.count - 1);
        at->out -= r.out_step * (r.count - 1);
    }
    return false;
}

static void run(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.offset;
    int8_t *out = workspace + l->out.offset;
    const uint8_t *table = (l->flags & NSK_FLAG_TABLE) != 0 ? l->table : NULL;
    position at = {nsk_word(l->loops, NSK_M_IN_ORIGIN), nsk_word(l->loops, NSK_M_OUT_ORIGIN)};
    int32_t done[NSK_MOST_LOOPS] = {0};
    if ((l->flags & NSK_FLAG_FILL) != 0) {
        memset(out, nsk_word(l->loops, NSK_M_FILL), nsk_tensor_elements(&l->out));
    }
    do {
        copy_run(in, out, at, span_at(l, 0), table);
    } while (next_run(l, done, &at));
}

const nsk_operation nsk_operation_copy = {check, run};
