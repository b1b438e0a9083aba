#include "pare/step.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

double nsk_pare_distance(const nsk_price *price, const nsk_pare_goal *goal) {
    double distance = 0.0;
    for (int i = 0; i < NSK_BUDGET_LIMITS; i++) {
        distance += fmax(log(price->of[i] / goal->at_most[i]), 0.0);
    }
    return distance;
}

typedef struct chooser {
    const nsk_pare_scene *scene;
    const nsk_channels *channels; /* the scene's */
    int *ranked;                  /* channels, set by set, those worth least first */
    int *first;                   /* of each set among them, one more at the end */
    int *taken;                   /* from the front of each set */
    nsk_price price;
    GArray *choices; /* what may go next, and what came of asking, now or some picks ago */
} chooser;

/* Kernels take outputs by four, or by two: the widths that are tried, besides larger steps of wide
 * layers. */
static const int units[] = {16, 4, 2, 1};
enum { UNITS = G_N_ELEMENTS(units), WIDE = 128 };
/* Of a set in one step at most: what channels are worth without each other is not their sum. */
enum { MOST_PARTS = 4, MOST_AT_LEAST = 4 };

/* How many go to the next width of that unit; 0: none may. One stays. */
static int next_fewer(const chooser *c, int set, int unit) {
    const nsk_channel_set *s = &c->channels->sets_of[set];
    const int left = s->size - c->taken[set];
    const int width = left + s->stay;
    const int fewer = width - (width - 1) / unit * unit;
    const int most = MAX((s->size + s->stay) / MOST_PARTS, MOST_AT_LEAST);
    const bool may = fewer < width && fewer <= left && c->taken[set] + fewer <= most &&
                     (unit < 2 || width > unit) && (unit > 1 || width <= 4) &&
                     (unit < units[0] || width > WIDE);
    return may ? fewer : 0;
}

static void mark(const chooser *c, const int *taken, bool *gone) {
    memset(gone, 0, (size_t)c->channels->count * sizeof *gone);
    for (int s = 0; s < c->channels->sets; s++) {
        for (int i = 0; i < taken[s]; i++) {
            gone[c->ranked[c->first[s] + i]] = true;
        }
    }
}

/* With so many taken of each set, instead of what is taken now: what it would gain, and cost. */
typedef struct trial {
    nsk_price price;
    double gain, worth;
} trial;

static bool try_taken(const chooser *c, const int *taken, trial *t, nsk_error *error) {
    bool *gone = g_new0(bool, c->channels->count + 1);
    nsk_pare_ground ground = *c->scene->ground;
    ground.error = error;
    mark(c, taken, gone);
    const bool good =
        nsk_price_without(&ground, c->scene->graph, c->scene->scales, c->channels, gone, &t->price);
    t->gain = good ? nsk_pare_distance(&c->price, c->scene->goal) -
                         nsk_pare_distance(&t->price, c->scene->goal)
                   : 0.0;
    t->worth = 0.0;
    for (int s = 0; s < c->channels->sets; s++) {
        for (int i = c->taken[s]; i < taken[s]; i++) {
            t->worth += c->scene->worth[c->ranked[c->first[s] + i]];
        }
    }
    g_free(gone);
    return good;
}

/* Some of a set, and what comes of it. */
typedef struct choice {
    int set, unit, fewer;
    bool good;
    bool fresh; /* asked since something was taken last */
    nsk_error error;
    trial trial;
} choice;

static choice *choice_at(const chooser *c, guint index) {
    return &g_array_index(c->choices, choice, index);
}

static void ask(const chooser *c, choice *now) {
    now->fewer = next_fewer(c, now->set, now->unit);
    now->good = true;
    now->fresh = true;
    now->trial = (trial){.gain = 0.0};
    if (now->fewer > 0) {
        int *taken = g_memdup2(c->taken, (gsize)c->channels->sets * sizeof *taken);
        taken[now->set] += now->fewer;
        now->good = try_taken(c, taken, &now->trial, &now->error);
        g_free(taken);
    }
}

/* Of all of them; their places in the list count, not who is done first. */
static void ask_all(const chooser *c) {
    g_array_set_size(c->choices, 0);
    for (int i = 0; i < c->channels->sets * UNITS; i++) {
        const choice now = {.set = i / UNITS, .unit = units[i % UNITS]};
        g_array_append_val(c->choices, now);
    }
#pragma omp parallel for schedule(dynamic, 1)
    for (int i = 0; i < (int)c->choices->len; i++) {
        ask(c, choice_at(c, (guint)i));
    }
}

