/* netsuke pare: channels taken out until the limits hold. */
#include <glib/gstdio.h>
#include <math.h>
#include <stddef.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "command.h"
#include "netsuke/pare.h"
#include "table.h"

typedef struct pare_options {
    char *output, *latency;
    gint rungs, epochs, seed;
    gboolean robust;
} pare_options;

/* Of the training images of each class, one of so many has no part in learning, and judges. */
enum { JUDGED = 8 };

/* ---- what is said ---- */

static void show_progress(void *context, double done, const char *text) {
    GTimer *timer = context;
    if (!isatty(STDERR_FILENO)) {
        return;
    }
    const double spent = g_timer_elapsed(timer, NULL);
    if (done > 0.01 && done < 1.0) {
        fprintf(stderr, "[%3.0f %%, about %.0f s left] %s\n", 100.0 * done,
                spent * (1.0 - done) / done, text);
    } else {
        fprintf(stderr, "%s\n", text);
    }
}

static const char *limit_name(int limit) {
    static const char *const names[NSK_BUDGET_LIMITS] = {"flash", "RAM", "time"};
    return names[limit];
}

/* "fits", or what is too much. */
static void fit_words(const nsk_rung *r, char *text, size_t size) {
    g_strlcpy(text, r->fits ? "fits" : "too much", size);
    for (int i = 0, said = 0; i < NSK_BUDGET_LIMITS; i++) {
        if (!r->holds[i]) {
            g_strlcat(text, said++ > 0 ? ", " : " ", size);
            g_strlcat(text, limit_name(i), size);
        }
    }
}

static void print_rungs(const nsk_ladder *l) {
    char text[4][CLI_TEXT];
    cli_table *table = cli_table_new("rrrrrrrrll");
    cli_table_row(table, "rung\tmult-accs\tflash\tRAM\ttime\tcycles\tright\tlost\t95 %%\t");
    for (int i = 0; i < l->rungs; i++) {
        const nsk_rung *r = &l->rung[i];
        const nsk_comparison *c = r->comparison;
        char fits[64];
        fit_words(r, fits, sizeof fits);
        cli_table_row(table, "%d\t%s\t%s\t%s\t%s\t%.0f %%\t%.2f %%\t%.2f\t%.2f to %.2f\t%s", i + 1,
                      cli_count((double)r->macs, text[0]), cli_bytes(r->budget->flash, text[1]),
                      cli_bytes(r->budget->ram, text[2]), cli_time(r->budget->seconds, text[3]),
                      100.0 * r->budget->cycles / l->rung[0].budget->cycles,
                      100.0 * c->integer_correct / c->images, c->loss_points, c->loss_low,
                      c->loss_high, fits);
    }
    cli_table_print(table);
}

/* How many channels of each layer are left, a column a rung. */
static void print_layers(const nsk_ladder *l) {
    char columns[] = "lrrrrrrrrrrrr";
    columns[l->rungs + 1] = '\0';
    cli_table *table = cli_table_new(columns);
    GString *row = g_string_new("channels");
    for (int i = 0; i < l->rungs; i++) {
        g_string_append_printf(row, "\t%d", i + 1);
    }
    cli_table_row(table, "%s", row->str);
    for (int k = 0; k < l->rung[0].layers; k++) {
        g_string_assign(row, l->rung[0].layer[k].name);
        for (int i = 0; i < l->rungs; i++) {
            g_string_append_printf(row, "\t%d", l->rung[i].layer[k].now);
        }
        cli_table_row(table, "%s", row->str);
    }
    cli_table_print(table);
    g_string_free(row, TRUE);
}

static void print_text(const cli_context *context, const nsk_ladder *l) {
    const pare_options *own = context->own;
    const int judges = l->rung[0].comparison->images;
    print_rungs(l);
    putchar('\n');
    print_layers(l);
    printf(
        "\nright and lost: of %d training images that had no part in learning; points lost\n"
        "against the float network as it was, which does better on them than on others if it was\n"
        "trained on them. Learned from %d others, and %d said which epoch was best.\n\n",
        judges, l->pictures, l->aside);
    cli_table *table = cli_table_new("ll");
    if (l->first == 0) {
        cli_table_row(table, "fits\tthe network as it was, already");
    } else if (l->first != NSK_NO_RUNG) {
        cli_table_row(table, "fits\trung %d is the first that does", l->first + 1);
    } else {
        cli_table_row(table, "fits\tnone of them%s",
                      l->ended ? ", and no more channels can go" : "");
    }
    cli_table_row(table, "learned\tfrom %d pictures in %.0f s: %.0f a second", l->gone_through,
                  l->seconds, l->gone_through / fmax(l->seconds, 1e-9));
    cli_table_row(table, "wrote\t%s: rung-N.onnx in float, rung-N-levels.onnx with its levels,",
                  own->output);
    cli_table_row(table, "\trung-N.nsk, rung-N.ini, and ladder.ini with all of them");
    cli_table_row(table, "next\tnetsuke weigh %s/ladder.ini", own->output);
    cli_table_print(table);
}

