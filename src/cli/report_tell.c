/* The sections of a report's page. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "netsuke/tools.h"
#include "netsuke/version.h"
#include "report.h"
#include "table.h"

static double share(int part, int whole) {
    return whole > 0 ? (double)part / whole : 0.0;
}

static void tell_limits(const report_content *s) {
    char text[3][CLI_TEXT];
    for (int i = 0; i < NSK_BUDGET_LIMITS; i++) {
        const nsk_budget_limit *l = &s->budget->limits[i];
        bool time = i == NSK_LIMIT_LATENCY;
        nsk_page_verdict(s->page, l->holds ? NSK_STANDING_HOLDS : NSK_STANDING_BROKEN, l->name,
                         "%s of %s, %.0f %% used",
                         time ? cli_time(l->value, text[0]) : cli_bytes(l->value, text[0]),
                         time ? cli_time(l->limit, text[1]) : cli_bytes(l->limit, text[1]),
                         100.0 * l->value / l->limit);
    }
}

static void tell_summary(const report_content *s) {
    nsk_page_section(s->page, "Summary");
    for (int i = 0; i < s->verdict->count; i++) {
        const nsk_finding *f = &s->verdict->finding[i];
        nsk_page_verdict(s->page, f->standing, f->step, "%s", f->text);
    }
}

static bool tell_model(report_content *s) {
    nsk_page *page = s->page;
    const nsk_outline *o = s->outline;
    nsk_page_section(page, "Model");
    nsk_page_text(page,
                  "%s: %d layers, %" G_GUINT64_FORMAT " parameters, %" G_GUINT64_FORMAT
                  " multiply-accumulates a frame of %d x %d x %d.",
                  s->context->brief->model, o->count, (guint64)o->parameters, (guint64)o->macs,
                  o->width, o->height, o->channels);
    nsk_page_table(page, "Layers",
                   "<layer\t<operator\t>output\t>parameters\t>multiply-accumulates\t=");
    uint64_t most = 1; /* the longest bar's */
    for (int i = 0; i < o->count; i++) {
        most = MAX(most, o->layers[i].macs);
    }
    for (int i = 0; i < o->count; i++) {
        const nsk_outline_layer *l = &o->layers[i];
        char kind[CLI_TEXT];
        nsk_outline_kind(l, kind, sizeof kind);
        nsk_page_row(page,
                     "%s\t%s\t%d x %d x %d\t%" G_GUINT64_FORMAT "\t%" G_GUINT64_FORMAT "\t%.3f",
                     l->name, kind, l->height, l->width, l->channels, (guint64)l->parameters,
                     (guint64)l->macs, (double)l->macs / (double)most);
    }
    nsk_page_table_end(page);
    return true;
}

/* The ways of feeding the network that were tried. */
static void tell_ways(const report_content *s) {
    const nsk_vetting *v = s->vetting;
    char *caption = g_strdup_printf("Other preparations, on %d images%s", v->images,
                                    v->renamed ? ", the labels renamed" : "");
    nsk_page_table(s->page, caption, ">right\t>lost\t>won\t>certainty\t<preparation");
    nsk_page_row(s->page, "%.1f %%\t\t\t\tas the brief has it",
                 100.0 * share(v->correct, v->images));
    for (int i = 0; i < v->count; i++) {
        const nsk_alternative *a = &v->alternatives[i];
        nsk_page_row(s->page, "%.1f %%\t%d\t%d\t%+.1f\t%s", 100.0 * share(a->correct, v->images),
                     a->lost, a->won, a->certainty, a->change);
    }
    nsk_page_table_end(s->page);
    g_free(caption);
}

