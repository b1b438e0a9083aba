#include "rehearsal/figures.h"
#include "base/base.h"
#include "brief/rule.h"

#include <math.h>
#include <string.h>

int nsk_line_of_class(const nsk_decision *d, const nsk_model *model, int class_index) {
    if (class_index >= model->classes) {
        return -1; /* none of several labels */
    }
    if (d->lines > 0) {
        return d->line_of[class_index];
    }
    return class_index == nsk_resting_class(d, model) ? -1 : class_index;
}

/* Frames on end with one truth are an event, where that truth moves a line. `event_at`: of each
 * frame the last event or other known truth up to it, -1 for the latter. */
static GArray *find_events(const nsk_stage *stage, const nsk_model *model, int *event_at) {
    GArray *events = g_array_new(FALSE, FALSE, sizeof(nsk_event));
    int before = NSK_NOBODY_KNOWS;
    int now = -1;
    for (int f = 0; f < nsk_film_frames(stage->film); f++) {
        int truth = nsk_film_truth(stage->film, f);
        if (truth != NSK_NOBODY_KNOWS && truth != before) {
            int line = nsk_line_of_class(stage->decision, model, truth);
            const nsk_event fresh = {f, f, truth, line, -1};
            now = line >= 0 ? (int)events->len : -1;
            if (line >= 0) {
                g_array_append_val(events, fresh);
            }
        } else if (truth != NSK_NOBODY_KNOWS && now >= 0) {
            g_array_index(events, nsk_event, now).last = f;
        }
        event_at[f] = now;
        before = truth;
    }
    return events;
}

static void count_events(const nsk_rehearsal *r, const nsk_stage *stage, const GArray *events,
                         nsk_figures *to) {
    double delays = 0.0;
    double waits = 0.0;
    int caught = 0;
    for (guint i = 0; i < events->len && events->data != NULL; i++) {
        const nsk_event *e = &g_array_index(events, nsk_event, i);
        bool longer = e->last - e->first + 1 > NSK_LONG;
        to->longer += longer;
        if (e->caught < 0) {
            to->missed++;
            to->longer_missed += longer;
            continue;
        }
        const nsk_rehearsed *a = &r->answers[e->caught];
        double frames = a->frame - e->first;
        delays += frames;
        waits += a->answered - e->first / stage->board->frame_rate;
        to->worst_delay_frames = fmax(to->worst_delay_frames, frames);
        caught++;
    }
    to->events = (int)events->len;
    to->delay_frames = caught > 0 ? delays / caught : 0.0;
    to->delay_seconds = caught > 0 ? waits / caught : 0.0;
}

/* Decisions beside events. */
static GArray *judge(const nsk_rehearsal *r, const nsk_stage *stage, const int *decided,
                     nsk_figures *to) {
    nsk_model model;
    nsk_open(&model, stage->model->bytes, stage->model->size);
    int *event_at = g_new(int, r->frames + 1);
    GArray *events = find_events(stage, &model, event_at);
    *to = (nsk_figures){0};
    for (int i = 0; i < r->taken; i++) {
        if (decided[i] < 0) {
            continue;
        }
        int at = event_at[r->answers[i].frame];
        nsk_event *e = at >= 0 ? &g_array_index(events, nsk_event, at) : NULL;
        bool right = e != NULL && e->line == decided[i] && e->caught < 0;
        if (e != NULL && right) {
            e->caught = i;
        }
        to->actions++;
        to->right += right;
        to->false_actions += !right;
    }
    count_events(r, stage, events, to);
    double hours = r->frames / stage->board->frame_rate / 3600.0;
    to->missed_an_hour = to->missed / hours;
    to->false_an_hour = to->false_actions / hours;
    g_free(event_at);
    return events;
}

void nsk_judge(nsk_rehearsal *r, const nsk_stage *stage) {
    int *decided = g_new(int, r->taken + 1);
    for (int i = 0; i < r->taken; i++) {
        decided[i] = r->answers[i].decided;
    }
    GArray *events = judge(r, stage, decided, &r->figures);
    r->event = (nsk_event *)(void *)g_array_free(events, FALSE);
    g_free(decided);
}

void nsk_rejudge(const nsk_rehearsal *r, const nsk_stage *stage, const nsk_rule *rule, int *decided,
                 nsk_figures *figures) {
    nsk_model model;
    nsk_decider decider = {.next = 0};
    nsk_open(&model, stage->model->bytes, stage->model->size);
    for (int i = 0; i < r->taken; i++) {
        if (r->answers[i].fault != NSK_FAULT_NONE) {
            nsk_decider_forget(&decider);
            decided[i] = NSK_NOTHING;
        } else {
            decided[i] = nsk_decide(&decider, rule, &model, r->scores + (size_t)i * model.classes);
        }
    }
    g_array_free(judge(r, stage, decided, figures), TRUE);
}
