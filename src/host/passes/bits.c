#include "passes/bits.h"

#include <string.h>

#include "device/scratch.h"
#include "lower/lower.h"

/* What a layer says where weights are not packed is 0. */
static int packed_bits(int bits) {
    return bits >= 8 ? 0 : bits;
}

/* A scratch is no larger than this, and holds the weights of sixteen outputs beside a convolution's
 * windows. */
static int most_inputs(const nsk_lowered_layer *l) {
    enum { MOST_SCRATCH = 4 * UINT16_MAX };
    const int windows = l->kind == NSK_KIND_DENSE ? 0 : NSK_WIDENED + NSK_GATHERED;
    return MOST_SCRATCH / (windows + NSK_UNPACKED) / 4 * 4;
}

bool nsk_bits_can(const nsk_lowered_layer *l) {
    return (l->kind == NSK_KIND_DENSE || (l->kind == NSK_KIND_CONV && l->window.groups == 1)) &&
           l->taps <= most_inputs(l);
}

bool nsk_bits_usual(const nsk_lowered_layer *l) {
    return nsk_bits_can(l) &&
           (l->kind == NSK_KIND_DENSE || (l->window.kernel[0] == 1 && l->window.kernel[1] == 1));
}

/* The layer of that name that has weights, or NULL. */
static nsk_lowered_layer *find(const nsk_lowered *lowered, const char *name) {
    nsk_lowered_layer *found = NULL;
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        bool better = found == NULL || (found->weights == NULL && l->weights != NULL);
        found = strcmp(l->name, name) == 0 && better ? l : found;
    }
    return found;
}

static bool assign_one(const nsk_lowered *lowered, const nsk_bits_exception *e, nsk_error *error) {
    nsk_lowered_layer *l = find(lowered, e->layer);
    if (l == NULL) {
        return nsk_fail(error, "[bits] %s: no layer has this name; 'netsuke outline' lists them",
                        e->layer);
    }
    if (packed_bits(e->bits) > 0 && !nsk_bits_can(l)) {
        return nsk_fail(error,
                        "[bits] %s: only dense layers and convolutions of one group, between "
                        "tensors of 8 bits and with at most %d inputs, can have weights of fewer "
                        "than 8",
                        e->layer, most_inputs(l));
    }
    l->bits = packed_bits(e->bits);
    return true;
}

bool nsk_bits_assign(nsk_lowered *lowered, const nsk_recipe *recipe, nsk_error *error) {
    bool good = true;
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        l->bits = nsk_bits_usual(l) ? packed_bits(recipe->bits) : 0;
    }
    for (int i = 0; i < recipe->narrowed_count && good; i++) {
        good = assign_one(lowered, &recipe->narrowed[i], error);
    }
    return good && nsk_lowered_fit_scratch(lowered, error);
}