static void tell_sides(const report_content *s) {
    static const int among[] = {2, 3, 5};
    const nsk_comparison *c = s->comparison;
    nsk_page_table(s->page, "Both models",
                   "<\t>right\t>accuracy\t>balanced\t>among first 2\t>3\t>5\t>calibration error");
    for (int k = 0; k < 2; k++) {
        nsk_scoring *scoring = nsk_scoring_of(c, k == 1);
        int right = k == 0 ? c->float_correct : c->integer_correct;
        GString *row = g_string_new(NULL);
        g_string_printf(row, "%s\t%d\t%.2f %%\t%.2f %%", k == 0 ? "float" : "integer", right,
                        100.0 * share(right, c->images), 100.0 * scoring->balanced_accuracy);
        for (size_t i = 0; i < G_N_ELEMENTS(among); i++) {
            g_string_append(row, "\t");
            if (among[i] < c->classes && c->each == NULL) {
                g_string_append_printf(row, "%.2f %%",
                                       100.0 * nsk_right_among(c, among[i], k == 1) / c->images);
            }
        }
        nsk_page_row(s->page, "%s\t%.2f %%", row->str, 100.0 * scoring->calibration_error);
        g_string_free(row, TRUE);
        nsk_scoring_free(scoring);
    }
    nsk_page_table_end(s->page);
    if (c->tied > 0) {
        nsk_page_text(
            s->page,
            "On %d images several classes share the integer model's highest score: the first "
            "of them in the labels' order is the answer.",
            c->tied);
    }
}

/* Rows are the truth, columns the answer. */
static void tell_confusion(const report_content *s, bool integer) {
    const nsk_comparison *c = s->comparison;
    int *counts = nsk_confusion_of(c, integer);
    int *rows = g_new0(int, c->classes);
    for (int i = 0; i < c->classes * c->classes; i++) {
        rows[i / c->classes] += counts[i];
    }
    GString *heads = g_string_new("<is");
    for (int k = 0; k < c->classes; k++) {
        g_string_append_printf(heads, "\t~%s", report_label(s, k));
    }
    nsk_page_table(s->page,
                   integer ? "Integer model: what each class is taken for"
                           : "Float network: what each class is taken for",
                   heads->str);
    for (int k = 0; k < c->classes; k++) {
        GString *row = g_string_new(report_label(s, k));
        for (int a = 0; a < c->classes; a++) {
            int count = counts[k * c->classes + a];
            double ground = share(count, rows[k]); /* what is wrong shows at a tenth already */
            g_string_append_printf(row, "\t%.3f %d", a == k ? 0.8 * ground : sqrt(ground), count);
        }
        nsk_page_row(s->page, "%s", row->str);
        g_string_free(row, TRUE);
    }
    nsk_page_table_end(s->page);
    g_string_free(heads, TRUE);
    nsk_free(counts);
    g_free(rows);
}

/* Of labels that may be there at once, each is right or wrong by itself. */
static void tell_labels(const report_content *s) {
    nsk_scoring *const by[2] = {nsk_scoring_of(s->comparison, false),
                                nsk_scoring_of(s->comparison, true)};
    nsk_page_table(s->page, "Label by label: float, then integer",
                   "<label\t>from\t>found\t>missed\t>for nothing\t>average precision\t>found\t"
                   ">missed\t>for nothing\t>average precision");
    for (int k = 0; k < s->comparison->classes; k++) {
        GString *row = g_string_new(report_label(s, k));
        g_string_append_printf(row, "\t%.1f %%", 100.0 * s->context->brief->labels.thresholds[k]);
        for (int side = 0; side < 2; side++) {
            const nsk_class_score *l = &by[side]->classes[k];
            g_string_append_printf(row, "\t%d\t%d\t%d\t%.3f", l->right, l->images - l->right,
                                   l->answers - l->right, l->average_precision);
        }
        nsk_page_row(s->page, "%s", row->str);
        g_string_free(row, TRUE);
    }
    nsk_page_table_end(s->page);
    nsk_page_text(s->page,
                  "Right is a picture all of whose labels are. Of each yes and no by itself: float "
                  "%.2f %%, integer %.2f %%.",
                  100.0 * by[0]->decisions, 100.0 * by[1]->decisions);
    nsk_scoring_free(by[0]);
    nsk_scoring_free(by[1]);
}

