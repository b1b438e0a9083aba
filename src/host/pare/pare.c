/* The ladder. */
#include <math.h>
#include <string.h>

#include "base/base.h"
#include "network/network.h"
#include "pare/step.h"
#include "pare/worth.h"
#include "pipeline/homes.h"
#include "refine/refine.h"

/* Distance by which channels go between two rounds of learning: 6 % of what is to fall. */
static const double STEP = 0.06;
/* Rounds of learning while it is pared. */
enum { EPOCHS_BETWEEN = 2 };

typedef struct parer {
    nsk_pare_ground ground;
    const nsk_paring *how;
    const nsk_network *original;
    nsk_lesson *lesson;
    nsk_network *now; /* what is left */
    nsk_price price;  /* of that */
    nsk_pare_goal last;
    double way; /* from the network as it was to the last goal */
    nsk_ladder *ladder;
    unsigned rounds;
    GTimer *timer;
} parer;

/* Of the way down. */
static double done_of(const parer *p) {
    return p->way > 0.0 ? fmax(1.0 - nsk_pare_distance(&p->price, &p->last) / p->way, 0.0) : 0.0;
}

static void tell(const parer *p, const char *format, ...) G_GNUC_PRINTF(2, 3);

static void tell(const parer *p, const char *format, ...) {
    va_list arguments;
    if (p->how->tell != NULL) {
        va_start(arguments, format);
        char *text = g_strdup_vprintf(format, arguments);
        va_end(arguments);
        p->how->tell(p->how->context, done_of(p), text);
        g_free(text);
    }
}

/* ---- learning ---- */

/* What is left learns for some epochs; it is the equalised copy from then on. */
static bool learn(parer *p, int epochs, nsk_refine_result *result) {
    nsk_recipe recipe = *p->ground.recipe;
    nsk_pipeline pipe;
    const nsk_refine_settings how = {.epochs = epochs,
                                     .rate = p->how->rate,
                                     .changes = p->how->changes,
                                     .seed = p->how->seed + p->rounds++,
                                     .result = result};
    recipe.equalise = true; /* so that the copy is there */
    bool good = nsk_pipeline_start(&pipe, p->now, p->ground.calibration, &recipe, p->ground.error);
    nsk_homes *homes = good ? nsk_homes_find(pipe.own->graph, p->ground.error) : NULL;
    if (homes != NULL) {
        const nsk_refine_subject subject = {p->original, pipe.lowered, pipe.own->graph, pipe.scales,
                                            nsk_homes_none(homes)};
        g_timer_continue(p->timer);
        good = nsk_refine_on(&subject, p->lesson, &how, p->ground.error);
        g_timer_stop(p->timer);
        p->ladder->gone_through += epochs * p->lesson->learning;
    }
    good = good && homes != NULL;
    if (good) {
        nsk_homes_bring_back(homes, pipe.lowered, pipe.own->graph);
        nsk_network_free(p->now);
        p->now = g_steal_pointer(&pipe.own);
    }
    nsk_homes_free(homes);
    nsk_pipeline_clear(&pipe);
    return good;
}

/* ---- taking channels out ---- */

/* The scales of the network's values; where `worth` is asked for, what each channel is worth. */
static bool weigh(const parer *p, const nsk_channels *channels, double **worth,
                  nsk_scale **scales) {
    nsk_pipeline pipe;
    nsk_recipe recipe = *p->ground.recipe;
    recipe.equalise = false; /* the graph's own channels are asked for */
    bool good = nsk_pipeline_start(&pipe, p->now, p->ground.calibration, &recipe, p->ground.error);
    *scales = good ? nsk_price_scales(&pipe) : NULL;
    if (good && worth != NULL) {
        *worth = nsk_worth_of(&pipe, channels, p->lesson, p->ground.error);
        good = *worth != NULL;
    }
    nsk_pipeline_clear(&pipe);
    return good;
}

