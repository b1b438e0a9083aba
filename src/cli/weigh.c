/* netsuke weigh: variants side by side. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "command.h"
#include "csv.h"
#include "table.h"

/* What may tell variants apart, in words. */
enum { MODEL, INPUT, BOARD, RANGES, STREAMED, REFINED, TRAITS };
static const char *const trait_names[TRAITS] = {"model",  "input",    "board",
                                                "ranges", "streamed", "refined"};

typedef struct entry {
    cli_job job; /* of one brief */
    char *name;
    char *traits[TRAITS];
} entry;

static char *name_of(const char *path) {
    char *base = g_path_get_basename(path);
    if (g_str_has_suffix(base, ".ini")) {
        base[strlen(base) - 4] = '\0';
    }
    return base;
}

static void describe(entry *e) {
    static const char *const ranges[] = {"auto", "extremes", "percentile", "squared-error",
                                         "divergence"};
    const nsk_brief *b = e->job.brief;
    nsk_model model;
    nsk_open(&model, e->job.model->bytes, e->job.model->size);
    e->traits[MODEL] = g_path_get_basename(b->model);
    e->traits[INPUT] = g_strdup_printf("%u x %u", model.width, model.height);
    e->traits[BOARD] = g_strdup(e->job.board->name);
    e->traits[RANGES] = g_strdup(ranges[b->recipe.ranges]);
    e->traits[STREAMED] =
        model.streamed > 0 ? g_strdup_printf("%u layers", model.streamed) : g_strdup("no");
    e->traits[REFINED] = g_strdup(e->job.refined.epochs > 0 ? "yes" : "no");
}

/* One brief's figures. */
static bool measure(const cli_job *job, const char *path, entry *e, nsk_variant *v) {
    cli_job *own = &e->job;
    *own = (cli_job){.seed = job->seed, .sample = job->sample, .tolerant = job->tolerant};
    own->arguments = g_new0(char *, 2);
    own->arguments[0] = g_strdup(path);
    own->board_path = g_strdup(job->board_path);
    own->held_out_path = g_strdup(job->held_out_path);
    own->calibration_path = g_strdup(job->calibration_path);
    own->training_path = g_strdup(job->training_path);
    e->name = name_of(path);
    if (!cli_load_board(own) || !cli_load_network(own) || !cli_load_model(own) ||
        !cli_load_held_out(own)) {
        return false;
    }
    nsk_comparison *c =
        nsk_compare(own->network, own->model, own->held_out, cli_progress, NULL, &own->error);
    nsk_budget *b = c != NULL
                        ? nsk_budget_make(own->model, own->board, &own->brief->limits, &own->error)
                        : NULL;
    if (b != NULL) {
        *v = nsk_variant_of(e->name, c, b, &own->brief->limits);
        describe(e);
    }
    nsk_comparison_free(c);
    bool good = b != NULL;
    nsk_budget_free(b);
    return good;
}

/* Whether the variants differ in it. */
static bool differs(const entry *entries, int count, int trait) {
    for (int i = 1; i < count; i++) {
        if (strcmp(entries[i].traits[trait], entries[0].traits[trait]) != 0) {
            return true;
        }
    }
    return false;
}

/* Whether a column is worth having: a model's file that only repeats the variant's name is not. */
static bool tells(const entry *entries, int count, int trait) {
    bool repeats = trait == MODEL;
    for (int i = 0; i < count && repeats; i++) {
        size_t length = strlen(entries[i].name);
        const char *text = entries[i].traits[trait];
        repeats = strncmp(text, entries[i].name, length) == 0 && text[length] == '.';
    }
    return differs(entries, count, trait) && !repeats;
}

static double share(int part, int whole) {
    return whole > 0 ? (double)part / whole : 0.0;
}

/* ---- for people ---- */