static void tell_classes(const report_content *s) {
    nsk_scoring *f = nsk_scoring_of(s->comparison, false);
    nsk_scoring *q = nsk_scoring_of(s->comparison, true);
    nsk_page_table(s->page, "Class by class, in percent: float, then integer",
                   "<class\t>images\t>precision\t>recall\t>F1\t>precision\t>recall\t>F1");
    for (int k = 0; k < s->comparison->classes; k++) {
        const nsk_class_score *a = &f->classes[k];
        const nsk_class_score *b = &q->classes[k];
        nsk_page_row(s->page, "%s\t%d\t%.1f\t%.1f\t%.1f\t%.1f\t%.1f\t%.1f", report_label(s, k),
                     a->images, 100.0 * a->precision, 100.0 * a->recall, 100.0 * a->f1,
                     100.0 * b->precision, 100.0 * b->recall, 100.0 * b->f1);
    }
    nsk_page_table_end(s->page);
    nsk_page_text(s->page,
                  "Balanced accuracy: float %.2f %%, integer %.2f %%. Expected calibration error: "
                  "float %.2f, integer %.2f points.",
                  100.0 * f->balanced_accuracy, 100.0 * q->balanced_accuracy,
                  100.0 * f->calibration_error, 100.0 * q->calibration_error);
    nsk_scoring_free(f);
    nsk_scoring_free(q);
}

static bool tell_accuracy(report_content *s) {
    const nsk_comparison *c = s->comparison;
    nsk_page_section(s->page, "Accuracy");
    nsk_page_text(s->page,
                  "%d held-out images. Both models give the same answer on %.2f %%; right in float "
                  "alone: %d, in integers alone: %d. The chance that equally good models differ so "
                  "unevenly: %.2g (McNemar).",
                  c->images, 100.0 * share(c->agree, c->images), c->lost, c->won,
                  nsk_paired_chance(c->lost, c->won));
    tell_sides(s);
    tell_ways(s);
    if (c->each != NULL) {
        tell_labels(s);
    } else {
        tell_confusion(s, false);
        tell_confusion(s, true);
    }
    tell_classes(s);
    char *plot = report_drawing(s, "reliability.svg");
    if (!report_take(
            s, nsk_reliability_draw(c, s->context->brief->name, plot, &s->context->error), plot,
            "How often answers are right, over the probability that they are given with")) {
        return false;
    }
    if (c->agree == c->images) {
        return true;
    }
    char *flips = report_drawing(s, "flips.png");
    return report_take(s, nsk_flips_sheet(c, s->context->held_out, flips, &s->context->error),
                       flips, "Pictures that both models answer differently, with both answers");
}

/* Layers by what would come back if one alone were float. */
static void tell_regain(const report_content *s) {
    const nsk_regain *r = s->regain;
    nsk_page_table(s->page, "What would come back if one layer alone were float",
                   "<layer\t>right\t>regained\t>as float says\t>closer");
    nsk_page_row(s->page, "none\t%d\t\t%d\t", r->rounded.right, r->rounded.agree);
    for (int i = 0; i < r->layers; i++) {
        const nsk_regained *l = &r->layer[i];
        nsk_page_row(s->page, "%s\t%d\t%+d\t%d\t%.1f %%", l->name, l->right,
                     l->right - r->rounded.right, l->agree, nsk_regain_closer(r, l));
    }
    nsk_page_row(s->page, "all\t%d\t%+d\t%d\t100.0 %%", r->exact.right,
                 r->exact.right - r->rounded.right, r->exact.agree);
    nsk_page_table_end(s->page);
}

static void tell_advice(const report_content *s) {
    char **words = drift_advice_words(s->advices);
    for (char **line = words; *line != NULL; line++) {
        nsk_page_text(s->page, "Advice: %s.", *line);
    }
    g_strfreev(words);
}

