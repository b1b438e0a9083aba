/* Changes of the brief that the layers' drift suggests, each tried before it is told. */
#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "base/base.h"
#include "netsuke/compare.h"
#include "netsuke/drift.h"
#include "network/network.h"

enum { FEW_LEVELS = 32, MOST_TRIED = 6, MOST_FINE = 2 };
static const double OFTEN_AT_END = 0.01;
static const double MUCH_WORSE_DB = 12.0;
static const double NEARER = 0.95;
static const double WORTH_16_BITS = 5.0; /* percent nearer, were the layer alone float */

typedef struct candidate {
    const char *layer; /* whose range is to be made otherwise; NULL: its channels equalised out */
    nsk_range_method method;
    bool fine; /* its output is to have 16 bits instead */
    char *reason;
} candidate;

static void add(GArray *list, const char *layer, nsk_range_method method, char *reason) {
    const candidate one = {.layer = layer, .method = method, .reason = reason};
    if (list->len < MOST_TRIED) {
        g_array_append_val(list, one);
    } else {
        g_free(reason);
    }
}

/* The layer, but for the last one, whose outputs are the answer, that is worst by a figure. */
static const nsk_drift_layer *worst_alone(const nsk_drift *d) {
    const nsk_drift_layer *worst = NULL;
    for (int i = 0; i < d->layers - 1; i++) {
        const nsk_drift_layer *l = &d->layer[i];
        bool known = l->measured && !isnan(l->alone_db);
        worst = known && (worst == NULL || l->alone_db < worst->alone_db) ? l : worst;
    }
    return worst;
}

static const nsk_drift_layer *narrowest(const nsk_drift *d) {
    const nsk_drift_layer *narrow = NULL;
    for (int i = 0; i < d->layers - 1; i++) {
        const nsk_drift_layer *l = &d->layer[i];
        bool few = l->measured && l->levels <= FEW_LEVELS;
        narrow = few && (narrow == NULL || l->levels < narrow->levels) ? l : narrow;
    }
    return narrow;
}

static GArray *suggest(const nsk_drift *d, const nsk_recipe *recipe) {
    GArray *list = g_array_new(FALSE, FALSE, sizeof(candidate));
    const nsk_drift_layer *worst = worst_alone(d);
    const nsk_drift_layer *narrow = narrowest(d);
    if (worst != NULL && !recipe->equalise &&
        worst->alone_db - worst->worst_channel_db > MUCH_WORSE_DB) {
        add(list, NULL, recipe->ranges,
            g_strdup_printf("the channels of %s differ much", worst->name));
    }
    for (int i = 0; i < d->layers - 1; i++) {
        const nsk_drift_layer *l = &d->layer[i];
        if (l->measured && l->at_high > OFTEN_AT_END) {
            add(list, l->name, NSK_RANGE_METHOD_EXTREMES,
                g_strdup_printf("%.1f %% of its outputs are cut off at the highest level",
                                100.0 * l->at_high));
        }
    }
    if (narrow != NULL) {
        add(list, narrow->name, NSK_RANGE_METHOD_PERCENTILE,
            g_strdup_printf("%d of 256 levels hold nine tenths of its outputs", narrow->levels));
    }
    static const nsk_range_method others[] = {
        NSK_RANGE_METHOD_EXTREMES, NSK_RANGE_METHOD_PERCENTILE, NSK_RANGE_METHOD_DIVERGENCE};
    for (size_t i = 0; worst != NULL && i < G_N_ELEMENTS(others); i++) {
        if (others[i] != recipe->ranges) {
            add(list, worst->name, others[i], g_strdup("it adds most by itself"));
        }
    }
    return list;
}

static int by_nearness(const void *left, const void *right) {
    const nsk_regained *a = *(nsk_regained *const *)left;
    const nsk_regained *b = *(nsk_regained *const *)right;
    return (a->apart > b->apart) - (a->apart < b->apart);
}

/* Layers whose rounding moves the probabilities most. */
static void suggest_fine(const nsk_regain *regain, GArray *list) {
    const nsk_regained **nearest = g_new(const nsk_regained *, regain->layers);
    for (int i = 0; i < regain->layers; i++) {
        nearest[i] = &regain->layer[i];
    }
    qsort(nearest, (size_t)regain->layers, sizeof *nearest, by_nearness);
    for (int i = 0; i < MIN(regain->layers, MOST_FINE); i++) {
        double closer = nsk_regain_closer(regain, nearest[i]);
        const candidate one = {
            .layer = nearest[i]->name,
            .fine = true,
            .reason = g_strdup_printf("were it float alone, %.0f %% would come back", closer)};
        if (closer >= WORTH_16_BITS) {
            g_array_append_val(list, one);
        } else {
            g_free(one.reason);
        }
    }
    g_free(nearest);
}

