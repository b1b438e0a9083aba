/* brief/rule: what a brief says of the product, as the firmware takes it. */
#ifndef NSK_BRIEF_RULE_H
#define NSK_BRIEF_RULE_H

#include "base/base.h"
#include "netsuke/brief.h"
#include "netsuke/firmware.h"

/* The rule of a brief for a model; `line_of` is the memory for its groups, one a class. */
nsk_rule nsk_rule_of(const nsk_decision *decision, const nsk_model *model, uint8_t *line_of);
/* The whole of it, for the model's own bytes. */
nsk_firmware nsk_firmware_of(const nsk_product *product, const nsk_decision *decision,
                             const nsk_model *model, uint8_t *line_of);
/* The class for 'nothing there', or -1. */
int nsk_resting_class(const nsk_decision *decision, const nsk_model *model);

#endif