static void tell_step(const parer *p, int cut, const nsk_refine_result *r) {
    tell(p,
         "%d channels out: %.1f ms, %.1f KiB of flash, %.1f KiB of RAM; loss %.3f, %d of %d right",
         cut, 1e3 * p->price.of[NSK_LIMIT_LATENCY], p->price.of[NSK_LIMIT_FLASH] / 1024.0,
         p->price.of[NSK_LIMIT_RAM] / 1024.0, r->loss[1], r->right[1], r->aside);
}

/* Takes channels out of what there is, towards the goal; how many. */
static bool cut(parer *p, const nsk_pare_goal *goal, int *count, bool *ended) {
    nsk_channels *channels = nsk_channels_find(p->now->graph);
    bool *gone = g_new0(bool, channels->count + 1);
    double *worth = NULL;
    nsk_scale *scales = NULL;
    bool good = weigh(p, channels, &worth, &scales) &&
                nsk_price_of(&p->ground, p->now->graph, scales, &p->price);
    const nsk_pare_scene scene = {&p->ground, p->now->graph, scales, channels, worth, goal};
    good = good && nsk_pare_choose(&scene, STEP, gone, &p->price, ended);
    *count = 0;
    for (int i = 0; i < channels->count; i++) {
        *count += gone[i];
    }
    if (good && *count > 0) {
        nsk_graph_cut(p->now->graph, channels, gone);
    }
    nsk_channels_free(channels);
    g_free(worth);
    g_free(scales);
    g_free(gone);
    return good;
}

/* One step towards the goal, and a round of learning behind it. */
static bool step(parer *p, const nsk_pare_goal *goal, bool *ended) {
    nsk_refine_result result;
    int count;
    if (!cut(p, goal, &count, ended)) {
        return false;
    }
    if (count > 0) {
        if (!learn(p, EPOCHS_BETWEEN, &result)) {
            return false;
        }
        tell_step(p, count, &result);
    }
    return true;
}

/* ---- rungs ---- */

/* Channels of what a node makes. */
static int channels_of(const nsk_graph *g, const char *node) {
    for (int i = 0; i < (int)g->nodes->len; i++) {
        const nsk_node *n = nsk_graph_node(g, i);
        if (!n->dead && strcmp(n->name, node) == 0) {
            return (int)nsk_graph_value(g, n->output)->dims[nsk_channels_axis(g, n)];
        }
    }
    return 0;
}

static void name_layers(const parer *p, nsk_rung *r) {
    nsk_graph *own = nsk_graph_copy(p->original->graph);
    nsk_graph_own_constants(own);
    nsk_channels *before = nsk_channels_find(own);
    r->layer = g_new0(nsk_rung_layer, before->sets + 1);
    for (int i = 0; i < before->sets; i++) {
        const char *name = before->sets_of[i].name;
        r->layer[r->layers++] = (nsk_rung_layer){g_strdup(name), channels_of(own, name),
                                                 channels_of(r->network->graph, name)};
    }
    nsk_channels_free(before);
    nsk_graph_free(own);
}

static void count(nsk_rung *r) {
    nsk_outline *o = nsk_network_outline(r->network);
    r->macs = o->macs;
    r->parameters = o->parameters;
    nsk_outline_free(o);
}

/* What is left is the ladder's next rung, by the usual way from a network to a model. */
static bool add_rung(parer *p, const nsk_network *network) {
    const nsk_pare_ground *g = &p->ground;
    nsk_rung *r = &p->ladder->rung[p->ladder->rungs++];
    r->network = nsk_network_copy(network);
    r->model = nsk_quantise(r->network, g->calibration, g->recipe, g->error);
    r->budget = r->model != NULL
                    ? nsk_budget_make(r->model, g->board, g->product, g->limits, g->error)
                    : NULL;
    r->comparison = r->budget != NULL
                        ? nsk_compare(p->original, r->model, p->how->judged, NULL, NULL, g->error)
                        : NULL;
    if (r->comparison == NULL) {
        return false;
    }
    name_layers(p, r);
    count(r);
    r->fits = true;
    for (int i = 0; i < NSK_BUDGET_LIMITS; i++) {
        r->holds[i] = nsk_price_taken(r->budget, i) <= r->budget->limits[i].limit;
        r->fits = r->fits && r->holds[i];
    }
    if (r->fits && p->ladder->first == NSK_NO_RUNG) {
        p->ladder->first = p->ladder->rungs - 1;
    }
    tell(p, "rung %d: %.1f ms, %.1f KiB of flash, %.1f KiB of RAM; %d of %d right",
         p->ladder->rungs, 1e3 * r->budget->seconds, r->budget->flash / 1024.0,
         r->budget->ram / 1024.0, r->comparison->integer_correct, r->comparison->images);
    return true;
}

