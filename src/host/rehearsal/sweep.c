/* Other settings of the rule, on the scores that a rehearsal has left. */
#include <math.h>

#include "base/base.h"
#include "brief/labels.h"
#include "brief/rule.h"
#include "netsuke/rehearse.h"

/* Adds up what scenes come to, each for its time. */
static void add(nsk_figures *to, const nsk_figures *one) {
    to->events += one->events;
    to->missed += one->missed;
    to->longer += one->longer;
    to->longer_missed += one->longer_missed;
    to->actions += one->actions;
    to->right += one->right;
    to->false_actions += one->false_actions;
    to->worst_delay_frames = fmax(to->worst_delay_frames, one->worst_delay_frames);
    to->delay_frames += one->delay_frames * (one->events - one->missed);
    to->delay_seconds += one->delay_seconds * (one->events - one->missed);
}

static nsk_sweep_point try(nsk_rehearsal *const *rehearsals, const nsk_stage *stages, int count,
                           const nsk_decision *decision) {
    nsk_sweep_point p = {
        decision->threshold, decision->frames, decision->window, {0}, false, false};
    double hours = 0.0;
    for (int i = 0; i < count; i++) {
        nsk_model model;
        nsk_figures one;
        nsk_rule_lists lists;
        int *decided = g_new(int, rehearsals[i]->taken + 1);
        nsk_open(&model, stages[i].model->bytes, stages[i].model->size);
        nsk_rule rule = nsk_rule_of(decision, &model, &lists);
        nsk_rejudge(rehearsals[i], &stages[i], &rule, decided, &one);
        add(&p.figures, &one);
        hours += rehearsals[i]->frames / stages[i].board->frame_rate / 3600.0;
        g_free(decided);
    }
    int caught = MAX(p.figures.events - p.figures.missed, 1);
    p.figures.delay_frames /= caught;
    p.figures.delay_seconds /= caught;
    p.figures.missed_an_hour = p.figures.missed / hours;
    p.figures.false_an_hour = p.figures.false_actions / hours;
    return p;
}

static void mark_beaten(const nsk_sweep *sweep) {
    for (int i = 0; i < sweep->count; i++) {
        nsk_sweep_point *p = &sweep->points[i];
        for (int k = 0; k < sweep->count && !p->beaten; k++) {
            const nsk_figures *a = &sweep->points[k].figures;
            const nsk_figures *b = &p->figures;
            p->beaten = a->missed <= b->missed && a->false_actions <= b->false_actions &&
                        (a->missed < b->missed || a->false_actions < b->false_actions);
        }
    }
}

nsk_sweep *nsk_sweep_make(nsk_rehearsal *const *rehearsals, const nsk_stage *stages, int count) {
    static const double thresholds[] = {0.3, 0.4, 0.5, 0.6, 0.7, 0.8, 0.9, 0.95};
    static const int windows[][2] = {{1, 0}, {2, 0}, {3, 0}, {4, 0}, {2, 3}, {2, 4},
                                     {3, 4}, {3, 5}, {3, 6}, {4, 5}, {4, 6}};
    nsk_sweep *sweep = g_new0(nsk_sweep, 1);
    sweep->points = g_new0(nsk_sweep_point, 1 + G_N_ELEMENTS(windows) * G_N_ELEMENTS(thresholds));
    nsk_decision d = *stages[0].decision;
    sweep->points[sweep->count] = try(rehearsals, stages, count, &d);
    sweep->points[sweep->count++].own = true;
    for (size_t w = 0; w < G_N_ELEMENTS(windows); w++) {
        for (size_t t = 0; t < G_N_ELEMENTS(thresholds); t++) {
            d.threshold = thresholds[t];
            d.frames = windows[w][0];
            d.window = windows[w][1];
            sweep->points[sweep->count++] = try(rehearsals, stages, count, &d);
        }
    }
    mark_beaten(sweep);
    return sweep;
}

void nsk_sweep_free(nsk_sweep *sweep) {
    if (sweep != NULL) {
        g_free(sweep->points);
        g_free(sweep);
    }
}