static bool tell_drift(report_content *s) {
    nsk_page_section(s->page, "Drift");
    if (s->whole != NULL) {
        nsk_page_text(s->page,
                      "Of the same model, but not streamed: there every layer stands whole.");
    }
    nsk_page_text(s->page,
                  "What rounding has done to each layer's output on %d images: signal over "
                  "error, so far and by the layer alone. 20 dB are a tenth, 40 dB a "
                  "hundredth.",
                  s->drift->images);
    nsk_page_table(s->page, "Layer by layer, dB",
                   "<layer\t>so far\t>alone\t>levels\t>lowest\t>highest\t>worst channel\t>");
    for (int i = 0; i < s->drift->layers; i++) {
        const nsk_drift_layer *l = &s->drift->layer[i];
        if (!l->measured) {
            nsk_page_row(s->page, "%s\t\t\t\t\t\tstands in another order\t", l->name);
            continue;
        }
        char alone[32] = "";
        if (!isnan(l->alone_db)) {
            g_snprintf(alone, sizeof alone, "%.1f", l->alone_db);
        }
        nsk_page_row(s->page, "%s\t%.1f\t%s\t%d\t%.2f %%\t%.2f %%\t%.1f\tchannel %d", l->name,
                     l->sqnr_db, alone, l->levels, 100.0 * l->at_low, 100.0 * l->at_high,
                     l->worst_channel_db, l->worst_channel);
    }
    nsk_page_table_end(s->page);
    tell_regain(s);
    tell_advice(s);
    char *plot = report_drawing(s, "drift.svg");
    return report_take(
        s, nsk_drift_draw(s->drift, s->regain, s->context->brief->name, plot, &s->context->error),
        plot, "Signal over error, layer by layer");
}

static void tell_layer_times(const report_content *s) {
    nsk_model model;
    const nsk_budget *b = s->budget;
    double clock = s->context->board->clock;
    char text[CLI_TEXT];
    double most = fmax(fmax(b->preparation.cycles, b->again.cycles),
                       fmax(b->check.cycles, b->frame_check.cycles));
    nsk_open(&model, s->context->model->bytes, s->context->model->size);
    for (int i = 0; i < b->layers; i++) {
        most = fmax(most, b->layer[i].cycles);
    }
    const struct {
        const char *name;
        double cycles;
    } around[] = {{"preparation", b->preparation.cycles},   {"scaling", b->scaling.cycles},
                  {"looking at it", b->frame_check.cycles}, {"model's checksum", b->check.cycles},
                  {"a second time", b->again.cycles},       {"rows kept", b->streaming.cycles}};
    nsk_page_table(s->page, "Time of each layer", "<layer\t>cycles\t>time\t>share\t=");
    for (int i = 0; i < (int)G_N_ELEMENTS(around) + b->layers; i++) {
        int layer = i - (int)G_N_ELEMENTS(around);
        double cycles = layer < 0 ? around[i].cycles : b->layer[layer].cycles;
        if (cycles > 0.0) {
            nsk_page_row(s->page, "%s\t%.0f\t%s\t%.1f %%\t%.3f",
                         layer < 0 ? around[i].name : nsk_layer_name(&model, (unsigned)layer),
                         cycles, cli_time(cycles / clock, text), 100.0 * cycles / b->cycles,
                         cycles / most);
        }
    }
    nsk_page_table_end(s->page);
}

static void tell_headroom(const report_content *s) {
    static const char *const names[] = {"flash", "ram", "latency"};
    char text[3][CLI_TEXT];
    nsk_page_subheading(s->page, "Headroom");
    nsk_page_text(s->page, "The limit of %s binds first. What would give some of it back:",
                  names[s->headroom->tightest]);
    nsk_page_table(s->page, "Reckoned from the layers' shapes",
                   "<change\t>flash\t>ram\t>time\t<\t<");
    for (int i = 0; i < s->headroom->count; i++) {
        const nsk_way_out *w = &s->headroom->way[i];
        nsk_page_row(s->page, "%s\t%s\t%s\t%s\t%s\t%s", w->what, cli_bytes(w->flash, text[0]),
                     cli_bytes(w->ram, text[1]), cli_time(w->seconds, text[2]),
                     w->fits ? "fits" : "too much", w->trains ? "train again" : "");
    }
    nsk_page_table_end(s->page);
}

