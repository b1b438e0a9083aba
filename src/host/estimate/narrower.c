/* Fewer bits of weights where they do least harm, until the model fits. */
#include "netsuke/narrower.h"

#include <math.h>
#include <string.h>

#include "estimate/state.h"
#include "network/network.h"
#include "passes/bits.h"
#include "pipeline/pipeline.h"

enum { WHOLE = 8, LEAST = 4 };

/* The share of 4 bits' harm that so many do: a bit more quarters a squared error. */
static double harm_of(int bits) {
    return bits == WHOLE ? 0.0 : ldexp(1.0, 2 * (LEAST - bits));
}

static int next_below(int bits) {
    return bits == WHOLE ? 6 : bits - 1;
}

/* What taking bits to `to` saves, and what it harms. */
static double saved(const nsk_narrower_layer *l, int to) {
    return l->weights * (l->bits - to) / WHOLE;
}

static double harmed(const nsk_narrower_layer *l, int to) {
    return l->harm * (harm_of(to) - harm_of(l->bits));
}

static double saved_by_all(const nsk_narrower *n) {
    double sum = 0.0;
    for (int i = 0; i < n->count; i++) {
        sum += n->layer[i].weights * (WHOLE - n->layer[i].bits) / WHOLE;
    }
    return sum;
}

/* The layer whose next step does least harm by byte, or NULL: all are at the least. */
static nsk_narrower_layer *cheapest(const nsk_narrower *n) {
    nsk_narrower_layer *best = NULL;
    double least = INFINITY;
    for (int i = 0; i < n->count; i++) {
        nsk_narrower_layer *l = &n->layer[i];
        const int to = next_below(l->bits);
        if (l->bits == LEAST) {
            continue;
        }
        const double price = harmed(l, to) / saved(l, to);
        if (best == NULL || price < least) {
            best = l;
            least = price;
        }
    }
    return best;
}

/* Steps that turn out not to be needed, the most harmful first. */
static void give_back(const nsk_narrower *n, double bytes) {
    for (nsk_narrower_layer *worst = n->layer; worst != NULL;) {
        double most = 0.0;
        worst = NULL;
        for (int i = 0; i < n->count; i++) {
            nsk_narrower_layer *l = &n->layer[i];
            const int up = l->bits >= 6 ? WHOLE : l->bits + 1;
            const double relief = -harmed(l, up);
            if (l->bits < WHOLE && saved_by_all(n) + saved(l, up) >= bytes &&
                (worst == NULL || relief > most)) {
                worst = l;
                most = relief;
            }
        }
        if (worst != NULL) {
            worst->bits = worst->bits >= 6 ? WHOLE : worst->bits + 1;
        }
    }
}

/* Bits that save so many bytes; false where none do. */
static bool save(const nsk_narrower *n, double bytes) {
    for (int i = 0; i < n->count; i++) {
        n->layer[i].bits = WHOLE;
    }
    while (saved_by_all(n) < bytes) {
        nsk_narrower_layer *l = cheapest(n);
        if (l == NULL) {
            return false;
        }
        l->bits = next_below(l->bits);
    }
    give_back(n, bytes);
    return true;
}

/* ---- measuring ---- */

typedef struct chooser {
    nsk_judge judge;
    nsk_recipe recipe; /* as it was, each weight of 8 bits but where it names a layer */
    nsk_bits_exception *narrowed;
    nsk_progress progress;
    void *context;
} chooser;

/* With what is chosen for the layers, beside what the recipe names. */
static nsk_budget *measure(const chooser *c, const nsk_narrower *n, nsk_finer_state *state) {
    nsk_recipe recipe = c->recipe;
    recipe.narrowed = c->narrowed;
    for (int i = 0; i < c->recipe.narrowed_count; i++) {
        c->narrowed[i] = c->recipe.narrowed[i];
    }
    for (int i = 0; i < n->count; i++) {
        c->narrowed[recipe.narrowed_count++] =
            (nsk_bits_exception){n->layer[i].name, n->layer[i].bits};
    }
    return nsk_judge_model(&c->judge, c->judge.network, &recipe, state);
}

static double square(double x) {
    return x * x;
}

