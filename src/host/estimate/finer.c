/* Sixteen bits where they pay: layers tried in the order of gain over cost, each measured. */
#include "netsuke/finer.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "base/base.h"
#include "estimate/state.h"
#include "netsuke/drift.h"
#include "network/network.h"

enum { MOST_TRIED = 6 };
static const double LEAST_GAIN = 0.1;
static const double LEAST_WORTH = 0.5; /* gain over cost */

/* What a choice is made with. */
typedef struct chooser {
    nsk_network *network;
    const nsk_images *calibration, *few;
    nsk_recipe recipe;
    const nsk_board *board;
    const nsk_product *product;
    const nsk_limits *limits;
    nsk_progress progress;
    void *context;
    nsk_error *error;
} chooser;

/* A layer that could be chosen: what it would bring back, and cost. */
typedef struct candidate {
    const char *name;
    double gain, cost;
} candidate;

/* ---- one model ---- */

/* Which limits a budget breaks, a bit each. */
static unsigned broken(const nsk_budget *b) {
    unsigned mask = 0;
    for (int i = 0; i < NSK_BUDGET_LIMITS; i++) {
        mask |= b->limits[i].holds ? 0U : 1U << i;
    }
    return mask;
}

/* The network as it stands, quantised and measured; its budget, or NULL. */
static nsk_budget *measure(const chooser *c, const nsk_network *network, nsk_finer_state *state) {
    const nsk_judge judge = {c->network, c->calibration, c->board, c->product, c->limits, c->error};
    return nsk_judge_model(&judge, network, &c->recipe, state);
}

/* ---- what it costs ---- */

static double share(double more, double limit, double now) {
    return fmax(more, 0.0) / fmax(isfinite(limit) && limit > 0.0 ? limit : now, 1e-12);
}

/* Shares of the limits, or of what there is. */
static double cost_of(const nsk_budget *limits, const nsk_finer_state *before,
                      const nsk_finer_state *with) {
    return share(with->seconds - before->seconds, limits->limits[NSK_LIMIT_LATENCY].limit,
                 before->seconds) +
           share(with->ram - before->ram, limits->limits[NSK_LIMIT_RAM].limit, before->ram) +
           share(with->flash - before->flash, limits->limits[NSK_LIMIT_FLASH].limit, before->flash);
}

static nsk_finer_state state_of(const nsk_budget *b) {
    return (nsk_finer_state){.seconds = b->seconds, .ram = b->ram, .flash = b->flash};
}

/* A layer's cost, without the fitting, which changes none of it; NAN where it cannot be fine. */
static bool find_cost(const chooser *c, const char *layer, const nsk_budget *plain, double *cost) {
    nsk_error cannot;
    nsk_recipe recipe = c->recipe;
    recipe.rounding = recipe.biases = recipe.equalise = false;
    nsk_network *copy = nsk_network_copy(c->network);
    nsk_model_file *file = nsk_network_make_fine(copy, layer, &cannot)
                               ? nsk_quantise(copy, c->calibration, &recipe, &cannot)
                               : NULL;
    nsk_budget *b =
        file != NULL ? nsk_budget_make(file, c->board, c->product, c->limits, c->error) : NULL;
    *cost = NAN;
    if (b != NULL) {
        const nsk_finer_state states[2] = {state_of(plain), state_of(b)};
        *cost = cost_of(plain, &states[0], &states[1]);
    }
    bool good = b != NULL || file == NULL;
    nsk_budget_free(b);
    nsk_model_file_free(file);
    nsk_network_free(copy);
    return good;
}

/* ---- which ---- */

static int by_worth(const void *left, const void *right) {
    const candidate *a = left;
    const candidate *b = right;
    double first = a->gain / (a->cost + 1e-3); /* a layer that costs nothing comes first */
    double second = b->gain / (b->cost + 1e-3);
    return (first < second) - (first > second);
}

