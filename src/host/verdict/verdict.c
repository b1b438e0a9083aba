/* What was found, held against limits: holds, open, broken. */
#include <math.h>
#include <stdarg.h>

#include "images/label_sets.h"
#include "netsuke/verdict.h"

/* From this share of the held-out images on, pictures that should not be there speak for the
 * whole figure; fewer are worth a line. */
static const double WORTHLESS = 0.01;
/* From this share of frames without an answer on, the product does not work. */
static const double SILENT = 0.05;

nsk_verdict *nsk_verdict_new(void) {
    nsk_verdict *v = g_new0(nsk_verdict, 1);
    return v;
}

void nsk_verdict_free(nsk_verdict *v) {
    if (v != NULL) {
        for (int i = 0; i < v->count; i++) {
            g_free(v->finding[i].text);
        }
        g_free(v->finding);
        g_free(v);
    }
}

void nsk_verdict_add(nsk_verdict *v, const char *step, nsk_standing standing, const char *format,
                     ...) {
    va_list arguments;
    va_start(arguments, format);
    v->finding = g_renew(nsk_finding, v->finding, (gsize)v->count + 1);
    v->finding[v->count++] = (nsk_finding){step, standing, g_strdup_vprintf(format, arguments)};
    va_end(arguments);
}

nsk_standing nsk_verdict_standing(const nsk_verdict *v) {
    nsk_standing worst = NSK_STANDING_HOLDS;
    for (int i = 0; i < v->count; i++) {
        worst = MAX(worst, v->finding[i].standing);
    }
    return worst;
}

const char *nsk_standing_text(nsk_standing standing) {
    static const char *const texts[] = {"holds", "open", "broken"};
    return texts[standing];
}

nsk_standing nsk_interval_standing(double low, double high, double limit) {
    return low > limit    ? NSK_STANDING_BROKEN
           : high > limit ? NSK_STANDING_OPEN
                          : NSK_STANDING_HOLDS;
}

static nsk_standing by_share(int part, int whole) {
    return part == 0                   ? NSK_STANDING_HOLDS
           : part >= WORTHLESS * whole ? NSK_STANDING_BROKEN
                                       : NSK_STANDING_OPEN;
}

/* ---- images ---- */

void nsk_judge_overlap(nsk_verdict *v, const char *step, int overlap, int images) {
    if (overlap > 0) {
        nsk_verdict_add(v, step, by_share(overlap, images),
                        "%d of %d held-out images stand in the calibration set, too: judge on "
                        "images that nothing was fitted to",
                        overlap, images);
    }
}

void nsk_judge_survey(nsk_verdict *v, const nsk_survey *s, const nsk_labels *labels) {
    static const char step[] = "survey";
    const nsk_survey_set *held_out = &s->sets[1];
    int before = v->count;
    nsk_judge_overlap(v, step, s->overlap, held_out->images);
    int near = s->near[NSK_TWINS_IN_BOTH_SETS];
    if (near > 0) {
        nsk_verdict_add(v, step, NSK_STANDING_OPEN,
                        "%d of %d held-out images nearly repeat one of the calibration set", near,
                        held_out->images);
    }
    int twice = s->exact[NSK_TWINS_IN_TWO_CLASSES];
    if (twice > 0) {
        nsk_verdict_add(v, step, by_share(twice, s->sets[0].images + held_out->images),
                        "images that stand under two labels, one of which is wrong: %d", twice);
    }
    for (int k = 0; k < 2; k++) {
        const nsk_survey_set *set = &s->sets[k];
        if (set->unreadable > 0) {
            nsk_verdict_add(v, step, NSK_STANDING_BROKEN,
                            "images of the %s set that cannot be read: %d", set->name,
                            set->unreadable);
        }
        for (int c = 0; c < labels->count; c++) {
            if (set->in_class[c] == 0) {
                nsk_verdict_add(v, step, k == 0 ? NSK_STANDING_OPEN : NSK_STANDING_BROKEN,
                                "the %s set has no image of '%s': nothing is known of this class",
                                set->name, labels->names[c]);
            }
        }
    }
    if (v->count == before) {
        nsk_verdict_add(v, step, NSK_STANDING_HOLDS,
                        "%d images to calibrate, %d held out; none stands in both, none under "
                        "two labels",
                        s->sets[0].images, held_out->images);
    }
}

/* ---- accuracy ---- */

void nsk_judge_vetting(nsk_verdict *v, const nsk_vetting *vetting) {
    static const char step[] = "vet";
    if (vetting->better >= 0) {
        const nsk_alternative *a = &vetting->alternatives[vetting->better];
        nsk_verdict_add(v, step, NSK_STANDING_BROKEN,
                        "the network was probably trained with another preparation: '%s' is right "
                        "on %.1f %% instead of %.1f %%",
                        a->change, 100.0 * a->correct / vetting->images,
                        100.0 * vetting->order_correct / vetting->images);
    }
    if (vetting->renamed) {
        nsk_verdict_add(v, step, NSK_STANDING_BROKEN,
                        "the labels are probably not in the order of the outputs: in another, "
                        "%.1f %% are right instead of %.1f %%",
                        100.0 * vetting->order_correct / vetting->images,
                        100.0 * vetting->correct / vetting->images);
    }
    if (vetting->better < 0 && !vetting->renamed) {
        nsk_verdict_add(v, step, NSK_STANDING_HOLDS,
                        "no other preparation or order of the labels suits the network clearly "
                        "better");
    }
}

