/* netsuke weigh: variants side by side. */
#include "weigh.h"

#include <stdio.h>
#include <string.h>

static void describe(entry *e) {
    static const char *const ranges[] = {"auto", "extremes", "percentile", "squared-error",
                                         "divergence"};
    const nsk_brief *b = e->context.brief;
    nsk_model model;
    nsk_open(&model, e->measured.model->bytes, e->measured.model->size);
    e->traits[MODEL] = g_path_get_basename(b->model);
    e->traits[INPUT] = g_strdup_printf("%ux%u", model.width, model.height);
    e->traits[BOARD] = g_strdup(e->context.board->name);
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
    cli_context_clear(&e->context);
    g_free(e->key);
}

/* A context of its own for a variant, with the options of the whole. */
static entry begin(const cli_context *context, const char *path, int variant) {
    entry e = {.context = {.sample = context->sample,
                           .tolerant = context->tolerant,
                           .variant = variant,
                           .arguments = g_new0(char *, 2),
                           .board_path = g_strdup(context->board_path),
                           .held_out_path = g_strdup(context->held_out_path),
                           .calibration_path = g_strdup(context->calibration_path),
                           .training_path = g_strdup(context->training_path)}};
    e.context.arguments[0] = g_strdup(path);
    return e;
}

/* Every variant of every brief, but those that --only leaves out. */
static bool expand(cli_context *context, const weigh_options *own, GArray *entries) {
    for (char **path = context->arguments; *path != NULL; path++) {
        int variants = 1;
        for (int i = 0; i < variants; i++) {
            entry e = begin(context, *path, i);
            if (!cli_load_brief(&e.context)) {
                context->error = e.context.error;
                weigh_clear_entry(&e);
                return false;
            }
            variants = e.context.brief->variants;
            e.name = e.context.brief->variant;
            if (own->only == NULL || strcmp(own->only, e.name) == 0) {
                g_array_append_val(entries, e);
            } else {
                weigh_clear_entry(&e);
            }
        }
    }
    if (entries->len == 0) {
        nsk_fail(&context->error, "--only %s: no variant has this name; --list shows them all",
                 own->only);
    }
    return entries->len > 0;
}

/* Loads what the variant is measured on, and what is known of it from before. */
static bool look_up(entry *e, const char *folder) {
    cli_context *context = &e->context;
    nsk_recipe recipe;
    if (!cli_load_board(context) || !cli_load_network(context) || !cli_load_calibration(context) ||
        !cli_load_held_out(context) || !cli_make_recipe(context, &recipe)) {
        return false;
    }
    e->key = nsk_measurement_key(context->network, context->calibration, &recipe, context->held_out,
                                 &context->error);
    e->is_measured = e->key != NULL && nsk_measured_read(&e->measured, folder, e->key);
    return e->key != NULL;
}

static bool measure(entry *e, const char *folder) {
    cli_context *context = &e->context;
    nsk_recipe recipe;
    e->is_measured = cli_make_recipe(context, &recipe) &&
                     nsk_measure(context->network, context->calibration, &recipe, context->held_out,
                                 &e->measured, &context->error);
    return e->is_measured && nsk_measured_write(&e->measured, folder, e->key, &context->error);
}

/* The only one that is missing is measured here, several in processes. */
static bool measure_missing(cli_context *context, const weigh_options *own, GArray *entries) {
    const char *folder = own->keep;
    entry *all = (entry *)(void *)entries->data;
    entry *missing = NULL;
    int count = 0;
    for (guint i = 0; i < entries->len; i++) {
        if (!look_up(&all[i], folder)) {
            context->error = all[i].context.error;
            return false;
        }
        if (!all[i].is_measured) {
            missing = &all[i];
            count++;
        }
    }
    if (count == 1) {
        bool good = measure(missing, folder);
        context->error = missing->context.error;
        return good;
    }
    if (count > 0 && !weigh_fan_out(context, own, all, (int)entries->len)) {
        return false;
    }
    for (guint i = 0; i < entries->len; i++) {
        entry *e = &all[i];
        if (!e->is_measured && !nsk_measured_read(&e->measured, folder, e->key)) {
            return nsk_fail(&context->error,
                            "variant %s: its measurement is not in %s; images may have changed "
                            "meanwhile: try again",
                            e->name, folder);
        }
    }
    return true;
}