/* Where limits do not hold, how far down each is by the last step: there by the last but one, and
 * as far again. Where all hold, a third of the time. */
static nsk_pare_goal goal_at_last(const nsk_ladder *l, int steps) {
    const nsk_rung *first = &l->rung[0];
    nsk_pare_goal goal;
    for (int i = 0; i < NSK_BUDGET_LIMITS; i++) {
        const double limit = first->budget->limits[i].limit;
        const double taken = nsk_price_taken(first->budget, i);
        const double beyond = steps > 1 ? pow(limit / taken, 1.0 / (steps - 1)) : 1.0;
        goal.at_most[i] = first->holds[i] ? INFINITY : limit * beyond;
    }
    if (first->fits) {
        goal.at_most[NSK_LIMIT_LATENCY] = nsk_price_taken(first->budget, NSK_LIMIT_LATENCY) / 3.0;
    }
    return goal;
}

/* What the next of so many steps is to reach, by equal ratios from what there is; the last but one,
 * where limits do not hold, each of them. */
static nsk_pare_goal next_goal(const parer *p, int left) {
    const nsk_rung *first = &p->ladder->rung[0];
    nsk_pare_goal goal = p->last;
    for (int i = 0; i < NSK_BUDGET_LIMITS; i++) {
        const double limit = first->budget->limits[i].limit;
        const double now = p->price.of[i];
        if (isinf(goal.at_most[i])) {
            continue;
        }
        const bool past = first->holds[i] || now <= limit || left == 1;
        const double to = past ? goal.at_most[i] : limit;
        const int steps = past ? left : left - 1;
        goal.at_most[i] = now > to ? now * pow(to / now, 1.0 / steps) : now;
    }
    return goal;
}

/* Down to a goal, and a rung there. */
static bool descend(parer *p, nsk_pare_goal goal) {
    bool ended = false;
    bool good = true;
    do {
        good = step(p, &goal, &ended);
    } while (good && !ended && nsk_pare_distance(&p->price, &goal) > 0.0);
    p->ladder->ended = ended;
    nsk_refine_result result;
    return good && learn(p, p->how->epochs, &result) && add_rung(p, p->now);
}

/* With one channel left of each set. */
static bool find_floor(const parer *p, const nsk_scale *scales, nsk_price *floor) {
    nsk_channels *channels = nsk_channels_find(p->now->graph);
    bool *gone = g_new0(bool, channels->count + 1);
    bool *kept = g_new0(bool, channels->sets + 1);
    for (int i = 0; i < channels->count; i++) {
        const int set = channels->set[i];
        gone[i] = kept[set] || channels->sets_of[set].stay > 0;
        kept[set] = true;
    }
    const bool good = nsk_price_without(&p->ground, p->now->graph, scales, channels, gone, floor);
    nsk_channels_free(channels);
    g_free(gone);
    g_free(kept);
    return good;
}

/* Whether limits can be met at all: what stands around a network is not pared. */
static bool can_be_met(const parer *p, const nsk_price *floor) {
    static const char *const words[NSK_BUDGET_LIMITS] = {"flash, KiB", "RAM, KiB", "time, ms"};
    static const double units[NSK_BUDGET_LIMITS] = {1024.0, 1024.0, 1e-3};
    for (int i = 0; i < NSK_BUDGET_LIMITS; i++) {
        const nsk_budget_limit *l = &p->ladder->rung[0].budget->limits[i];
        if (!p->ladder->rung[0].holds[i] && floor->of[i] > l->limit) {
            return nsk_fail(p->ground.error,
                            "with one channel left in each layer it would still take more than the "
                            "limit (%s): %.1f of %.1f; what is around the network takes most of "
                            "it: raise the limit, or see 'netsuke budget'",
                            words[i], floor->of[i] / units[i], l->limit / units[i]);
        }
    }
    return true;
}