static bool find_harm(const chooser *c, nsk_narrower *n) {
    bool good = true;
    for (int i = 0; i < n->count && good; i++) {
        nsk_finer_state with;
        n->layer[i].bits = LEAST;
        nsk_budget *b = measure(c, n, &with);
        n->layer[i].bits = WHOLE;
        good = b != NULL;
        if (good) {
            n->layer[i].harm = fmax(square(with.odds) - square(n->before.odds), 0.0);
        }
        nsk_budget_free(b);
        if (c->progress != NULL) {
            c->progress(c->context, i + 1, n->count + 1);
        }
    }
    return good;
}

/* Until what was expected to fit does: kernels that unpack weights take flash, too. */
static bool fit(const chooser *c, nsk_narrower *n) {
    double bytes = n->before.flash - n->allowed;
    bool enough = true;
    do {
        enough = save(n, bytes);
        nsk_budget *b = measure(c, n, &n->after);
        if (b == NULL) {
            return false;
        }
        nsk_budget_free(b);
        /* more than what is chosen was expected to save, so that another choice is made */
        bytes = saved_by_all(n) + n->after.flash - n->allowed;
    } while (enough && n->after.flash > n->allowed);
    return true;
}

/* ---- which layers there are ---- */

static bool is_named(const nsk_recipe *recipe, const char *layer) {
    bool named = false;
    for (int i = 0; i < recipe->narrowed_count; i++) {
        named = named || strcmp(recipe->narrowed[i].layer, layer) == 0;
    }
    return named;
}

static bool find_layers(const chooser *c, nsk_narrower *n) {
    nsk_lowered *lowered = nsk_lower_and_join(c->judge.network->graph, c->judge.error);
    if (lowered == NULL) {
        return false;
    }
    n->layer = g_new0(nsk_narrower_layer, lowered->layers->len + 1);
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        if (nsk_bits_usual(l) && !is_named(&c->recipe, l->name)) {
            const int outputs = nsk_lowered_tensor_at(lowered, l->out)->channels;
            n->layer[n->count++] = (nsk_narrower_layer){
                .name = g_strdup(l->name), .weights = (double)l->taps * outputs, .bits = WHOLE};
        }
    }
    nsk_lowered_free(lowered);
    return true;
}

static void keep(nsk_narrower *n) {
    n->narrowed = g_new0(nsk_bits_exception, (gsize)n->count + 1);
    for (int i = 0; i < n->count; i++) {
        if (n->layer[i].bits < WHOLE) {
            n->narrowed[n->narrowed_count++] =
                (nsk_bits_exception){n->layer[i].name, n->layer[i].bits};
        }
    }
}

nsk_narrower *nsk_narrower_choose(const nsk_network *network, const nsk_images *calibration,
                                  const nsk_recipe *recipe, const nsk_board *board,
                                  const nsk_product *product, const nsk_limits *limits,
                                  nsk_progress progress, void *context, nsk_error *error) {
    chooser c = {
        {network, calibration, board, product, limits, error}, *recipe, NULL, progress, context};
    nsk_narrower *n = g_new0(nsk_narrower, 1);
    c.recipe.progress = NULL;
    c.recipe.refine = NULL;
    c.recipe.bits = WHOLE;
    n->images = nsk_images_count(calibration);
    bool good = find_layers(&c, n);
    c.narrowed = g_new0(nsk_bits_exception, (gsize)(n->count + recipe->narrowed_count) + 1);
    nsk_budget *plain = good ? measure(&c, n, &n->before) : NULL;
    good = plain != NULL;
    n->after = n->before;
    if (good) {
        n->allowed = plain->limits[NSK_LIMIT_FLASH].limit;
    }
    if (good && n->before.flash > n->allowed) {
        good = find_harm(&c, n) && fit(&c, n);
    }
    nsk_budget_free(plain);
    g_free(c.narrowed);
    if (!good) {
        nsk_narrower_free(n);
        return NULL;
    }
    keep(n);
    if (progress != NULL) {
        progress(context, 1, 1);
    }
    return n;
}

void nsk_narrower_free(nsk_narrower *n) {
    if (n != NULL) {
        for (int i = 0; i < n->count; i++) {
            g_free(n->layer[i].name);
        }
        g_free(n->layer);
        g_free(n->narrowed);
        g_free(n);
    }
}
