/* netsuke report: the whole report_content on one page. */
#include <glib/gstdio.h>
#include <stdio.h>

#include "report.h"

enum { VET_SAMPLE = 600, DRIFT_SAMPLE = 200, STRESS_SAMPLE = 120, ATLAS_SAMPLE = 300, SEED = 1 };

static double share(int part, int whole) {
    return whole > 0 ? (double)part / whole : 0.0;
}

/* ---- what is told ---- */

static bool sample_of(cli_context *context, int count, nsk_images **images) {
    int kept = context->sample;
    context->sample = count;
    *images = cli_open_held_out(context);
    context->sample = kept;
    return *images != NULL;
}

static bool vet(report_content *s) {
    nsk_images *some;
    if (!sample_of(s->context, VET_SAMPLE, &some)) {
        return false;
    }
    s->vetting = nsk_vet(s->context->network, some, cli_progress, NULL, &s->context->error);
    nsk_images_free(some);
    return s->vetting != NULL;
}

/* A model whose layers all stand whole: a streamed one is made once more without. */
static const nsk_model_file *whole_model(report_content *s) {
    cli_context *context = s->context;
    nsk_model model;
    nsk_recipe recipe;
    nsk_open(&model, context->model->bytes, context->model->size);
    if (model.streamed == 0) {
        return context->model;
    }
    if (s->whole == NULL && cli_make_recipe(context, &recipe)) {
        recipe.streaming = NSK_STREAMING_NEVER;
        s->whole = nsk_quantise(context->network, context->calibration, &recipe, &context->error);
    }
    return s->whole;
}

static const nsk_network *network_of_model(const cli_context *context) {
    return context->equalised != NULL ? context->equalised : context->network;
}

/* Layer by layer: the error, what would come back without it, and what measurably helps. */
static bool find_drift(report_content *s) {
    cli_context *context = s->context;
    nsk_images *some = NULL;
    const nsk_model_file *model = whole_model(s);
    nsk_recipe recipe = context->brief->recipe;
    recipe.streaming = NSK_STREAMING_NEVER;
    bool good =
        model != NULL && cli_load_equalised(context) && sample_of(context, DRIFT_SAMPLE, &some) &&
        (s->drift = nsk_drift_measure(network_of_model(context), model, some, cli_progress, NULL,
                                      &context->error)) != NULL &&
        (s->regain = nsk_regain_measure(context->network, context->calibration, &recipe, some,
                                        cli_progress, NULL, &context->error)) != NULL &&
        (s->advices = nsk_advise(context->network, context->calibration, &recipe, model, s->drift,
                                 s->regain, some, cli_progress, NULL, &context->error)) != NULL;
    nsk_images_free(some);
    return good;
}

static bool find_stress(report_content *s) {
    cli_context *context = s->context;
    nsk_images *some;
    if (!sample_of(context, STRESS_SAMPLE, &some)) {
        return false;
    }
    s->stress =
        nsk_stress_measure(context->network, context->model, some, stress_resting_class(context),
                           SEED, cli_progress, NULL, &context->error);
    nsk_images_free(some);
    return s->stress != NULL;
}

/* Where a network has none, the page says why. */
static bool find_atlas(report_content *s) {
    cli_context *context = s->context;
    const nsk_model_file *model = whole_model(s);
    if (model == NULL || !cli_load_equalised(context) ||
        !sample_of(context, ATLAS_SAMPLE, &s->on_plane)) {
        return false;
    }
    s->atlas = nsk_atlas_make(network_of_model(context), model, s->on_plane, false, cli_progress,
                              NULL, &s->no_atlas);
    return true;
}

/* Of the whole calibration set, though its limit leaves some of it unused. */
static bool survey(report_content *s) {
    cli_context *context = s->context;
    int limit = context->brief->calibration_limit;
    context->brief->calibration_limit = 0;
    nsk_images *all = cli_open_calibration(context);
    context->brief->calibration_limit = limit;
    s->survey = all != NULL
                    ? nsk_survey_make(all, context->held_out, cli_progress, NULL, &context->error)
                    : NULL;
    nsk_images_free(all);
    return s->survey != NULL;
}

static void judge(report_content *s) {
    const nsk_brief *brief = s->context->brief;
    s->verdict = nsk_verdict_new();
    nsk_judge_survey(s->verdict, s->survey, &brief->labels);
    nsk_judge_vetting(s->verdict, s->vetting);
    nsk_judge_comparison(s->verdict, s->comparison, &brief->labels, brief->limits.loss);
    nsk_judge_budget(s->verdict, s->budget);
    rehearse_judge(&s->rehearsal, s->verdict);
}

static bool find_variants(report_content *s) {
    cli_context *context = s->context;
    if (context->brief->variants_brief == NULL) {
        return true;
    }
    s->weigh_own.keep = g_strdup(s->own->keep);
    s->variants_context = (cli_context){.arguments = g_new0(char *, 2)};
    s->variants_context.arguments[0] = g_strdup(context->brief->variants_brief);
    s->variants = weigh_collect(&s->variants_context, &s->weigh_own, &s->weighed);
    context->error = s->variants_context.error;
    return s->variants != NULL;
}

static bool rehearse(report_content *s) {
    rehearse_begin(&s->rehearsal, s->context, &s->rehearse_own);
    if (s->context->brief->scenes == NULL) {
        return true;
    }
    s->rehearse_own.scenes = TRUE;
    return rehearse_play(&s->rehearsal);
}