/* What the network takes as it is, and how far down it is to go. */
static bool look_down(parer *p) {
    nsk_price floor;
    nsk_scale *scales = NULL;
    bool good = weigh(p, NULL, NULL, &scales) &&
                nsk_price_of(&p->ground, p->now->graph, scales, &p->price) &&
                find_floor(p, scales, &floor) && can_be_met(p, &floor);
    g_free(scales);
    p->last = goal_at_last(p->ladder, p->how->rungs - 1);
    p->way = good ? nsk_pare_distance(&p->price, &p->last) : 0.0;
    return good;
}

static bool descend_all(parer *p) {
    const int steps = p->how->rungs - 1;
    bool good = look_down(p);
    for (int k = 0;
         k < steps && good && nsk_pare_distance(&p->price, &p->last) > 0.0 && !p->ladder->ended;
         k++) {
        good = descend(p, next_goal(p, steps - k));
    }
    return good;
}

/* ---- the whole ---- */

static bool can_pare(const parer *p) {
    nsk_error *error = p->ground.error;
    if (nsk_network_carried_levels(p->original) > 0) {
        return nsk_fail(error,
                        "%s: its weights are integers already; pare the float network that "
                        "they come from",
                        p->original->path);
    }
    nsk_channels *channels = nsk_channels_find(p->now->graph);
    const int count = channels->count;
    const char *tied_by = channels->tied_by;
    nsk_channels_free(channels);
    if (count > 0) {
        return true;
    }
    return tied_by != NULL
               ? nsk_fail(error, "%s: no channel can be taken out: layer '%s' ties them",
                          p->original->path, tied_by)
               : nsk_fail(error, "%s: it has no layer whose channels could be taken out",
                          p->original->path);
}

nsk_ladder *nsk_pare(const nsk_network *network, const nsk_images *calibration,
                     const nsk_recipe *recipe, const nsk_board *board, const nsk_product *product,
                     const nsk_limits *limits, const nsk_paring *how, nsk_error *error) {
    nsk_recipe plain = *recipe;
    plain.refine = NULL;
    plain.progress = NULL;
    parer p = {.ground = {network, calibration, &plain, board, product, limits, error},
               .how = how,
               .original = network,
               .now = nsk_network_copy(network),
               .ladder = g_new0(nsk_ladder, 1),
               .timer = g_timer_new()};
    g_timer_stop(p.timer);
    g_timer_reset(p.timer);
    p.ladder->rung = g_new0(nsk_rung, how->rungs);
    p.ladder->first = NSK_NO_RUNG;
    nsk_graph_own_constants(p.now->graph);
    p.lesson = can_pare(&p) ? nsk_lesson_new(network, how->training, how->trust, error) : NULL;
    bool good = p.lesson != NULL && add_rung(&p, network) && descend_all(&p);
    p.ladder->pictures = p.lesson != NULL ? p.lesson->learning : 0;
    p.ladder->aside = p.lesson != NULL ? p.lesson->count - p.lesson->learning : 0;
    p.ladder->seconds = g_timer_elapsed(p.timer, NULL);
    nsk_lesson_free(p.lesson);
    nsk_network_free(p.now);
    g_timer_destroy(p.timer);
    if (!good) {
        g_clear_pointer(&p.ladder, nsk_ladder_free);
    }
    return p.ladder;
}

void nsk_ladder_free(nsk_ladder *l) {
    for (int i = 0; l != NULL && i < l->rungs; i++) {
        nsk_rung *r = &l->rung[i];
        for (int k = 0; k < r->layers; k++) {
            g_free(r->layer[k].name);
        }
        g_free(r->layer);
        nsk_comparison_free(r->comparison);
        nsk_budget_free(r->budget);
        nsk_model_file_free(r->model);
        nsk_network_free(r->network);
    }
    if (l != NULL) {
        g_free(l->rung);
        g_free(l);
    }
}
