/* Elements to other places: transposition, slice, concatenation, margin, repetition; and tensors
 * that come out of the model file. */
#include <string.h>

#include "format.h"
#include "layer.h"

typedef struct run {
    int32_t count, in_step, out_step;
} run;

static run run_at(const nsk_layer *l, uint32_t loop) {
    const uint8_t *at = l->multipliers + 4U * (NSK_M_LOOPS + 3U * loop);
    run r = {nsk_word(at, 0), nsk_word(at, 1), nsk_word(at, 2)};
    return r;
}

/* Where the next element stands in both tensors. */
typedef struct position {
    int32_t in, out;
} position;

static NSK_APART void copy_run(const int8_t *in, int8_t *out, position at, run r,
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
        run r = run_at(l, loop);
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

void nsk_move(const nsk_layer *l, int8_t *workspace) {
    const int8_t *in = workspace + l->in.place;
    int8_t *out = workspace + l->out.place;
    const uint8_t *table = (l->flags & NSK_FLAG_TABLE) != 0 ? l->weights : NULL;
    position at = {nsk_word(l->multipliers, NSK_M_IN_ORIGIN),
                   nsk_word(l->multipliers, NSK_M_OUT_ORIGIN)};
    int32_t done[NSK_MOST_LOOPS] = {0};
    if ((l->flags & NSK_FLAG_FILL) != 0) {
        memset(out, nsk_word(l->multipliers, NSK_M_FILL), nsk_tensor_bytes(&l->out));
    }
    do {
        copy_run(in, out, at, run_at(l, 0), table);
    } while (next_run(l, done, &at));
}

void nsk_constant(const nsk_layer *l, int8_t *workspace) {
    memcpy(workspace + l->out.place, l->weights, nsk_tensor_bytes(&l->out));
}