static void json_rung(JsonBuilder *b, const nsk_rung *r) {
    const nsk_comparison *c = r->comparison;
    json_builder_begin_object(b);
    cli_json_int(b, "mult_accs", (gint64)r->macs);
    cli_json_int(b, "parameters", (gint64)r->parameters);
    cli_json_real(b, "flash", r->budget->flash);
    cli_json_real(b, "ram", r->budget->ram);
    cli_json_real(b, "seconds", r->budget->seconds);
    cli_json_real(b, "cycles", r->budget->cycles);
    cli_json_int(b, "images", c->images);
    cli_json_int(b, "right", c->integer_correct);
    cli_json_int(b, "right_as_it_was", c->float_correct);
    cli_json_real(b, "lost_points", c->loss_points);
    cli_json_real(b, "lost_low", c->loss_low);
    cli_json_real(b, "lost_high", c->loss_high);
    json_builder_set_member_name(b, "fits");
    json_builder_add_boolean_value(b, r->fits);
    json_builder_set_member_name(b, "channels");
    json_builder_begin_object(b);
    for (int k = 0; k < r->layers; k++) {
        cli_json_int(b, r->layer[k].name, r->layer[k].now);
    }
    json_builder_end_object(b);
    json_builder_end_object(b);
}

static void print_json(const cli_context *context, const nsk_ladder *l) {
    JsonBuilder *b = cli_json_start(context);
    json_builder_set_member_name(b, "rungs");
    json_builder_begin_array(b);
    for (int i = 0; i < l->rungs; i++) {
        json_rung(b, &l->rung[i]);
    }
    json_builder_end_array(b);
    if (l->first != NSK_NO_RUNG) {
        cli_json_int(b, "first_that_fits", l->first + 1);
    }
    cli_json_int(b, "learned_from", l->pictures);
    cli_json_int(b, "seed", ((const pare_options *)context->own)->seed);
    json_builder_end_object(b);
    cli_print_json(b);
}

/* ---- files ---- */

static char *in_folder(const cli_context *context, const char *name) {
    return g_build_filename(((const pare_options *)context->own)->output, name, NULL);
}

static bool derive(cli_context *context, const char *const *models, double latency,
                   const char *comment, const char *name) {
    char *path = in_folder(context, name);
    const nsk_derived derived = {models, latency, comment};
    const bool good = nsk_brief_derive(context->brief, &derived, path, &context->error);
    g_free(path);
    return good;
}

/* Its network, in float and with its levels, its model, its brief. */
static bool write_rung(cli_context *context, const nsk_recipe *recipe, const nsk_ladder *l, int i,
                       double latency) {
    const nsk_rung *r = &l->rung[i];
    char *names[4];
    static const char *const endings[] = {".onnx", "-levels.onnx", ".nsk", ".ini"};
    char *paths[4];
    for (int k = 0; k < 4; k++) {
        names[k] = g_strdup_printf("rung-%d%s", i + 1, endings[k]);
        paths[k] = in_folder(context, names[k]);
    }
    const char *const models[] = {names[0], NULL};
    char *comment = g_strdup_printf("Rung %d of %d: what is left of %s", i + 1, l->rungs,
                                    context->brief->model);
    const bool good =
        nsk_network_write(r->network, paths[0], &context->error) &&
        nsk_quantise_onnx(r->network, context->calibration, recipe, paths[1], &context->error) &&
        nsk_model_file_write(r->model, paths[2], &context->error) &&
        derive(context, models, latency, comment, names[3]);
    for (int k = 0; k < 4; k++) {
        g_free(names[k]);
        g_free(paths[k]);
    }
    g_free(comment);
    return good;
}

static bool write_ladder(cli_context *context, const nsk_recipe *recipe, const nsk_ladder *l,
                         double latency) {
    char **models = g_new0(char *, l->rungs + 1);
    bool good = true;
    for (int i = 0; i < l->rungs && good; i++) {
        models[i] = g_strdup_printf("rung-%d.onnx", i + 1);
        good = write_rung(context, recipe, l, i, latency);
    }
    char *comment = g_strdup_printf("What is left of %s, rung by rung", context->brief->model);
    good = good && derive(context, (const char *const *)models, latency, comment, "ladder.ini");
    g_free(comment);
    g_strfreev(models);
    return good;
}

/* ---- the command ---- */

/* Some of each class must be left for each purpose. */
static bool are_enough(cli_context *context) {
    const nsk_images *images = context->training;
    const nsk_labels *labels = nsk_images_labels(images);
    for (int c = 0; c < labels->count; c++) {
        int count = 0;
        for (int i = 0; i < nsk_images_count(images); i++) {
            count += nsk_images_has(images, i, c);
        }
        if (count < JUDGED) {
            return nsk_fail(
                &context->error, "%s: %d image%s of '%s'; paring wants %d of each class at least",
                context->brief->training, count, count == 1 ? "" : "s", labels->names[c], JUDGED);
        }
    }
    return true;
}

