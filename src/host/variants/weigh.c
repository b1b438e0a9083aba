/* Variants side by side: what each costs and gets right, and which of them another beats in
 * everything. */
#include <math.h>

#include "base/base.h"
#include "netsuke/verdict.h"
#include "netsuke/weigh.h"

nsk_variant nsk_variant_of(const char *name, const nsk_measured *m, const nsk_budget *b,
                           const nsk_limits *limits) {
    double loss = 100.0 * (m->float_correct - m->integer_correct) / m->images;
    double low;
    double high;
    nsk_paired_interval(m->lost, m->won, m->images, &low, &high);
    nsk_variant v = {.name = name,
                     .images = m->images,
                     .float_correct = m->float_correct,
                     .integer_correct = m->integer_correct,
                     .loss_points = loss,
                     .loss_low = 100.0 * low,
                     .loss_high = 100.0 * high,
                     .flash = b->flash,
                     .ram = b->ram,
                     .seconds = b->seconds,
                     .joules = b->joules,
                     .fits = true};
    nsk_share_interval(m->integer_correct, m->images, &v.accuracy_low, &v.accuracy_high);
    for (int i = 0; i < NSK_BUDGET_LIMITS; i++) {
        v.limits[i] = b->limits[i];
    }
    nsk_standing standing = nsk_interval_standing(v.loss_low, v.loss_high, limits->loss);
    v.limits[NSK_LIMIT_LOSS] = (nsk_budget_limit){"loss",
                                                  "points",
                                                  limits->loss,
                                                  loss,
                                                  standing != NSK_STANDING_BROKEN,
                                                  standing == NSK_STANDING_OPEN};
    for (int i = 0; i < NSK_VARIANT_LIMITS; i++) {
        v.fits = v.fits && v.limits[i].holds;
    }
    return v;
}

/* Is `a` nowhere worse than `b`, and somewhere better? Energy counts where both boards give it. */
static bool beats(const nsk_variant *a, const nsk_variant *b) {
    bool energy = a->joules >= 0.0 && b->joules >= 0.0;
    double right[2] = {(double)a->integer_correct / a->images,
                       (double)b->integer_correct / b->images};
    const double pairs[][2] = {{a->flash, b->flash},
                               {a->ram, b->ram},
                               {a->seconds, b->seconds},
                               {energy ? a->joules : 0.0, energy ? b->joules : 0.0},
                               {-right[0], -right[1]}};
    bool better = false;
    for (size_t i = 0; i < G_N_ELEMENTS(pairs); i++) {
        if (pairs[i][0] > pairs[i][1]) {
            return false;
        }
        better = better || pairs[i][0] < pairs[i][1];
    }
    return better;
}

void nsk_weigh(nsk_variant *variants, int count) {
    for (int i = 0; i < count; i++) {
        variants[i].beaten_by = NSK_NO_VARIANT;
        for (int k = 0; k < count && variants[i].beaten_by == NSK_NO_VARIANT; k++) {
            variants[i].beaten_by = beats(&variants[k], &variants[i]) ? k : NSK_NO_VARIANT;
        }
    }
}
