/* check: what the checks of several kinds of layer have in common. Each kind's own check stands
 * beside its kernel. */
#ifndef NSK_DEVICE_CHECK_H
#define NSK_DEVICE_CHECK_H

#include "scratch.h"

/* So many bytes at `at` lie in the file behind its header, on a multiple of `alignment`. */
bool nsk_lies_inside(const nsk_model *model, const uint8_t *at, uint32_t bytes, uint32_t alignment);

/* The k-th multiplier and shift are what nsk_rescale takes. */
bool nsk_multiplier_is_good(const nsk_layer *layer, uint32_t k);
bool nsk_check_multipliers(const nsk_model *model, const nsk_layer *layer, uint32_t multipliers,
                           uint32_t shifts);

static inline bool nsk_same_size(const nsk_tensor *a, const nsk_tensor *b) {
    return a->height == b->height && a->width == b->width && a->channels == b->channels;
}

/* The second of two inputs is as large as the first, or one pixel that meets every pixel of it, or
 * one number. */
static inline bool nsk_pair_is_good(const nsk_layer *l) {
    bool one_pixel = l->second.height == 1 && l->second.width == 1 &&
                     (l->second.channels == l->in.channels || l->second.channels == 1);
    return l->has_second && nsk_same_size(&l->in, &l->out) &&
           (nsk_same_size(&l->in, &l->second) || one_pixel);
}

/* The kernels leave out what a window has outside the picture, so any window is safe; one that
 * cannot be meant is refused all the same. */
bool nsk_window_is_good(const nsk_layer *layer);

/* The scratch, of so many bytes, lies in the workspace, at a multiple of four. */
bool nsk_scratch_is_good(const nsk_model *model, const nsk_layer *layer, uint64_t bytes);

/* How the weights of a layer stand: those of output c from c x `start` on, `taps` of them, `step`
 * apart, and `fill` more, which are zero: what they meet is anything. `reach`: the largest that a
 * weight can meet. */
typedef struct nsk_weights_form {
    uint32_t start, step, taps, fill;
    int32_t reach;
} nsk_weights_form;

/* Weights from -127 to 127, and what requantisees all outputs; and the bias and all |weight| x
 * reach of each stay within NSK_SUM_MOST, in whatever order they are added. */
bool nsk_check_weights(const nsk_model *model, const nsk_layer *layer,
                       const nsk_weights_form *form);

/* Weights in blocks (blocked.h): where the one of output c and a tap stands, from the first of a
 * group on. */
enum nsk_block_sizes { NSK_BLOCK = 16 };
uint32_t nsk_blocked_place(uint32_t outputs, uint32_t row, uint32_t c, uint32_t tap);

/* Weights in pairs (paired.h). Neither sum of a pair may be larger, bias included. */
#define NSK_PAIRED_MOST ((INT32_C(1) << 23) - 1)

/* Of tap i of a pair's rows: where its half word stands; the first output's weight, or the
 * second's. */
static inline uint32_t nsk_paired_place(uint32_t tap) {
    const uint32_t in_four = tap % 4U;
    return 2U * (tap - in_four + (in_four == 0 || in_four == 3U ? in_four : 3U - in_four));
}
int32_t nsk_paired_weight(const int8_t *pair, uint32_t tap, bool second);

/* No layer reads what a scratch, or nobody, has left there, nor writes over what it still reads:
 * overlap.c. All else has been checked before.
 * Only with -DNSK_CHECK_PLANS. */
bool nsk_overlaps_are_good(const nsk_model *model);

#endif