/* The recipe with the change; its exceptions are the caller's to free. */
static nsk_recipe change(const nsk_recipe *recipe, const candidate *c) {
    nsk_recipe changed = *recipe;
    int count = 0;
    changed.progress = NULL;
    changed.exceptions = g_new0(nsk_range_exception, (gsize)recipe->excepted + 1);
    for (int i = 0; i < recipe->excepted; i++) {
        bool stays =
            c->layer == NULL || c->fine || strcmp(recipe->exceptions[i].layer, c->layer) != 0;
        if (stays) {
            changed.exceptions[count++] = recipe->exceptions[i];
        }
    }
    if (c->layer == NULL) {
        changed.equalise = true;
    } else if (!c->fine) { /* that is asked of the network */
        changed.exceptions[count++] = (nsk_range_exception){(char *)c->layer, c->method};
    }
    changed.excepted = count;
    return changed;
}

static char *words_of(const candidate *c) {
    static const char *const methods[] = {"auto", "extremes", "percentile", "squared-error",
                                          "divergence"};
    return c->layer == NULL ? g_strdup("equalise = yes, under [stages]")
           : c->fine        ? g_strdup_printf("%s = fine, under [ranges]", c->layer)
                     : g_strdup_printf("%s = %s, under [ranges]", c->layer, methods[c->method]);
}

/* More bits take more RAM. */
static char *reason_of(const candidate *c, const nsk_model_file *before,
                       const nsk_model_file *with) {
    nsk_model models[2];
    nsk_open(&models[0], before->bytes, before->size);
    nsk_open(&models[1], with->bytes, with->size);
    return c->fine ? g_strdup_printf("%s; the workspace takes %.1f KiB instead of %.1f", c->reason,
                                     models[1].workspace_bytes / 1024.0,
                                     models[0].workspace_bytes / 1024.0)
                   : g_strdup(c->reason);
}

/* A change that cannot be made (a layer that is folded away) is none that helps. */
static void try_one(nsk_advices *a, const nsk_network *network, const nsk_images *calibration,
                    const nsk_recipe *recipe, const nsk_model_file *before,
                    const nsk_images *images, const candidate *c, double apart) {
    nsk_error ignored;
    nsk_recipe changed = change(recipe, c);
    nsk_network *own = c->fine ? nsk_network_copy(network) : NULL;
    bool can = !c->fine || nsk_network_make_fine(own, c->layer, &ignored);
    nsk_model_file *file =
        can ? nsk_quantise(own != NULL ? own : network, calibration, &changed, &ignored) : NULL;
    nsk_comparison *r =
        file != NULL ? nsk_compare(network, file, images, NULL, NULL, &ignored) : NULL;
    bool helps =
        r != NULL && r->agree >= a->agree && (r->agree > a->agree || r->apart < NEARER * apart);
    a->tried++;
    if (helps) {
        a->advice = g_renew(nsk_advice, a->advice, (gsize)a->count + 1);
        a->advice[a->count++] = (nsk_advice){.change = words_of(c),
                                             .reason = reason_of(c, before, file),
                                             .agree = {a->agree, r->agree},
                                             .apart = {apart, r->apart}};
    }
    nsk_comparison_free(r);
    nsk_model_file_free(file);
    nsk_network_free(own);
    g_free(changed.exceptions);
}

static int by_help(const void *left, const void *right) {
    const nsk_advice *a = left;
    const nsk_advice *b = right;
    int more = b->agree[1] - a->agree[1];
    return more != 0 ? more : (a->apart[1] > b->apart[1]) - (a->apart[1] < b->apart[1]);
}

nsk_advices *nsk_advise(const nsk_network *network, const nsk_images *calibration,
                        const nsk_recipe *recipe, const nsk_model_file *file,
                        const nsk_drift *drift, const nsk_regain *regain, const nsk_images *images,
                        nsk_progress progress, void *context, nsk_error *error) {
    nsk_comparison *now = nsk_compare(network, file, images, NULL, NULL, error);
    if (now == NULL) {
        return NULL;
    }
    nsk_advices *a = g_new0(nsk_advices, 1);
    GArray *list = suggest(drift, recipe);
    if (regain != NULL) {
        suggest_fine(regain, list);
    }
    a->images = now->images;
    a->agree = now->agree;
    for (guint i = 0; i < list->len; i++) {
        candidate *c = &g_array_index(list, candidate, i);
        if (now->agree < now->images) { /* else there is nothing to win */
            try_one(a, network, calibration, recipe, file, images, c, now->apart);
        }
        if (progress != NULL) {
            progress(context, (int)i + 1, (int)list->len);
        }
        g_free(c->reason);
    }
    if (a->count > 0) {
        qsort(a->advice, (size_t)a->count, sizeof *a->advice, by_help);
    }
    g_array_free(list, TRUE);
    nsk_comparison_free(now);
    return a;
}

void nsk_advices_free(nsk_advices *a) {
    if (a != NULL) {
        for (int i = 0; i < a->count; i++) {
            g_free(a->advice[i].change);
            g_free(a->advice[i].reason);
        }
        g_free(a->advice);
        g_free(a);
    }
}