/* By what is known of them, those that are worth least by what they gain; NULL: none gains. */
static choice *find_cheapest(const chooser *c) {
    choice *best = NULL;
    for (guint i = 0; i < c->choices->len; i++) {
        choice *now = choice_at(c, i);
        const trial *t = &now->trial;
        if (now->good && t->gain > 1e-6 &&
            (best == NULL || t->worth * best->trial.gain < best->trial.worth * t->gain)) {
            best = now;
        }
    }
    return best;
}

/* Gains change little when channels of other sets go: what was asked before is believed until it
 * comes first, and asked again then. NULL where nothing gains, or an error is set. */
static choice *choose(const chooser *c, bool *good) {
    choice *best = find_cheapest(c);
    bool all_fresh = false;
    *good = true;
    while (*good && (best == NULL ? !all_fresh : !best->fresh)) {
        all_fresh = best == NULL;
        if (all_fresh) {
            ask_all(c);
        } else {
            ask(c, best);
        }
        best = find_cheapest(c);
        for (guint i = 0; i < c->choices->len && *good; i++) {
            *good = choice_at(c, i)->good;
            if (!*good) {
                *c->scene->ground->error = choice_at(c, i)->error;
            }
        }
    }
    return *good ? best : NULL;
}

/* Where no set by itself gains anything, as several tensors make the most of RAM together: the next
 * channels of all. */
static bool take_of_all(chooser *c, bool *gained) {
    int *taken = g_memdup2(c->taken, (gsize)c->channels->sets * sizeof *taken);
    trial t;
    for (int s = 0; s < c->channels->sets; s++) {
        int fewer = 0;
        for (int i = 0; i < UNITS && fewer == 0; i++) {
            fewer = next_fewer(c, s, units[i]);
        }
        taken[s] += fewer;
    }
    const bool good = try_taken(c, taken, &t, c->scene->ground->error);
    *gained = good && t.gain > 1e-6;
    if (*gained) {
        memcpy(c->taken, taken, (size_t)c->channels->sets * sizeof *taken);
        c->price = t.price;
    }
    g_free(taken);
    return good;
}

/* Some channels; false where an error is set. */
static bool take(chooser *c, bool *gained) {
    bool good;
    const choice *best = choose(c, &good);
    if (good && best == NULL) {
        return take_of_all(c, gained);
    }
    if (good) {
        c->taken[best->set] += best->fewer;
        c->price = best->trial.price;
        *gained = true;
    }
    for (guint i = 0; i < c->choices->len; i++) {
        choice_at(c, i)->fresh = false;
    }
    return good;
}

typedef struct ranking {
    double worth;
    int set, channel;
} ranking;

static int by_set_and_worth(const void *one, const void *other) {
    const ranking *a = one;
    const ranking *b = other;
    if (a->set != b->set) {
        return a->set < b->set ? -1 : 1;
    }
    if (a->worth < b->worth || b->worth < a->worth) {
        return a->worth < b->worth ? -1 : 1;
    }
    return a->channel < b->channel ? -1 : 1;
}

static void rank(chooser *c) {
    const int count = c->channels->count;
    ranking *all = g_new(ranking, count + 1);
    for (int i = 0; i < count; i++) {
        all[i] = (ranking){c->scene->worth[i], c->channels->set[i], i};
    }
    qsort(all, (size_t)count, sizeof *all, by_set_and_worth);
    for (int i = 0; i < count; i++) {
        c->ranked[i] = all[i].channel;
    }
    for (int s = 0, at = 0; s < c->channels->sets; s++) {
        c->first[s] = at;
        at += c->channels->sets_of[s].size;
    }
    g_free(all);
}

bool nsk_pare_choose(const nsk_pare_scene *scene, double by, bool *gone, nsk_price *price,
                     bool *ended) {
    const nsk_channels *channels = scene->channels;
    chooser c = {.scene = scene,
                 .channels = channels,
                 .ranked = g_new0(int, channels->count + 1),
                 .first = g_new0(int, channels->sets + 1),
                 .taken = g_new0(int, channels->sets + 1),
                 .price = *price,
                 .choices = g_array_new(FALSE, TRUE, sizeof(choice))};
    const double before = nsk_pare_distance(price, scene->goal);
    bool good = true;
    bool gained = true;
    rank(&c);
    while (good && gained && nsk_pare_distance(&c.price, scene->goal) > fmax(before - by, 0.0)) {
        good = take(&c, &gained);
    }
    mark(&c, c.taken, gone);
    *price = c.price;
    *ended = !gained && !(nsk_pare_distance(price, scene->goal) < before);
    g_array_free(c.choices, TRUE);
    g_free(c.ranked);
    g_free(c.first);
    g_free(c.taken);
    return good;
}
