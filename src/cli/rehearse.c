/* netsuke rehearse: the product on the simulated board. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "csv.h"
#include "rehearse.h"
#include "table.h"

enum { SHORT_LIST = 12 };

static const char *label_of(const cli_context *context, int class_index) {
    const nsk_labels *labels = &context->brief->labels;
    return class_index < labels->count ? labels->names[class_index] : "none";
}

static const char *line_of(const cli_context *context, int line) {
    return nsk_line_name(&context->brief->decision, &context->brief->labels, line);
}

/* ---- for programs ---- */

static void json_figures(JsonBuilder *b, const nsk_figures *f) {
    cli_json_int(b, "events", f->events);
    cli_json_int(b, "missed", f->missed);
    cli_json_int(b, "longer", f->longer);
    cli_json_int(b, "longer_missed", f->longer_missed);
    cli_json_int(b, "false_actions", f->false_actions);
    cli_json_real(b, "delay_frames", f->delay_frames);
    cli_json_real(b, "delay_seconds", f->delay_seconds);
    cli_json_real(b, "missed_an_hour", f->missed_an_hour);
    cli_json_real(b, "false_an_hour", f->false_an_hour);
}

static void json_decisions(JsonBuilder *b, const cli_context *context, const play *p) {
    json_builder_set_member_name(b, "decisions");
    json_builder_begin_array(b);
    for (int i = 0; i < p->rehearsal->taken; i++) {
        const nsk_rehearsed *a = &p->rehearsal->answers[i];
        if (a->decided >= 0) {
            json_builder_begin_object(b);
            cli_json_real(b, "seconds", a->answered);
            cli_json_text(b, "line", line_of(context, a->decided));
            cli_json_text(b, "class", label_of(context, a->class_index));
            cli_json_real(b, "probability", (double)a->probability);
            cli_json_text(b, "image", nsk_film_name(p->film, a->frame));
            json_builder_end_object(b);
        }
    }
    json_builder_end_array(b);
}

static void json_play(JsonBuilder *b, const cli_context *context, const play *p) {
    const nsk_rehearsal *r = p->rehearsal;
    cli_json_text(b, "name", p->name);
    cli_json_int(b, "frames", r->frames);
    cli_json_int(b, "dropped", r->dropped);
    cli_json_int(b, "taken", r->taken);
    cli_json_int(b, "faults", r->faulted);
    cli_json_int(b, "resets", r->resets);
    cli_json_int(b, "correct", r->correct);
    cli_json_int(b, "known", r->known);
    cli_json_real(b, "seconds", r->seconds);
    cli_json_real(b, "busy_seconds", r->busy);
    cli_json_real(b, "frames_per_second", (r->taken - r->faulted) / r->seconds);
    if (r->joules >= 0.0) {
        cli_json_real(b, "joules", r->joules);
    }
    json_figures(b, &r->figures);
    json_decisions(b, context, p);
}

