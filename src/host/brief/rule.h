/* brief/rule: what a brief says of the product, as the firmware takes it. */
#ifndef NSK_BRIEF_RULE_H
#define NSK_BRIEF_RULE_H

#include "brief/labels.h"
#include "netsuke/brief.h"
#include "netsuke/firmware.h"

/* What a rule, and the firmware, point to; of classes one each. */
typedef struct nsk_rule_lists {
    uint8_t line_of[NSK_MOST_LABELS];
    uint32_t thresholds[NSK_MOST_LABELS];
    nsk_sensing sensing;
} nsk_rule_lists;

/* The rule of a brief for a model; `lists` must outlive it. */
nsk_rule nsk_rule_of(const nsk_decision *decision, const nsk_model *model, nsk_rule_lists *lists);
/* The whole of it, for the model's own bytes. */
nsk_firmware nsk_firmware_of(const nsk_product *product, const nsk_decision *decision,
                             const nsk_model *model, nsk_rule_lists *lists);
/* The class for 'nothing there', or -1. */
int nsk_resting_class(const nsk_decision *decision, const nsk_model *model);

#endif