/* As good as always naming the class that there is most of? */
static void judge_guessing(nsk_verdict *v, const nsk_comparison *c, const nsk_labels *labels) {
    int classes = c->sets != NULL ? nsk_label_sets_count(c->sets) : c->classes;
    int *in_class = g_new0(int, classes);
    int most = 0;
    for (int i = 0; i < c->images; i++) {
        in_class[c->answers[i].label]++;
    }
    for (int k = 1; k < classes; k++) {
        most = in_class[k] > in_class[most] ? k : most;
    }
    double guessed = (double)in_class[most] / c->images;
    if (c->float_correct <= in_class[most]) {
        char *name = nsk_comparison_class(c, labels, most);
        nsk_verdict_add(v, "compare", NSK_STANDING_BROKEN,
                        "the float network is right on %.2f %%, which is no better than always to "
                        "say '%s' (%.2f %%): ask 'netsuke vet' how it was trained",
                        100.0 * c->float_correct / c->images, name, 100.0 * guessed);
        nsk_string_free(name);
    }
    g_free(in_class);
}

void nsk_judge_comparison(nsk_verdict *v, const nsk_comparison *c, const nsk_labels *labels,
                          double limit) {
    static const char step[] = "compare";
    nsk_standing standing = nsk_interval_standing(c->loss_low, c->loss_high, limit);
    judge_guessing(v, c, labels);
    GString *text = g_string_new(NULL);
    g_string_printf(
        text, "float %.2f %%, integer %.2f %%: %.2f points lost (95 %% interval %.2f to %.2f)",
        100.0 * c->float_correct / c->images, 100.0 * c->integer_correct / c->images,
        c->loss_points, c->loss_low, c->loss_high);
    if (isfinite(limit)) {
        g_string_append_printf(text, " of %.2f allowed", limit);
    }
    if (standing == NSK_STANDING_OPEN) {
        int needed = nsk_images_to_decide(c->lost, c->won, c->images, limit / 100.0);
        if (needed < G_MAXINT) {
            g_string_append_printf(
                text, "; about %d images would settle it, if they differ as often", needed);
        } else {
            g_string_append(text, "; the loss is so near to its limit that no number settles it");
        }
    }
    nsk_verdict_add(v, step, standing, "%s", text->str);
    g_string_free(text, TRUE);
}

/* ---- the board ---- */

static char *amount(const nsk_budget_limit *l, double value) {
    return l->unit[0] == 'b' ? g_strdup_printf("%.1f KiB", value / 1024.0)
                             : g_strdup_printf("%.3g ms", 1e3 * value);
}

void nsk_judge_budget(nsk_verdict *v, const nsk_budget *b) {
    for (int i = 0; i < NSK_BUDGET_LIMITS; i++) {
        const nsk_budget_limit *l = &b->limits[i];
        char *value = amount(l, l->value);
        char *limit = amount(l, l->limit);
        bool untimed = i == NSK_LIMIT_LATENCY && !b->timed;
        nsk_verdict_add(
            v, "budget", l->holds ? NSK_STANDING_HOLDS : NSK_STANDING_BROKEN, "%s: %s of %s%s",
            l->name, value, limit,
            untimed ? ", at one instruction a cycle: this core's timings are not published" : "");
        g_free(value);
        g_free(limit);
    }
}

/* ---- the rehearsal ---- */

static void judge_share(nsk_verdict *v, const char *what, int part, int whole, double limit) {
    double low;
    double high;
    if (isinf(limit) || whole == 0) {
        return;
    }
    nsk_share_interval(part, whole, &low, &high);
    nsk_verdict_add(v, "rehearse", nsk_interval_standing(low, high, limit),
                    "%d of %d %s (95 %% interval %.1f to %.1f %%) of %.1f %% allowed", part, whole,
                    what, 100.0 * low, 100.0 * high, 100.0 * limit);
}

void nsk_judge_rehearsal(nsk_verdict *v, const nsk_rehearsed_counts *r, const nsk_limits *limits) {
    static const char step[] = "rehearse";
    int before = v->count;
    if (r->dropped > limits->dropped * r->frames) {
        nsk_verdict_add(v, step, NSK_STANDING_BROKEN,
                        "%d of %d frames came while the device was busy, %.1f %% are allowed: slow "
                        "the camera down, or say 'dropped = 50 %%' under [limits] where that is "
                        "meant",
                        r->dropped, r->frames, 100.0 * limits->dropped);
    }
    if (r->faulted > 0) {
        nsk_verdict_add(v, step,
                        r->faulted > SILENT * r->frames ? NSK_STANDING_BROKEN : NSK_STANDING_OPEN,
                        "%d of %d frames had no answer: the camera's pictures were not trusted",
                        r->faulted, r->frames);
    }
    judge_share(v, "events missed", r->missed, r->events, limits->missed);
    judge_share(v, "actions were for nothing", r->false_actions, r->actions, limits->false_actions);
    if (v->count == before) {
        nsk_verdict_add(v, step, NSK_STANDING_HOLDS,
                        "%d frames, none dropped beyond what is allowed; %d of %d events missed, "
                        "%d of %d actions for nothing, without a limit",
                        r->frames, r->missed, r->events, r->false_actions, r->actions);
    }
}