/* The training images twice: those to learn from, and those that judge. */
static bool open_training(cli_context *context, nsk_images **judged) {
    if (context->brief->training == NULL) {
        return nsk_fail(&context->error,
                        "%s: paring wants training images, in labelled folders or in one list: "
                        "name them as [images] training, or with --training SET",
                        context->brief->path);
    }
    context->training = cli_open_training(context);
    *judged = context->training != NULL ? cli_open_training(context) : NULL;
    if (*judged == NULL || !are_enough(context)) {
        return false;
    }
    nsk_images_keep(context->training, JUDGED, false);
    nsk_images_keep(*judged, JUDGED, true);
    return true;
}

static bool read_latency(cli_context *context, double *latency) {
    const pare_options *own = context->own;
    *latency = 0.0;
    if (own->latency != NULL && (!nsk_seconds_of(own->latency, latency) || !(*latency > 0.0))) {
        return nsk_fail(&context->error, "--latency %s: a time of a frame, as in '40ms'",
                        own->latency);
    }
    return true;
}

/* Before time is spent. */
static bool make_folder(cli_context *context, bool *made) {
    const pare_options *own = context->own;
    *made = !g_file_test(own->output, G_FILE_TEST_EXISTS);
    return g_mkdir_with_parents(own->output, 0777) == 0 ||
           nsk_fail(&context->error, "-o %s: the folder cannot be made; name another", own->output);
}

/* Choices by the brief's `auto` are the rungs' own, when their briefs are quantised. */
static bool load(cli_context *context, nsk_recipe *recipe, nsk_images **judged, bool *made) {
    if (!cli_load_board(context) || !cli_load_network(context) || !open_training(context, judged) ||
        !cli_load_calibration(context)) {
        return false;
    }
    context->brief->refine = context->brief->choose_fine = context->brief->choose_bits = false;
    return cli_make_recipe(context, recipe) && make_folder(context, made);
}

static nsk_ladder *pare(cli_context *context, const nsk_recipe *recipe, const nsk_images *judged,
                        double latency) {
    const pare_options *own = context->own;
    nsk_limits limits = context->brief->limits;
    limits.latency = latency > 0.0 ? latency : limits.latency;
    GTimer *timer = g_timer_new();
    const nsk_paring how = {.training = context->training,
                            .judged = judged,
                            .rungs = own->rungs,
                            .epochs = own->epochs,
                            .rate = NSK_PARE_RATE,
                            .trust = NSK_PARE_TRUST,
                            .seed = (unsigned)own->seed,
                            .changes =
                                own->robust ? NSK_EVERY_CHANGE : context->brief->refine_changes,
                            .tell = show_progress,
                            .context = timer};
    nsk_ladder *ladder = nsk_pare(context->network, context->calibration, recipe, context->board,
                                  &context->brief->product, &limits, &how, &context->error);
    g_timer_destroy(timer);
    return ladder;
}

static int run(cli_context *context) {
    const pare_options *own = context->own;
    nsk_recipe recipe;
    nsk_images *judged = NULL;
    double latency;
    bool made = false;
    if (own->output == NULL) {
        nsk_fail(&context->error, "say where the ladder goes: netsuke pare BRIEF -o FOLDER");
        return cli_fail(context);
    }
    nsk_ladder *ladder = read_latency(context, &latency) && load(context, &recipe, &judged, &made)
                             ? pare(context, &recipe, judged, latency)
                             : NULL;
    const bool good = ladder != NULL && write_ladder(context, &recipe, ladder, latency);
    if (good && context->json) {
        print_json(context, ladder);
    } else if (good) {
        cli_print_facts(context);
        print_text(context, ladder);
    } else if (made) {
        g_rmdir(own->output); /* where nothing stands in it */
    }
    const bool fits = good && ladder->first != NSK_NO_RUNG;
    nsk_ladder_free(ladder);
    nsk_images_free(judged);
    return !good ? cli_fail(context) : fits ? CLI_DONE : CLI_LIMIT_BROKEN;
}

#define MEMBER(name) offsetof(pare_options, name)

static const cli_own own_options[] = {{"output", MEMBER(output), 0},
                                      {"latency", MEMBER(latency), 0},
                                      {"rungs", MEMBER(rungs), NSK_PARE_RUNGS},
                                      {"epochs", MEMBER(epochs), NSK_PARE_EPOCHS},
                                      {"robust", MEMBER(robust), 0},
                                      {"seed", MEMBER(seed), 1},
                                      {NULL, 0, 0}};

const cli_command cli_pare = {
    .name = "pare",
    .summary = "take channels out of the network until it fits, and teach what is left",
    .arguments = "BRIEF -o FOLDER",
    .example =
        "  netsuke pare demo/kiln.ini --training demo/training --latency 35ms -o ladder\n"
        "takes out first what is worth least by what it costs on the board, and lets what\n"
        "is left learn to answer like the network as it was. It gives a ladder of networks,\n"
        "from that one to below the limits, each as ONNX, as a model file and as a brief:\n"
        "'netsuke weigh ladder/ladder.ini' lays them side by side.",
    .least = 1,
    .most = 1,
    .shared = "board calibration training tolerant",
    .own = own_options,
    .own_size = sizeof(pare_options),
    .usual = "rungs: 6; epochs: 12; seed: 1",
    .makes_folder = true,
    .run = run,
};