static bool tell_budget(report_content *s) {
    const nsk_budget *b = s->budget;
    char text[4][CLI_TEXT];
    nsk_page_section(s->page, "Budget");
    nsk_page_text(s->page, "Board '%s': %s at %.4g MHz.", s->context->board->name,
                  s->context->board->core, s->context->board->clock / 1e6);
    tell_limits(s);
    nsk_page_text(s->page,
                  "Flash: model %s, code %s, of which the product's loop %s. RAM: workspace %s (no "
                  "plan can need less than %s), frame "
                  "%s, camera %s, stack %s.",
                  cli_bytes(b->flash_model, text[0]), cli_bytes(b->flash_code, text[1]),
                  cli_bytes(b->flash_loop, (char[CLI_TEXT]){0}),
                  cli_bytes(b->ram_workspace, text[2]), cli_bytes(b->ram_lower_bound, text[3]),
                  cli_bytes(b->ram_frame, (char[CLI_TEXT]){0}),
                  cli_bytes(b->ram_camera, (char[CLI_TEXT]){0}),
                  cli_bytes(b->ram_stack, (char[CLI_TEXT]){0}));
    if (b->timed) {
        nsk_page_text(s->page, "Time: by the misfits of the cost table %s to %s a frame.",
                      cli_time(b->seconds_low, text[0]), cli_time(b->seconds_high, text[1]));
    } else {
        nsk_page_text(s->page, "Time: at one instruction a cycle, as this core's timings are not "
                               "published; 'netsuke clock' learns the board's own.");
    }
    if (b->seconds_slow > 0.0) {
        nsk_page_text(s->page,
                      "A model of the core's pipeline, most of whose numbers are assumed, has it "
                      "between %s and %s, from memory that never waits.",
                      cli_time(b->seconds_fast, text[0]), cli_time(b->seconds_slow, text[1]));
    }
    nsk_page_text(s->page, "Code: %s. Cycles: %s. Stack: %s.", b->code_source, b->cycle_source,
                  b->stack_source);
    if (b->watts >= 0.0) {
        nsk_page_text(s->page, "Energy: %.2f mJ a frame while computing, %.2f mW on the average.",
                      1e3 * b->joules, 1e3 * b->watts);
    }
    if (b->days >= 0.0) {
        nsk_page_text(s->page, "Battery: %.4g Wh last %.1f days, awake %.0f %% of the time.",
                      s->context->brief->product.battery / 3600.0, b->days,
                      100.0 * s->context->brief->product.awake);
    }
    tell_layer_times(s);
    char *plan = report_drawing(s, "plan.svg");
    bool good = report_take(s, nsk_plan_draw(s->context->model, plan, &s->context->error), plan,
                            "What stands where in the workspace, and when");
    if (good) {
        tell_headroom(s);
    }
    return good;
}

static bool tell_variants(report_content *s) {
    if (s->variants == NULL) {
        return true;
    }
    int count = (int)s->variants->len;
    nsk_page_section(s->page, "Variants");
    nsk_page_text(s->page,
                  "Of %s. Starred: no other is as good or better in everything. In percent, "
                  "points, KiB, ms.",
                  s->context->brief->variants_brief);
    nsk_page_table(
        s->page, "Side by side",
        "<\t<variant\t<input\t>float\t>integer\t>95 %\t>loss\t>flash\t>ram\t>time\t>energy, mJ\t<");
    for (int i = 0; i < count; i++) {
        const nsk_variant *v = &s->weighed[i];
        const entry *e = &g_array_index(s->variants, entry, (guint)i);
        char energy[32] = "";
        if (v->joules >= 0.0) {
            g_snprintf(energy, sizeof energy, "%.2f", 1e3 * v->joules);
        }
        nsk_page_row(s->page,
                     "%s\t%s\t%s\t%.2f\t%.2f\t%.1f to %.1f\t%.2f\t%.1f\t%.1f\t%.1f\t%s\t%s",
                     v->beaten_by == NSK_NO_VARIANT ? "★" : "", v->name, e->traits[INPUT],
                     100.0 * share(v->float_correct, v->images),
                     100.0 * share(v->integer_correct, v->images), 100.0 * v->accuracy_low,
                     100.0 * v->accuracy_high, v->loss_points, v->flash / 1024.0, v->ram / 1024.0,
                     1e3 * v->seconds, energy,
                     !v->fits                         ? "breaks a limit"
                     : v->limits[NSK_LIMIT_LOSS].open ? "open"
                                                      : "fits");
    }
    nsk_page_table_end(s->page);
    char *plot = report_drawing(s, "variants.svg");
    return report_take(s, nsk_weigh_draw(s->weighed, count, plot, &s->context->error), plot,
                       "Time, accuracy and RAM of the variants");
}