static void json_sweep(JsonBuilder *b, const nsk_sweep *points) {
    json_builder_set_member_name(b, "sweep");
    json_builder_begin_array(b);
    for (int i = 0; i < points->count; i++) {
        const nsk_sweep_point *p = &points->points[i];
        json_builder_begin_object(b);
        cli_json_real(b, "threshold", p->threshold);
        cli_json_int(b, "frames", p->frames);
        cli_json_int(b, "window", p->window);
        json_figures(b, &p->figures);
        json_builder_set_member_name(b, "beaten");
        json_builder_add_boolean_value(b, p->beaten);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
}

static void print_json(const rehearse_run *s, const nsk_sweep *points, const nsk_verdict *v) {
    JsonBuilder *b = cli_json_start(s->context);
    if (s->plays->len == 1) {
        json_play(b, s->context, play_at(s, 0));
    } else {
        json_builder_set_member_name(b, "scenes");
        json_builder_begin_array(b);
        for (guint i = 0; i < s->plays->len; i++) {
            json_builder_begin_object(b);
            json_play(b, s->context, play_at(s, i));
            json_builder_end_object(b);
        }
        json_builder_end_array(b);
    }
    if (points != NULL) {
        json_sweep(b, points);
    }
    cli_json_verdict(b, v);
    json_builder_end_object(b);
    cli_print_json(b);
}

static bool write_predictions(const rehearse_run *s) {
    static const char *const faults[NSK_FAULTS] = {"",
                                                   "camera late",
                                                   "picture cut",
                                                   "frozen",
                                                   "pixels stuck",
                                                   "rows repeated",
                                                   "model damaged",
                                                   "runs differ",
                                                   "memory damaged"};
    cli_csv *csv = cli_csv_new("image,label,arrived,answered,integer_class,integer_probability,"
                               "line,decided,fault");
    for (guint k = 0; k < s->plays->len; k++) {
        const play *p = play_at(s, k);
        for (int i = 0; i < p->rehearsal->taken; i++) {
            const nsk_rehearsed *a = &p->rehearsal->answers[i];
            int truth = nsk_film_truth(p->film, a->frame);
            bool answered = a->fault == NSK_FAULT_NONE;
            cli_csv_text(csv, nsk_film_name(p->film, a->frame));
            cli_csv_text(csv, truth == NSK_NOBODY_KNOWS ? "-" : label_of(s->context, truth));
            cli_csv_number(csv, a->arrived);
            cli_csv_number(csv, a->answered);
            cli_csv_text(csv, answered ? label_of(s->context, a->class_index) : "");
            cli_csv_number(csv, answered ? (double)a->probability : 0.0);
            cli_csv_text(csv, answered ? line_of(s->context, a->line) : "");
            cli_csv_text(csv, a->decided >= 0 ? line_of(s->context, a->decided) : "");
            cli_csv_text(csv, faults[a->fault]);
            cli_csv_end(csv);
        }
    }
    return cli_csv_write(csv, s->own->predictions, &s->context->error);
}

/* ---- for people ---- */

static void print_rule(const nsk_decision *d) {
    char text[400];
    int used = d->thresholds != NULL
                   ? g_snprintf(text, sizeof text,
                                "of the labels that reach their thresholds the one furthest above")
                   : g_snprintf(text, sizeof text, "probability at least %.2f", d->threshold);
    if (d->margin > 0.0) {
        used += g_snprintf(text + used, sizeof text - (gsize)used, ", %.2f more than the next",
                           d->margin);
    }
    if (d->window > 0) {
        used += g_snprintf(text + used, sizeof text - (gsize)used, " on %d of the last %d frames",
                           d->frames, d->window);
    } else {
        used += g_snprintf(text + used, sizeof text - (gsize)used, " on %d frame%s in a row",
                           d->frames, d->frames == 1 ? "" : "s");
    }
    if (d->hold_off > 0) {
        used += g_snprintf(text + used, sizeof text - (gsize)used, "; then none for %d frames",
                           d->hold_off);
    }
    g_snprintf(text + used, sizeof text - (gsize)used, "; at rest: %s",
               d->thresholds != NULL ? "where none does"
               : d->resting != NULL  ? d->resting
                                     : "no class");
    putchar('\n');
    cli_paragraph("Rule: ", text);
    putchar('\n');
}

static void add_figures(cli_table *table, const nsk_figures *f) {
    char text[CLI_TEXT];
    cli_table_row(table, "events\t%d\tthat call for a line, by the truth", f->events);
    cli_table_row(table, "missed\t%d\t%.1f an hour; of the %d longer than %d frames, %d", f->missed,
                  f->missed_an_hour, f->longer, NSK_LONG, f->longer_missed);
    cli_table_row(table, "false\t%d\tof %d actions had nothing that called for them; %.1f an hour",
                  f->false_actions, f->actions, f->false_an_hour);
    if (f->events > f->missed) {
        cli_table_row(table, "delay\t%.1f\tframes from event to action, at most %.0f; %s",
                      f->delay_frames, f->worst_delay_frames, cli_time(f->delay_seconds, text));
    }
}

static void print_summary(const rehearse_run *s, const play *p) {
    const rehearse_options *own = s->own;
    const nsk_rehearsal *r = p->rehearsal;
    char text[CLI_TEXT];
    int answered = r->taken - r->faulted;
    cli_table *table = cli_table_new("lrl");
    cli_table_row(table, "frames\t%d\tfrom the camera, in %s of virtual time", r->frames,
                  cli_time(r->seconds, text));
    cli_table_row(table, "dropped\t%d\tarrived while the device was busy", r->dropped);
    cli_table_row(table, "answered\t%d\t%.2f frames a second", answered, answered / r->seconds);
    if (r->faulted > 0 || r->resets > 0) {
        cli_table_row(table, "faults\t%d\tframes without an answer; %d restart%s", r->faulted,
                      r->resets, r->resets == 1 ? "" : "s");
    }
    cli_table_row(table, "right\t%d\t%.2f %% of the %d answers whose truth is known", r->correct,
                  r->known > 0 ? 100.0 * r->correct / r->known : 0.0, r->known);
    cli_table_row(table, "decisions\t%d\t%d of them by what was there", r->figures.actions,
                  r->figures.right);
    if (own->scene != NULL) {
        add_figures(table, &r->figures);
    }
    cli_table_row(table, "busy\t%.1f %%\tof the time", 100.0 * r->busy / r->seconds);
    if (r->joules >= 0.0) {
        cli_table_row(table, "energy\t%.2f J\t%.2f mJ a frame, waiting included", r->joules,
                      1e3 * r->joules / r->frames);
    }
    cli_table_print(table);
}

static void print_decisions(const rehearse_run *s, const play *p) {
    const cli_context *context = s->context;
    const rehearse_options *own = s->own;
    const nsk_rehearsal *r = p->rehearsal;
    int left = own->all ? r->taken : SHORT_LIST;
    cli_table *table = cli_table_new("rlrll");
    cli_table_row(table, "time\tline raised\tprobability\tthere was\t");
    for (int i = 0; i < r->taken && left > 0; i++) {
        const nsk_rehearsed *a = &r->answers[i];
        if (a->decided >= 0) {
            int truth = nsk_film_truth(p->film, a->frame);
            bool right = false;
            for (int e = 0; e < r->figures.events; e++) {
                right = right || r->event[e].caught == i;
            }
            cli_table_row(table, "%.3f s\t%s\t%.2f\t%s\t%s", a->answered,
                          line_of(context, a->decided), (double)a->probability,
                          truth == NSK_NOBODY_KNOWS ? "(moving)" : label_of(context, truth),
                          right ? "" : "wrong");
            left--;
        }
    }
    cli_table_print(table);
    if (!own->all && r->figures.actions > SHORT_LIST) {
        printf("... and %d more; --all lists them\n", r->figures.actions - SHORT_LIST);
    }
}

static void print_one(const rehearse_run *s, const play *p) {
    const cli_context *context = s->context;
    const rehearse_options *own = s->own;
    printf("%s on the simulated board '%s', camera at %g frames a second.\n", context->brief->name,
           context->board->name, context->board->frame_rate);
    if (own->scene != NULL) {
        int size[2];
        int stored[2];
        nsk_film_size(p->film, &size[0], &size[1]);
        nsk_film_stored_size(p->film, &stored[0], &stored[1]);
        printf("Scene %s, pictures of %d x %d pixels", own->scene, stored[0], stored[1]);
        if (size[0] != stored[0] || size[1] != stored[1]) {
            printf(", of which the camera gives %d x %d", size[0], size[1]);
        }
        puts("\n");
    } else {
        printf("Pictures of %s, in an order drawn from seed %d\n\n", context->brief->held_out,
               own->seed);
    }
    print_summary(s, p);
    print_rule(&context->brief->decision);
    print_decisions(s, p);
}

static void print_scenes(const rehearse_run *s) {
    const cli_context *context = s->context;
    printf("%s on the simulated board '%s', camera at %g frames a second.\n\n",
           context->brief->name, context->board->name, context->board->frame_rate);
    cli_table *table = cli_table_new("lrrrrrrrrrr");
    cli_table_row(table, "scene\tframes\tdropped\tno answer\tevents\tmissed\tlong missed\tactions\t"
                         "false\tdelay\tenergy");
    for (guint i = 0; i < s->plays->len; i++) {
        const play *p = play_at(s, i);
        const nsk_rehearsal *r = p->rehearsal;
        const nsk_figures *f = &r->figures;
        char energy[CLI_TEXT] = "";
        if (r->joules >= 0.0) {
            g_snprintf(energy, sizeof energy, "%.2f J", r->joules);
        }
        cli_table_row(table, "%s\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t%d\t%.1f\t%s", p->name, r->frames,
                      r->dropped, r->faulted, f->events, f->missed, f->longer_missed, f->actions,
                      f->false_actions, f->delay_frames, energy);
    }
    cli_table_print(table);
    puts("");
    cli_paragraph("event   ",
                  "something that calls for a line, by the scene's own truth; long: more "
                  "than 5 frames");
    cli_paragraph("false   ", "actions with nothing there that called for them");
    cli_paragraph("delay   ", "mean, in frames, from event to action");
    print_rule(&context->brief->decision);
}

static void print_sweep(const nsk_sweep *points) {
    printf("%d other settings of the rule on the same scores. Those that none betters in both\n"
           "missed and false, and the brief's own:\n\n",
           points->count - 1);
    cli_table *table = cli_table_new("lrrrrr");
    cli_table_row(table, "\tthreshold\tframes\tmissed\tfalse\tdelay");
    for (int i = 0; i < points->count; i++) {
        const nsk_sweep_point *p = &points->points[i];
        char frames[32];
        if (p->window > 0) {
            g_snprintf(frames, sizeof frames, "%d of %d", p->frames, p->window);
        } else {
            g_snprintf(frames, sizeof frames, "%d in a row", p->frames);
        }
        if (p->own || !p->beaten) {
            cli_table_row(table, "%s\t%.2f\t%s\t%d\t%d\t%.1f", p->own ? "brief" : "", p->threshold,
                          frames, p->figures.missed, p->figures.false_actions,
                          p->figures.delay_frames);
        }
    }
    cli_table_print(table);
}

static nsk_sweep *sweep(const rehearse_run *s) {
    nsk_rehearsal **rehearsals = g_new(nsk_rehearsal *, s->plays->len);
    nsk_stage *stages = g_new(nsk_stage, s->plays->len);
    for (guint i = 0; i < s->plays->len; i++) {
        rehearsals[i] = play_at(s, i)->rehearsal;
        stages[i] = play_at(s, i)->stage;
    }
    nsk_sweep *points = nsk_sweep_make(rehearsals, stages, (int)s->plays->len);
    g_free(rehearsals);
    g_free(stages);
    return points;
}

static bool write_files(const rehearse_run *s, const nsk_sweep *points) {
    const rehearse_options *own = s->own;
    cli_context *context = s->context;
    const play *first = play_at(s, 0);
    const nsk_labels *labels = &context->brief->labels;
    if (s->plays->len > 1 && (own->signals != NULL || (own->plot != NULL && points == NULL))) {
        return nsk_fail(&context->error,
                        "--signals and --plot without --sweep want one scene: --scene FILE");
    }
    char *title = g_strdup_printf("%s, %s", context->brief->name, first->name);
    bool good =
        (own->predictions == NULL || write_predictions(s)) &&
        (own->signals == NULL ||
         nsk_rehearsal_write_signals(first->rehearsal, &first->stage, labels, own->signals,
                                     &context->error)) &&
        (own->plot == NULL ||
         (points != NULL ? nsk_sweep_draw(points, context->brief->name, own->plot, &context->error)
                         : nsk_rehearsal_draw(first->rehearsal, &first->stage, labels, title,
                                              own->plot, &context->error)));
    g_free(title);
    return good;
}

static void print(const rehearse_run *s, const nsk_sweep *points, const nsk_verdict *v) {
    if (s->context->json) {
        print_json(s, points, v);
        return;
    }
    cli_print_facts(s->context);
    if (s->plays->len == 1) {
        print_one(s, play_at(s, 0));
    } else {
        print_scenes(s);
    }
    if (points != NULL) {
        putchar('\n');
        print_sweep(points);
    }
    if (nsk_verdict_standing(v) != NSK_STANDING_HOLDS) {
        putchar('\n');
        cli_print_findings(v);
    }
}

static int run(cli_context *context) {
    const rehearse_options *own = context->own;
    rehearse_run s;
    rehearse_begin(&s, context, own);
    bool good = rehearse_play(&s);
    if (good && own->sweep && context->brief->labels.thresholds != NULL) {
        good = nsk_fail(&context->error, "--sweep tries other thresholds of one class of all; "
                                         "[thresholds] has one for each label: change them there");
    }
    nsk_sweep *points = good && own->sweep ? sweep(&s) : NULL;
    good = good && write_files(&s, points);
    int status = CLI_DONE;
    if (good) {
        nsk_verdict *v = nsk_verdict_new();
        rehearse_judge(&s, v);
        print(&s, points, v);
        status = cli_conclude_board(context, cli_conclude(context, v));
        nsk_verdict_free(v);
    }
    nsk_sweep_free(points);
    rehearse_end(&s);
    return good ? status : cli_fail(context);
}

static const cli_own own_options[] = {
    {"frames", offsetof(rehearse_options, frames), 0},
    {"seed", offsetof(rehearse_options, seed), 1},
    {"predictions", offsetof(rehearse_options, predictions), 0},
    {"all", offsetof(rehearse_options, all), 0},
    {"scene", offsetof(rehearse_options, scene), 0},
    {"scenes", offsetof(rehearse_options, scenes), 0},
    {"sweep", offsetof(rehearse_options, sweep), 0},
    {"signals", offsetof(rehearse_options, signals), 0},
    {"plot", offsetof(rehearse_options, plot), 0},
    {"capture", offsetof(rehearse_options, capture), 0},
    {"fault", offsetof(rehearse_options, faults), 0},
    {NULL, 0, 0},
};

const cli_command cli_rehearse = {
    .name = "rehearse",
    .summary = "the product on the simulated board: frames in, decisions out",
    .arguments = "BRIEF",
    .example =
        "  netsuke rehearse demo/kiln.ini --scene demo/scenes/plain.csv --plot plain.svg\n"
        "plays a scene with its truth, and says what the rule missed and what it did for nothing; "
        "without\n"
        "a scene, held-out images. --scenes plays all that the brief names, --sweep tries other "
        "rules on\n"
        "the same scores, --fault flash@40 breaks something at frame 40. --on LINK runs each frame "
        "on a\n"
        "board, too, and holds its scores against these.",
    .least = 1,
    .most = 1,
    .shared = "model board calibration held-out tolerant strict on remember",
    .own = own_options,
    .own_size = sizeof(rehearse_options),
    .usual = "frames: all; seed: 1",
    .run = run,
};
