#include "estimate/state.h"

#include "base/base.h"
#include "netsuke/compare.h"

nsk_budget *nsk_judge_model(const nsk_judge *j, const nsk_network *network,
                            const nsk_recipe *recipe, nsk_finer_state *state) {
    nsk_model_file *file = nsk_quantise(network, j->calibration, recipe, j->error);
    nsk_budget *b =
        file != NULL ? nsk_budget_make(file, j->board, j->product, j->limits, j->error) : NULL;
    nsk_comparison *r =
        b != NULL ? nsk_compare(j->network, file, j->calibration, NULL, NULL, j->error) : NULL;
    if (r != NULL) {
        *state = (nsk_finer_state){r->agree, r->odds, b->seconds, b->ram, b->flash};
    } else {
        g_clear_pointer(&b, nsk_budget_free);
    }
    nsk_comparison_free(r);
    nsk_model_file_free(file);
    return b;
}
