/* estimate/state: a model on its board, and how near its answers are to the float network's. */
#ifndef NSK_ESTIMATE_STATE_H
#define NSK_ESTIMATE_STATE_H

#include "netsuke/finer.h"

/* What models are made with and judged by. */
typedef struct nsk_judge {
    const nsk_network *network; /* the answers that count */
    const nsk_images *calibration;
    const nsk_board *board;
    const nsk_product *product;
    const nsk_limits *limits;
    nsk_error *error;
} nsk_judge;

/* Quantises a network and measures the model on the calibration images; its budget, or NULL where
 * an error is set. nsk_budget_free. */
nsk_budget *nsk_judge_model(const nsk_judge *judge, const nsk_network *network,
                            const nsk_recipe *recipe, nsk_finer_state *state);

#endif