static bool rank(cli_context *context, GArray *entries, nsk_variant *variants) {
    for (guint i = 0; i < entries->len; i++) {
        entry *e = &g_array_index(entries, entry, i);
        const nsk_limits *limits = &e->context.brief->limits;
        nsk_budget *b = nsk_budget_make(e->measured.model, e->context.board,
                                        &e->context.brief->product, limits, &context->error);
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

static void list(const cli_context *context, const weigh_options *own, const GArray *entries) {
    for (guint i = 0; i < entries->len; i++) {
        char *line = weigh_command_line(context, own, &g_array_index(entries, entry, i));
        puts(line);
        g_free(line);
    }
}

static int show(cli_context *context, const weigh_options *own, GArray *entries) {
    entry *all = (entry *)(void *)entries->data;
    int count = (int)entries->len;
    nsk_variant *variants = g_new0(nsk_variant, count);
    bool fit = true;
    bool good = rank(context, entries, variants) &&
                (own->points == NULL || weigh_write_points(context, all, variants, count)) &&
                (own->plot == NULL || nsk_weigh_draw(variants, count, own->plot, &context->error));
    for (int i = 0; i < count; i++) {
        bool open = variants[i].limits[NSK_LIMIT_LOSS].open;
        fit = fit && variants[i].fits && !(open && context->strict);
    }
    if (good && context->json) {
        weigh_print_json(all, variants, count);
    } else if (good) {
        weigh_print(all, variants, count);
    }
    g_free(variants);
    return !good ? cli_fail(context) : fit ? CLI_DONE : CLI_LIMIT_BROKEN;
}

static GArray *begin_all(weigh_options *own) {
    GArray *entries = g_array_new(FALSE, TRUE, sizeof(entry));
    g_array_set_clear_func(entries, weigh_clear_entry);
    if (own->keep == NULL) {
        own->keep = g_build_filename(g_get_user_cache_dir(), "netsuke", NULL);
    }
    return entries;
}

GArray *weigh_collect(cli_context *context, weigh_options *own, nsk_variant **variants) {
    GArray *entries = begin_all(own);
    bool good = expand(context, own, entries) && measure_missing(context, own, entries);
    *variants = g_new0(nsk_variant, entries->len + 1);
    if (!good || !rank(context, entries, *variants)) {
        g_array_free(entries, TRUE);
        g_free(*variants);
        return NULL;
    }
    return entries;
}

static int run(cli_context *context) {
    weigh_options *own = context->own;
    GArray *entries = begin_all(own);
    bool good = expand(context, own, entries);
    int status = CLI_DONE;
    if (good && own->list) {
        list(context, own, entries);
    } else {
        good = good && measure_missing(context, own, entries);
        status = good ? show(context, own, entries) : status;
    }
    status = good ? status : cli_fail(context);
    g_array_free(entries, TRUE);
    return status;
}

static const cli_own own_options[] = {
    {"points", offsetof(weigh_options, points), 0},
    {"plot", offsetof(weigh_options, plot), 0},
    {"keep", offsetof(weigh_options, keep), 0},
    {"only", offsetof(weigh_options, only), 0},
    {"list", offsetof(weigh_options, list), 0},
    {"jobs", offsetof(weigh_options, jobs), 0},
    {NULL, 0, 0},
};

const cli_command cli_weigh = {
    .name = "weigh",
    .summary = "variants side by side against their limits",
    .arguments = "BRIEF...",
    .example =
        "  netsuke weigh demo/variants.ini --plot weigh.svg\n"
        "measures each and marks those that no other beats in everything; it picks none. What has "
        "been\n"
        "measured once is kept. --list prints a command a variant, to be spread over processors "
        "or\n"
        "machines with the same build of netsuke: netsuke weigh demo/variants.ini --list | "
        "parallel",
    .least = 1,
    .most = 1000,
    .shared = "board calibration held-out tolerant training sample strict",
    .own = own_options,
    .own_size = sizeof(weigh_options),
    .usual = "sample: all; keep: the user's cache; jobs: one a processor",
    .run = run,
};