static void print_common(const entry *entries, int count) {
    GString *text = g_string_new("");
    for (int t = 0; t < TRAITS; t++) {
        if (!differs(entries, count, t)) {
            g_string_append_printf(text, "%s%s %s", text->len > 0 ? "; " : "", trait_names[t],
                                   entries[0].traits[t]);
        }
    }
    if (text->len > 0) {
        cli_paragraph("all  ", text->str);
        putchar('\n');
    }
    g_string_free(text, TRUE);
}

static void append_limit(GString *line, const nsk_budget_limit *l, const char *text) {
    g_string_append_printf(line, "\t%s%s", text, l->holds ? "  " : " !");
}

static void print_row(cli_table *table, const entry *entries, int count, const nsk_variant *v,
                      int index) {
    char text[CLI_TEXT];
    GString *line = g_string_new("");
    g_string_printf(line, "%s %s", v->beaten_by == NSK_NO_VARIANT ? "*" : " ", v->name);
    for (int t = 0; t < TRAITS; t++) {
        if (tells(entries, count, t)) {
            g_string_append_printf(line, "\t%s", entries[index].traits[t]);
        }
    }
    g_string_append_printf(line, "\t%.2f %%\t%.2f %%\t%.1f to %.1f",
                           100.0 * share(v->float_correct, v->images),
                           100.0 * share(v->integer_correct, v->images), 100.0 * v->accuracy_low,
                           100.0 * v->accuracy_high);
    g_snprintf(text, sizeof text, "%.2f", v->loss_points);
    append_limit(line, &v->limits[NSK_LIMIT_LOSS], text);
    append_limit(line, &v->limits[NSK_LIMIT_FLASH], cli_bytes(v->flash, text));
    append_limit(line, &v->limits[NSK_LIMIT_RAM], cli_bytes(v->ram, text));
    append_limit(line, &v->limits[NSK_LIMIT_LATENCY], cli_time(v->seconds, text));
    if (v->joules >= 0.0) {
        g_string_append_printf(line, "\t%.2f mJ", 1e3 * v->joules);
    }
    cli_table_row(table, "%s", line->str);
    g_string_free(line, TRUE);
}

static void print_text(const entry *entries, const nsk_variant *variants, int count) {
    GString *head = g_string_new("  variant");
    GString *columns = g_string_new("l");
    printf("%d variants, each on its own brief's held-out images\n\n", count);
    print_common(entries, count);
    for (int t = 0; t < TRAITS; t++) {
        if (tells(entries, count, t)) {
            g_string_append_printf(head, "\t%s", trait_names[t]);
            g_string_append_c(columns, 'l');
        }
    }
    g_string_append(head, "\tfloat\tinteger\t95 %\tloss  \tflash  \tram  \ttime  \tenergy");
    g_string_append(columns, "rrrrrrrr");
    cli_table *table = cli_table_new(columns->str);
    cli_table_row(table, "%s", head->str);
    for (int i = 0; i < count; i++) {
        print_row(table, entries, count, &variants[i], i);
    }
    cli_table_print(table);
    puts("");
    cli_paragraph("*     ",
                  "no other is as good or better in accuracy, flash, ram, time and energy "
                  "alike");
    cli_paragraph("!     ", "over the limit of its brief, or what its board has");
    cli_paragraph("95 %  ", "interval of the integer model's accuracy (Wilson)");
    g_string_free(head, TRUE);
    g_string_free(columns, TRUE);
}

/* ---- machine-readable ---- */