static bool find_candidates(const chooser *c, const nsk_regain *regain, const nsk_budget *plain,
                            GArray *list) {
    bool good = true;
    for (int i = 0; i < regain->layers && good; i++) {
        candidate one = {regain->layer[i].name,
                         nsk_regain_quieter(regain, &regain->layer[i]) / 100.0, NAN};
        good = one.gain < LEAST_GAIN || find_cost(c, one.name, plain, &one.cost);
        if (!isnan(one.cost)) {
            g_array_append_val(list, one);
        }
        if (c->progress != NULL) {
            c->progress(c->context, i + 1, regain->layers + MOST_TRIED);
        }
    }
    g_array_sort(list, by_worth);
    return good;
}

static double square(double x) {
    return x * x;
}

/* One more layer; stays where it pays. */
static bool try_layer(chooser *c, nsk_finer *f, const char *layer, const nsk_budget *plain,
                      unsigned allowed) {
    nsk_finer_layer *tried = &f->layer[f->count];
    nsk_network *copy = nsk_network_copy(c->network);
    nsk_budget *b =
        nsk_network_make_fine(copy, layer, c->error) ? measure(c, copy, &tried->with) : NULL;
    nsk_network_free(copy);
    if (b == NULL) {
        return false;
    }
    double gain = square(f->after.odds) - square(tried->with.odds);
    gain /= fmax(square(f->before.odds), 1e-12);
    double cost = cost_of(plain, &f->after, &tried->with);
    tried->name = g_strdup(layer);
    tried->chosen =
        gain >= LEAST_GAIN && gain >= LEAST_WORTH * cost && (broken(b) & ~allowed) == 0U;
    nsk_budget_free(b);
    f->count++;
    if (tried->chosen) {
        f->after = tried->with;
        f->chosen++;
        return nsk_network_make_fine(c->network, layer, c->error);
    }
    return true;
}

static bool try_all(chooser *c, nsk_finer *f, const nsk_regain *regain, const nsk_budget *plain) {
    unsigned allowed = broken(plain);
    GArray *list = g_array_new(FALSE, FALSE, sizeof(candidate));
    bool good = find_candidates(c, regain, plain, list);
    f->layer = g_new0(nsk_finer_layer, MOST_TRIED);
    for (guint i = 0; i < list->len && i < MOST_TRIED && good; i++) {
        good = try_layer(c, f, g_array_index(list, candidate, i).name, plain, allowed);
        if (c->progress != NULL) {
            c->progress(c->context, regain->layers + (int)i + 1, regain->layers + MOST_TRIED);
        }
    }
    g_array_free(list, TRUE);
    return good;
}

nsk_finer *nsk_finer_choose(nsk_network *network, const nsk_images *calibration,
                            const nsk_images *few, const nsk_recipe *recipe, const nsk_board *board,
                            const nsk_product *product, const nsk_limits *limits,
                            nsk_progress progress, void *context, nsk_error *error) {
    chooser c = {network, calibration, few,      *recipe, board,
                 product, limits,      progress, context, error};
    nsk_finer *f = g_new0(nsk_finer, 1);
    c.recipe.progress = NULL;
    c.recipe.refine = NULL;
    f->images = nsk_images_count(calibration);
    nsk_budget *plain = measure(&c, network, &f->before);
    nsk_regain *regain =
        plain != NULL ? nsk_regain_measure(network, calibration, &c.recipe, few, NULL, NULL, error)
                      : NULL;
    f->after = f->before;
    bool good = regain != NULL && try_all(&c, f, regain, plain);
    nsk_regain_free(regain);
    nsk_budget_free(plain);
    if (!good) {
        nsk_finer_free(f);
        return NULL;
    }
    if (progress != NULL) {
        progress(context, 1, 1);
    }
    return f;
}

void nsk_finer_free(nsk_finer *f) {
    if (f != NULL) {
        for (int i = 0; i < f->count; i++) {
            g_free(f->layer[i].name);
        }
        g_free(f->layer);
        g_free(f);
    }
}
