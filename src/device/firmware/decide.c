/* From scores to actions. */
#include "../small.h"

#include <string.h>

#include "netsuke/firmware.h"

/* The likeliest line and how likely it and the next are, in units of 2^-30. */
typedef struct ranking {
    int best;
    uint32_t first, second;
} ranking;

static void rank(ranking *r, int line, uint32_t likely) {
    if (r->best == NSK_UNSURE || likely > r->first) {
        r->second = r->first;
        r->first = likely;
        r->best = line;
    } else if (likely > r->second) {
        r->second = likely;
    }
}

/* A score as a probability: one that is none, below 0, counts as that. */
static uint32_t chance(int32_t score) {
    return score > 0 ? (uint32_t)score : 0U;
}

static uint32_t likely(const nsk_rule *rule, const nsk_model *model, const int32_t *scores,
                       unsigned line) {
    uint32_t sum = 0;
    for (unsigned c = 0; c < model->classes; c++) {
        sum += rule->line_of[c] == line ? chance(scores[c]) : 0U;
        sum = sum < NSK_CERTAIN ? sum : NSK_CERTAIN;
    }
    return sum;
}

/* Each class is a question for itself: of those that are there, the one furthest above its
 * threshold. */
static int furthest(const nsk_rule *rule, const nsk_model *model, const int32_t *scores) {
    int best = rule->resting;
    uint32_t most = 0;
    for (unsigned c = 0; c < model->classes; c++) {
        int line = rule->line_of != NULL ? rule->line_of[c] : (int)c;
        uint32_t likely = chance(scores[c]);
        bool moves = line != rule->resting && (rule->line_of == NULL || line < rule->line_count);
        bool is_there = moves && likely >= rule->thresholds[c];
        if (is_there && (best == rule->resting || likely - rule->thresholds[c] > most)) {
            most = likely - rule->thresholds[c];
            best = line;
        }
    }
    return best;
}

int nsk_answer_of(const nsk_rule *rule, const nsk_model *model, const int32_t *scores) {
    ranking r = {NSK_UNSURE, 0, 0};
    if (rule->thresholds != NULL) {
        return furthest(rule, model, scores);
    }
    if (rule->line_of == NULL) {
        for (unsigned c = 0; c < model->classes; c++) {
            rank(&r, (int)c, chance(scores[c]));
        }
    } else {
        for (unsigned line = 0; line < rule->line_count; line++) {
            rank(&r, (int)line, likely(rule, model, scores, line));
        }
    }
    return r.first >= rule->threshold && r.first - r.second >= rule->margin ? r.best : NSK_UNSURE;
}

static void remember(nsk_decider *d, int answer) {
    bool same = d->filled > 0 && d->last == answer;
    d->run = !same ? 1U : d->run < 255U ? (uint8_t)(d->run + 1U) : d->run;
    d->recent[d->next % NSK_MOST_WINDOW] = (int16_t)answer; /* whatever became of `next` in RAM */
    d->next = (uint8_t)((d->next + 1U) % NSK_MOST_WINDOW);
    d->filled = d->filled < NSK_MOST_WINDOW ? (uint8_t)(d->filled + 1U) : d->filled;
    d->last = (int16_t)answer;
}

/* On how many of the last `window` frames that has been the answer. */
static unsigned count(const nsk_decider *d, unsigned window, int answer) {
    unsigned found = 0;
    for (unsigned i = 1; i <= window && i <= d->filled; i++) {
        found += d->recent[(d->next + NSK_MOST_WINDOW - i) % NSK_MOST_WINDOW] == answer;
    }
    return found;
}

int nsk_decide(nsk_decider *d, const nsk_rule *rule, const nsk_model *model,
               const int32_t *scores) {
    int answer = nsk_answer_of(rule, model, scores);
    remember(d, answer);
    unsigned held = rule->window > 0 ? count(d, rule->window, answer) : d->run;
    if (d->holding > 0) {
        d->holding--;
        return NSK_NOTHING;
    }
    if (answer == NSK_UNSURE || held < rule->frames || (d->has_standing && d->standing == answer)) {
        return NSK_NOTHING;
    }
    d->has_standing = true;
    d->standing = (int16_t)answer;
    if (answer == (int)rule->resting) {
        return NSK_NOTHING;
    }
    d->holding = rule->hold_off;
    return answer;
}

void nsk_decider_forget(nsk_decider *d) {
    uint8_t holding = d->holding;
    memset(d, 0, sizeof *d);
    d->holding = holding > 0 ? (uint8_t)(holding - 1U) : 0;
}