static bool tell_scene(report_content *s, const play *p) {
    char *name = g_strdup_printf("%s.svg", p->name);
    char *path = report_drawing(s, name);
    char *title = g_strdup_printf("%s, %s", s->context->brief->name, p->name);
    bool good = report_take(s,
                            nsk_rehearsal_draw(p->rehearsal, &p->stage, &s->context->brief->labels,
                                               title, path, &s->context->error),
                            path, p->name);
    g_free(title);
    g_free(name);
    return good;
}

static bool tell_rehearsal(report_content *s) {
    GArray *plays = s->rehearsal.plays;
    if (plays->len == 0) {
        return true;
    }
    nsk_page_section(s->page, "Rehearsal");
    nsk_page_text(s->page,
                  "The product on the simulated board, on scenes whose truth is known, camera "
                  "at %g frames a second. An event is something that calls for a line.",
                  s->context->board->frame_rate);
    nsk_page_table(
        s->page, "Scenes",
        "<scene\t>frames\t>dropped\t>no answer\t>events\t>missed\t>longer than 5 frames\t"
        ">actions\t>false\t>delay, frames\t>energy");
    for (guint i = 0; i < plays->len; i++) {
        const play *p = play_at(&s->rehearsal, i);
        const nsk_rehearsal *r = p->rehearsal;
        const nsk_figures *f = &r->figures;
        char energy[32] = "";
        if (r->joules >= 0.0) {
            g_snprintf(energy, sizeof energy, "%.2f J", r->joules);
        }
        nsk_page_row(s->page, "%s\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t%.1f\t%s", p->name, r->frames,
                     r->dropped, r->faulted, f->events, f->missed, f->longer_missed, f->actions,
                     f->false_actions, f->delay_frames, energy);
    }
    nsk_page_table_end(s->page);
    for (guint i = 0; i < plays->len; i++) {
        const play *p = play_at(&s->rehearsal, i);
        if (p->rehearsal->figures.events > 0 && !tell_scene(s, p)) {
            return false;
        }
    }
    return true;
}

/* What the page was made by and of. */
static void tell_origin(const report_content *s) {
    const nsk_brief *brief = s->context->brief;
    GDateTime *now = g_date_time_new_now_local();
    char *date = g_date_time_format(now, "%Y-%m-%d %H:%M");
    char *sum = g_compute_checksum_for_data(G_CHECKSUM_SHA256, s->context->model->bytes,
                                            s->context->model->size);
    char *text = NULL;
    nsk_page_section(s->page, "Origin");
    nsk_page_text(s->page, "Made on %s by netsuke %s. The integer model: %zu bytes, SHA-256 %s.",
                  date, nsk_version(), s->context->model->size, sum);
    nsk_page_text(s->page, "The brief, %s:", brief->path);
    if (g_file_get_contents(brief->path, &text, NULL, NULL)) {
        nsk_page_verbatim(s->page, text);
    }
    g_free(text);
    g_free(sum);
    g_free(date);
    g_date_time_unref(now);
}

bool report_tell(report_content *s) {
    char *below =
        g_strdup_printf("%s on board '%s'", s->context->brief->path, s->context->board->name);
    s->page = nsk_page_new(nsk_network_fact(s->context->network, NSK_FACT_NAME), below);
    g_free(below);
    tell_summary(s);
    bool good = report_data(s) && tell_model(s) && tell_accuracy(s) && tell_drift(s) &&
                report_stress(s) && report_atlas(s) && tell_budget(s) && tell_variants(s) &&
                tell_rehearsal(s);
    if (!good) {
        nsk_page_free(s->page);
        return false;
    }
    tell_origin(s);
    return nsk_page_finish(s->page, s->own->output, &s->context->error);
}