static void json_variant(JsonBuilder *b, const entry *e, const nsk_variant *v) {
    json_builder_begin_object(b);
    cli_json_text(b, "name", v->name);
    for (int t = 0; t < TRAITS; t++) {
        cli_json_text(b, trait_names[t], e->traits[t]);
    }
    cli_json_int(b, "images", v->images);
    cli_json_real(b, "float_accuracy", share(v->float_correct, v->images));
    cli_json_real(b, "integer_accuracy", share(v->integer_correct, v->images));
    cli_json_real(b, "accuracy_low", v->accuracy_low);
    cli_json_real(b, "accuracy_high", v->accuracy_high);
    cli_json_real(b, "loss_points", v->loss_points);
    cli_json_real(b, "loss_low", v->loss_low);
    cli_json_real(b, "loss_high", v->loss_high);
    cli_json_real(b, "flash", v->flash);
    cli_json_real(b, "ram", v->ram);
    cli_json_real(b, "seconds", v->seconds);
    if (v->joules >= 0.0) {
        cli_json_real(b, "joules", v->joules);
    }
    json_builder_set_member_name(b, "fits");
    json_builder_add_boolean_value(b, v->fits);
    json_builder_set_member_name(b, "beaten");
    json_builder_add_boolean_value(b, v->beaten_by != NSK_NO_VARIANT);
    json_builder_end_object(b);
}

static void print_json(const entry *entries, const nsk_variant *variants, int count) {
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    json_builder_set_member_name(b, "variants");
    json_builder_begin_array(b);
    for (int i = 0; i < count; i++) {
        json_variant(b, &entries[i], &variants[i]);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    cli_print_json(b);
}

static bool write_points(cli_job *job, const entry *entries, const nsk_variant *variants,
                         int count) {
    cli_csv *csv = cli_csv_new("variant,model,input,board,ranges,streamed,refined,images,"
                               "float_accuracy,integer_accuracy,accuracy_low,accuracy_high,"
                               "loss_points,flash,ram,seconds,joules,fits,beaten");
    for (int i = 0; i < count; i++) {
        const nsk_variant *v = &variants[i];
        cli_csv_text(csv, v->name);
        for (int t = 0; t < TRAITS; t++) {
            cli_csv_text(csv, entries[i].traits[t]);
        }
        const double numbers[] = {v->images,
                                  share(v->float_correct, v->images),
                                  share(v->integer_correct, v->images),
                                  v->accuracy_low,
                                  v->accuracy_high,
                                  v->loss_points,
                                  v->flash,
                                  v->ram,
                                  v->seconds,
                                  v->joules,
                                  v->fits,
                                  v->beaten_by != NSK_NO_VARIANT};
        for (size_t k = 0; k < G_N_ELEMENTS(numbers); k++) {
            cli_csv_number(csv, numbers[k]);
        }
        cli_csv_end(csv);
    }
    return cli_csv_write(csv, job->points, &job->error);
}

static int run(cli_job *job) {
    int count = (int)g_strv_length(job->arguments);
    entry *entries = g_new0(entry, count);
    nsk_variant *variants = g_new0(nsk_variant, count);
    bool good = true;
    bool fit = true;
    for (int i = 0; i < count && good; i++) {
        good = measure(job, job->arguments[i], &entries[i], &variants[i]);
        if (!good) {
            job->error = entries[i].job.error;
        }
        fit = fit && variants[i].fits;
    }
    if (good) {
        nsk_weigh(variants, count);
    }
    good = good && (job->points == NULL || write_points(job, entries, variants, count)) &&
           (job->plot == NULL || nsk_weigh_draw(variants, count, job->plot, &job->error));
    if (good && job->json) {
        print_json(entries, variants, count);
    } else if (good) {
        print_text(entries, variants, count);
    }
    for (int i = 0; i < count; i++) {
        cli_job_clear(&entries[i].job);
        g_free(entries[i].name);
        for (int t = 0; t < TRAITS; t++) {
            g_free(entries[i].traits[t]);
        }
    }
    g_free(entries);
    g_free(variants);
    return !good ? cli_fail(job) : fit ? CLI_DONE : CLI_LIMIT_BROKEN;
}

const cli_command cli_weigh = {
    "weigh",
    "variants side by side against their limits",
    "BRIEF...",
    "  netsuke weigh demo/kiln.ini demo/kiln-third.ini demo/kiln-gated.ini --plot weigh.svg\n"
    "measures each and marks those that no other beats in everything; it picks none.",
    1,
    1000,
    "board calibration held-out tolerant training sample points plot",
    run,
};
