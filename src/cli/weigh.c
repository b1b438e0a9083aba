/* netsuke weigh: variants side by side. */
#include "weigh.h"

#include <stdio.h>
#include <string.h>

static void describe(entry *e) {
    static const char *const ranges[] = {"auto", "extremes", "percentile", "squared-error",
                                         "divergence"};
    const nsk_brief *b = e->job.brief;
    nsk_model model;
    nsk_open(&model, e->measured.model->bytes, e->measured.model->size);
    e->traits[MODEL] = g_path_get_basename(b->model);
    e->traits[INPUT] = g_strdup_printf("%ux%u", model.width, model.height);
    e->traits[BOARD] = g_strdup(e->job.board->name);
    e->traits[RANGES] = g_strdup(ranges[b->recipe.ranges]);
    e->traits[STREAMED] =
        model.streamed > 0 ? g_strdup_printf("%u layers", model.streamed) : g_strdup("no");
    e->traits[REFINED] = g_strdup(b->refine ? "yes" : "no");
}

void weigh_clear_entry(void *data) {
    entry *e = data;
    for (int t = 0; t < TRAITS; t++) {
        g_free(e->traits[t]);
    }
    nsk_measured_clear(&e->measured);
    cli_job_clear(&e->job);
    g_free(e->key);
}

/* A job of its own for a variant, with the options of the whole. */
static entry begin(const cli_job *job, const char *path, int variant) {
    entry e = {.job = {.seed = job->seed,
                       .sample = job->sample,
                       .tolerant = job->tolerant,
                       .variant = variant,
                       .arguments = g_new0(char *, 2),
                       .board_path = g_strdup(job->board_path),
                       .held_out_path = g_strdup(job->held_out_path),
                       .calibration_path = g_strdup(job->calibration_path),
                       .training_path = g_strdup(job->training_path)}};
    e.job.arguments[0] = g_strdup(path);
    return e;
}

/* Every variant of every brief, but those that --only leaves out. */
static bool expand(cli_job *job, GArray *entries) {
    for (char **path = job->arguments; *path != NULL; path++) {
        int variants = 1;
        for (int i = 0; i < variants; i++) {
            entry e = begin(job, *path, i);
            if (!cli_load_brief(&e.job)) {
                job->error = e.job.error;
                weigh_clear_entry(&e);
                return false;
            }
            variants = e.job.brief->variants;
            e.name = e.job.brief->variant;
            if (job->only == NULL || strcmp(job->only, e.name) == 0) {
                g_array_append_val(entries, e);
            } else {
                weigh_clear_entry(&e);
            }
        }
    }
    if (entries->len == 0) {
        nsk_fail(&job->error, "--only %s: no variant has this name; --list shows them all",
                 job->only);
    }
    return entries->len > 0;
}

/* Loads what the variant is measured on, and what is known of it from before. */
static bool look_up(entry *e, const char *folder) {
    cli_job *job = &e->job;
    nsk_recipe recipe;
    if (!cli_load_board(job) || !cli_load_network(job) || !cli_load_calibration(job) ||
        !cli_load_held_out(job) || !cli_make_recipe(job, &recipe)) {
        return false;
    }
    e->key =
        nsk_measurement_key(job->network, job->calibration, &recipe, job->held_out, &job->error);
    e->is_measured = e->key != NULL && nsk_measured_read(&e->measured, folder, e->key);
    return e->key != NULL;
}

static bool measure(entry *e, const char *folder) {
    cli_job *job = &e->job;
    nsk_recipe recipe;
    e->is_measured =
        cli_make_recipe(job, &recipe) && nsk_measure(job->network, job->calibration, &recipe,
                                                     job->held_out, &e->measured, &job->error);
    return e->is_measured && nsk_measured_write(&e->measured, folder, e->key, &job->error);
}

