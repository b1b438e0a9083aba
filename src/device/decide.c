#include "netsuke/device.h"

static void count_frame(nsk_decider *d, uint16_t best, bool sure) {
    if (!sure) {
        d->has_candidate = false;
        d->run = 0;
    } else if (d->has_candidate && d->candidate == best) {
        d->run = d->run < 255 ? (uint8_t)(d->run + 1) : d->run;
    } else {
        d->has_candidate = true;
        d->candidate = best;
        d->run = 1;
    }
}

int nsk_decide(nsk_decider *d, const nsk_rule *rule, const nsk_model *model, const int8_t *scores) {
    uint16_t best = (uint16_t)nsk_best(model, scores);
    count_frame(d, best, scores[best] >= rule->threshold);
    bool decided = d->has_candidate && d->run >= rule->frames;
    if (!decided || (d->has_standing && d->standing == best)) {
        return -1;
    }
    d->has_standing = true;
    d->standing = best;
    return best == rule->resting ? -1 : (int)best;
}
