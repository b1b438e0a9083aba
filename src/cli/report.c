/* netsuke report: the whole report_content on one page. */
#include <glib/gstdio.h>
#include <stdio.h>

#include "report.h"

enum { VET_SAMPLE = 600, DRIFT_SAMPLE = 200, STRESS_SAMPLE = 120, ATLAS_SAMPLE = 300, SEED = 1 };

static double share(int part, int whole) {
    return whole > 0 ? (double)part / whole : 0.0;
}

/* ---- what is told ---- */

static bool sample_of(cli_job *job, int count, nsk_images **images) {
    int kept = job->sample;
    job->sample = count;
    *images = cli_open_held_out(job);
    job->sample = kept;
    return *images != NULL;
}

static bool vet(report_content *s) {
    nsk_images *some;
    if (!sample_of(s->job, VET_SAMPLE, &some)) {
        return false;
    }
    s->vetting = nsk_vet(s->job->network, some, cli_progress, NULL, &s->job->error);
    nsk_images_free(some);
    return s->vetting != NULL;
}

/* A model whose layers all stand whole: a streamed one is made once more without. */
static const nsk_model_file *whole_model(report_content *s) {
    cli_job *job = s->job;
    nsk_model model;
    nsk_recipe recipe;
    nsk_open(&model, job->model->bytes, job->model->size);
    if (model.streamed == 0) {
        return job->model;
    }
    if (s->whole == NULL && cli_make_recipe(job, &recipe)) {
        recipe.streaming = NSK_STREAMING_NEVER;
        s->whole = nsk_quantise(job->network, job->calibration, &recipe, &job->error);
    }
    return s->whole;
}

static const nsk_network *network_of_model(const cli_job *job) {
    return job->equalised != NULL ? job->equalised : job->network;
}

/* Layer by layer: the error, what would come back without it, and what measurably helps. */
static bool find_drift(report_content *s) {
    cli_job *job = s->job;
    nsk_images *some = NULL;
    const nsk_model_file *model = whole_model(s);
    nsk_recipe recipe = job->brief->recipe;
    recipe.streaming = NSK_STREAMING_NEVER;
    bool good = model != NULL && cli_load_equalised(job) && sample_of(job, DRIFT_SAMPLE, &some) &&
                (s->drift = nsk_drift_measure(network_of_model(job), model, some, cli_progress,
                                              NULL, &job->error)) != NULL &&
                (s->regain = nsk_regain_measure(job->network, job->calibration, &recipe, some,
                                                cli_progress, NULL, &job->error)) != NULL &&
                (s->advices = nsk_advise(job->network, job->calibration, &recipe, model, s->drift,
                                         some, cli_progress, NULL, &job->error)) != NULL;
    nsk_images_free(some);
    return good;
}

static bool find_stress(report_content *s) {
    cli_job *job = s->job;
    nsk_images *some;
    if (!sample_of(job, STRESS_SAMPLE, &some)) {
        return false;
    }
    s->stress = nsk_stress_measure(job->network, job->model, some, stress_resting_class(job), SEED,
                                   cli_progress, NULL, &job->error);
    nsk_images_free(some);
    return s->stress != NULL;
}

/* Where a network has none, the page says why. */
static bool find_atlas(report_content *s) {
    cli_job *job = s->job;
    const nsk_model_file *model = whole_model(s);
    if (model == NULL || !cli_load_equalised(job) || !sample_of(job, ATLAS_SAMPLE, &s->on_plane)) {
        return false;
    }
    s->atlas = nsk_atlas_make(network_of_model(job), model, s->on_plane, false, cli_progress, NULL,
                              &s->no_atlas);
    return true;
}

/* Of the whole calibration set, though its limit leaves some of it unused. */
static bool survey(report_content *s) {
    cli_job *job = s->job;
    int limit = job->brief->calibration_limit;
    job->brief->calibration_limit = 0;
    nsk_images *all = cli_open_calibration(job);
    job->brief->calibration_limit = limit;
    s->survey =
        all != NULL ? nsk_survey_make(all, job->held_out, cli_progress, NULL, &job->error) : NULL;
    nsk_images_free(all);
    return s->survey != NULL;
}

static void judge(report_content *s) {
    const nsk_brief *brief = s->job->brief;
    s->verdict = nsk_verdict_new();
    nsk_judge_survey(s->verdict, s->survey, &brief->labels);
    nsk_judge_vetting(s->verdict, s->vetting);
    nsk_judge_comparison(s->verdict, s->comparison, &brief->labels, brief->limits.loss);
    nsk_judge_budget(s->verdict, s->budget);
    rehearse_judge(&s->rehearsal, s->verdict);
}

static bool find_variants(report_content *s) {
    cli_job *job = s->job;
    if (job->brief->variants_brief == NULL) {
        return true;
    }
    s->variants_job =
        (cli_job){.seed = 1, .keep = g_strdup(job->keep), .arguments = g_new0(char *, 2)};
    s->variants_job.arguments[0] = g_strdup(job->brief->variants_brief);
    s->variants = weigh_collect(&s->variants_job, &s->weighed);
    job->error = s->variants_job.error;
    return s->variants != NULL;
}

static bool rehearse(report_content *s) {
    rehearse_begin(&s->rehearsal, s->job);
    if (s->job->brief->scenes == NULL) {
        return true;
    }
    s->job->scenes = TRUE;
    return rehearse_play(&s->rehearsal);
}

static bool find_out(report_content *s) {
    cli_job *job = s->job;
    const nsk_brief *brief;
    if (!cli_load_board(job) || !cli_load_network(job) || !cli_load_calibration(job) ||
        !cli_load_held_out(job) || !cli_load_model(job)) {
        return false;
    }
    brief = job->brief;
    s->outline = nsk_network_outline(job->network);
    s->comparison = survey(s) ? nsk_compare(job->network, job->model, job->held_out, cli_progress,
                                            NULL, &job->error)
                              : NULL;
    s->budget = s->comparison != NULL ? nsk_budget_make(job->model, job->board, &brief->product,
                                                        &brief->limits, &job->error)
                                      : NULL;
    s->headroom = s->budget != NULL
                      ? nsk_headroom_make(job->model, NULL, job->board, &brief->product,
                                          &brief->limits, &job->error)
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
    cli_job_clear(&s->variants_job);
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
    JsonBuilder *b = cli_json_start(s->job);
    cli_json_text(b, "report", s->job->output);
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

static int run(cli_job *job) {
    report_content s = {.job = job};
    if (job->output == NULL) {
        nsk_fail(&job->error, "report wants -o R.html: where to write the page");
        return cli_fail(job);
    }
    s.folder = g_dir_make_tmp("netsuke-XXXXXX", NULL);
    bool good = find_out(&s) && report_tell(&s);
    if (good && job->json) {
        print_json(&s);
    } else if (good) {
        printf("%s: the whole story on one page; %s\n", job->output, cli_verdict_words(s.verdict));
        cli_print_findings(s.verdict);
    }
    int status = good ? cli_conclude(job, s.verdict) : CLI_ERROR;
    clear(&s);
    return good ? status : cli_fail(job);
}

const cli_command cli_report = {
    "report",
    "the whole story on one page",
    "BRIEF",
    "  netsuke report demo/kiln.ini -o kiln.html\n"
    "writes one page that needs nothing else: data, model, accuracy, drift, stress, atlas, "
    "budget,\n"
    "the variants and scenes that the brief names.",
    1,
    1,
    "model board calibration held-out tolerant output keep strict",
    "keep: the user's cache",
    run,
};