/* The only one that is missing is measured here, several in processes. */
static bool measure_missing(cli_job *job, GArray *entries, const char *folder) {
    entry *all = (entry *)(void *)entries->data;
    entry *missing = NULL;
    int count = 0;
    for (guint i = 0; i < entries->len; i++) {
        if (!look_up(&all[i], folder)) {
            job->error = all[i].job.error;
            return false;
        }
        if (!all[i].is_measured) {
            missing = &all[i];
            count++;
        }
    }
    if (count == 1) {
        bool good = measure(missing, folder);
        job->error = missing->job.error;
        return good;
    }
    if (count > 0 && !weigh_fan_out(job, all, (int)entries->len, folder)) {
        return false;
    }
    for (guint i = 0; i < entries->len; i++) {
        entry *e = &all[i];
        if (!e->is_measured && !nsk_measured_read(&e->measured, folder, e->key)) {
            return nsk_fail(&job->error,
                            "variant %s: its measurement is not in %s; pictures may have changed "
                            "meanwhile: try again",
                            e->name, folder);
        }
    }
    return true;
}

static bool rank(cli_job *job, GArray *entries, nsk_variant *variants) {
    for (guint i = 0; i < entries->len; i++) {
        entry *e = &g_array_index(entries, entry, i);
        const nsk_limits *limits = &e->job.brief->limits;
        nsk_budget *b = nsk_budget_make(e->measured.model, e->job.board, &e->job.brief->product,
                                        limits, &job->error);
        if (b == NULL) {
            return false;
        }
        variants[i] = nsk_variant_of(e->name, &e->measured, b, limits);
        describe(e);
        nsk_budget_free(b);
    }
    nsk_weigh(variants, (int)entries->len);
    return true;
}

static void list(const cli_job *job, const GArray *entries) {
    for (guint i = 0; i < entries->len; i++) {
        char *line = weigh_command_line(job, &g_array_index(entries, entry, i));
        puts(line);
        g_free(line);
    }
}

static int show(cli_job *job, GArray *entries) {
    entry *all = (entry *)(void *)entries->data;
    int count = (int)entries->len;
    nsk_variant *variants = g_new0(nsk_variant, count);
    bool fit = true;
    bool good = rank(job, entries, variants) &&
                (job->points == NULL || weigh_write_points(job, all, variants, count)) &&
                (job->plot == NULL || nsk_weigh_draw(variants, count, job->plot, &job->error));
    for (int i = 0; i < count; i++) {
        bool open = variants[i].limits[NSK_LIMIT_LOSS].open;
        fit = fit && variants[i].fits && !(open && job->strict);
    }
    if (good && job->json) {
        weigh_print_json(all, variants, count);
    } else if (good) {
        weigh_print(all, variants, count);
    }
    g_free(variants);
    return !good ? cli_fail(job) : fit ? CLI_DONE : CLI_LIMIT_BROKEN;
}

static GArray *begin_all(cli_job *job) {
    GArray *entries = g_array_new(FALSE, TRUE, sizeof(entry));
    g_array_set_clear_func(entries, weigh_clear_entry);
    if (job->keep == NULL) {
        job->keep = g_build_filename(g_get_user_cache_dir(), "netsuke", NULL);
    }
    return entries;
}

GArray *weigh_collect(cli_job *job, nsk_variant **variants) {
    GArray *entries = begin_all(job);
    bool good = expand(job, entries) && measure_missing(job, entries, job->keep);
    *variants = g_new0(nsk_variant, entries->len + 1);
    if (!good || !rank(job, entries, *variants)) {
        g_array_free(entries, TRUE);
        g_free(*variants);
        return NULL;
    }
    return entries;
}

static int run(cli_job *job) {
    GArray *entries = begin_all(job);
    bool good = expand(job, entries);
    int status = CLI_DONE;
    if (good && job->list) {
        list(job, entries);
    } else {
        good = good && measure_missing(job, entries, job->keep);
        status = good ? show(job, entries) : status;
    }
    status = good ? status : cli_fail(job);
    g_array_free(entries, TRUE);
    return status;
}

const cli_command cli_weigh = {
    "weigh",
    "variants side by side against their limits",
    "BRIEF...",
    "  netsuke weigh demo/variants.ini --plot weigh.svg\n"
    "measures each and marks those that no other beats in everything; it picks none. What has "
    "been\n"
    "measured once is kept. --list prints a command a variant, to be spread over processors or\n"
    "machines with the same build of netsuke: netsuke weigh demo/variants.ini --list | parallel",
    1,
    1000,
    "board calibration held-out tolerant training sample points plot keep only list jobs strict",
    "sample: all; keep: the user's cache; jobs: one a processor",
    run,
};