static bool find_out(report_content *s) {
    cli_context *context = s->context;
    const nsk_brief *brief;
    if (!cli_load_board(context) || !cli_load_network(context) || !cli_load_calibration(context) ||
        !cli_load_held_out(context) || !cli_load_model(context)) {
        return false;
    }
    brief = context->brief;
    s->outline = nsk_network_outline(context->network);
    s->comparison = survey(s) ? nsk_compare(context->network, context->model, context->held_out,
                                            cli_progress, NULL, &context->error)
                              : NULL;
    s->budget = s->comparison != NULL
                    ? nsk_budget_make(context->model, context->board, &brief->product,
                                      &brief->limits, &context->error)
                    : NULL;
    s->headroom = s->budget != NULL
                      ? nsk_headroom_make(context->model, NULL, context->board, &brief->product,
                                          &brief->limits, &context->error)
                      : NULL;
    if (s->headroom == NULL || !vet(s) || !find_drift(s) || !find_stress(s) || !find_atlas(s) ||
        !find_variants(s) || !rehearse(s)) {
        return false;
    }
    judge(s);
    return true;
}

static void clear(report_content *s) {
    nsk_survey_free(s->survey);
    nsk_vetting_free(s->vetting);
    nsk_outline_free(s->outline);
    nsk_comparison_free(s->comparison);
    nsk_drift_free(s->drift);
    nsk_regain_free(s->regain);
    nsk_advices_free(s->advices);
    nsk_stress_free(s->stress);
    nsk_atlas_free(s->atlas);
    nsk_images_free(s->on_plane);
    nsk_model_file_free(s->whole);
    nsk_budget_free(s->budget);
    nsk_headroom_free(s->headroom);
    nsk_verdict_free(s->verdict);
    if (s->variants != NULL) {
        g_array_free(s->variants, TRUE);
        g_free(s->weighed);
    }
    cli_context_clear(&s->variants_context);
    g_free(s->weigh_own.keep);
    if (s->rehearsal.plays != NULL) {
        rehearse_end(&s->rehearsal);
    }
    g_rmdir(s->folder);
    g_free(s->folder);
}

static void json_rehearsal(JsonBuilder *b, const report_content *s) {
    nsk_figures sum = {0};
    for (guint i = 0; i < s->rehearsal.plays->len; i++) {
        const nsk_figures *f = &play_at(&s->rehearsal, i)->rehearsal->figures;
        sum.events += f->events;
        sum.missed += f->missed;
        sum.false_actions += f->false_actions;
    }
    cli_json_real(b, "scenes", s->rehearsal.plays->len);
    cli_json_real(b, "events", sum.events);
    cli_json_real(b, "missed", sum.missed);
    cli_json_real(b, "false_actions", sum.false_actions);
}

static void print_json(const report_content *s) {
    const nsk_comparison *c = s->comparison;
    JsonBuilder *b = cli_json_start(s->context);
    cli_json_text(b, "report", s->own->output);
    cli_json_real(b, "images", c->images);
    cli_json_real(b, "float_accuracy", share(c->float_correct, c->images));
    cli_json_real(b, "integer_accuracy", share(c->integer_correct, c->images));
    cli_json_real(b, "loss_points", c->loss_points);
    cli_json_real(b, "loss_low", c->loss_low);
    cli_json_real(b, "loss_high", c->loss_high);
    cli_json_real(b, "flash", s->budget->flash);
    cli_json_real(b, "ram", s->budget->ram);
    cli_json_real(b, "seconds", s->budget->seconds);
    json_rehearsal(b, s);
    json_builder_set_member_name(b, "holds");
    json_builder_add_boolean_value(b, nsk_verdict_standing(s->verdict) != NSK_STANDING_BROKEN);
    cli_json_verdict(b, s->verdict);
    json_builder_end_object(b);
    cli_print_json(b);
}

static int run(cli_context *context) {
    const report_options *own = context->own;
    report_content s = {.context = context, .own = own};
    if (own->output == NULL) {
        nsk_fail(&context->error, "report wants -o R.html: where to write the page");
        return cli_fail(context);
    }
    s.folder = g_dir_make_tmp("netsuke-XXXXXX", NULL);
    bool good = find_out(&s) && report_tell(&s);
    if (good && context->json) {
        print_json(&s);
    } else if (good) {
        printf("%s: the whole story on one page; %s\n", own->output, cli_verdict_words(s.verdict));
        cli_print_findings(s.verdict);
    }
    int status = good ? cli_conclude(context, s.verdict) : CLI_ERROR;
    clear(&s);
    return good ? status : cli_fail(context);
}

static const cli_own own_options[] = {
    {"output", offsetof(report_options, output), 0},
    {"keep", offsetof(report_options, keep), 0},
    {NULL, 0, 0},
};

const cli_command cli_report = {
    .name = "report",
    .summary = "the whole story on one page",
    .arguments = "BRIEF",
    .example =
        "  netsuke report demo/kiln.ini -o kiln.html\n"
        "writes one page that needs nothing else: data, model, accuracy, drift, stress, atlas, "
        "budget,\n"
        "the variants and scenes that the brief names.",
    .least = 1,
    .most = 1,
    .shared = "model board calibration held-out tolerant strict",
    .own = own_options,
    .own_size = sizeof(report_options),
    .usual = "keep: the user's cache",
    .run = run,
};
