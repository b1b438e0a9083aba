/* stream: the first layers of a model can run a few rows at a time, as the frame's rows come in.
 * Each of their tensors then holds only the rows that are still wanted.
 *
 * A step takes model->band rows of the frame. Each layer makes the rows that can be made by now, a
 * piece at a time; then what no layer wants any more is dropped, and what remains moves up to the
 * tensor's start.
 * All of this follows from shapes alone, so that nsk_open can go through every step beforehand. */
#ifndef NSK_DEVICE_STREAM_H
#define NSK_DEVICE_STREAM_H

#include "layer.h"

/* How the rows of a layer's output hang on those of its inputs: output row y needs input rows from
 * y x stride - pad on, `reach` of them, as far as they lie in the picture. */
typedef struct nsk_link {
    uint32_t in, second, out; /* tensors; `second` is `in` where there is one input only */
    int32_t stride, pad, reach;
    int32_t in_height, out_height;
} nsk_link;

/* Rows of the output that can be made from the first `there` rows of the input. */
static inline int32_t nsk_link_makes(const nsk_link *k, int32_t there) {
    if (there >= k->in_height) {
        return k->out_height;
    }
    int32_t spare = there + k->pad - k->reach;
    int32_t rows = spare < 0 ? 0 : spare / k->stride + 1;
    return rows < k->out_height ? rows : k->out_height;
}

/* The first input row that output rows from `row` on need. */
static inline int32_t nsk_link_wants(const nsk_link *k, int32_t row) {
    int32_t first = row * k->stride - k->pad;
    return row >= k->out_height || first > k->in_height ? k->in_height : first < 0 ? 0 : first;
}

/* The rows that a layer makes at a time: its share of a band. At the frame's end, where padding
 * gives more than that at once, it takes several turns, so that no tensor needs room for all of it.
 */
static inline int32_t nsk_link_piece(const nsk_link *k, int32_t band, int32_t frame_height) {
    int64_t rows = ((int64_t)band * k->out_height + frame_height - 1) / frame_height;
    return rows < k->out_height ? (int32_t)rows : k->out_height;
}

/* One turn of a layer: the rows of its output that are made at its end, where `made` were before
 * and its inputs have `there` by now. Sets *all to false where it could make more. Planning on the
 * host and running on the device both go by this. */
static inline int32_t nsk_link_turn(const nsk_link *k, int32_t there, int32_t made, int32_t band,
                                    int32_t frame_height, bool *all) {
    int32_t can = nsk_link_makes(k, there);
    int32_t most = made + nsk_link_piece(k, band, frame_height);
    *all = *all && can <= most;
    return can < most ? can : most;
}

/* Whether layers of this kind can run row by row. */
bool nsk_kind_is_streamed(nsk_kind kind);

/* Called for each piece of work, in order: the layer as if it were one of these rows only. */
typedef void nsk_piece_visitor(void *context, unsigned index, const nsk_layer *piece);

/* Goes through a whole frame without running anything. `carried` counts bytes that move up; it may
 * be NULL. */
void nsk_stream_walk(const nsk_model *model, nsk_piece_visitor *visit, void *context,
                     uint64_t *carried);

#endif
