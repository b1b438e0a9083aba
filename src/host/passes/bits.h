/* passes/bits: which layers' weights have fewer than 8 bits in flash. */
#ifndef NSK_PASSES_BITS_H
#define NSK_PASSES_BITS_H

#include "lowered/lowered.h"
#include "netsuke/brief.h"

/* Whether a layer's weights can be packed: a dense layer, or a convolution of one group, that is
 * not fine, and whose scratch has room for those of sixteen outputs; and whether the recipe's
 * number for all is meant for it: one of single pixels.
 */
bool nsk_bits_can(const nsk_lowered_layer *layer);
bool nsk_bits_usual(const nsk_lowered_layer *layer);

/* Sets `bits` of all layers by the recipe, and the scratch that comes with it. False, with a
 * message, where it names a layer that there is not, or that cannot. */
bool nsk_bits_assign(nsk_lowered *lowered, const nsk_recipe *recipe, nsk_error *error);

#endif
