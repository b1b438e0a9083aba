/* netsuke compare: float against integer on the same held-out images. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "command.h"
#include "compare_labels.h"
#include "csv.h"
#include "netsuke/tools.h"
#include "table.h"

typedef struct compare_options {
    char *predictions, *sheet, *plot;
    gboolean all, split;
} compare_options;

enum { SHORT_LIST = 12, SIDE_BY_SIDE = 6, MOST_IN_MATRIX = 14 };

static double share(int part, int whole) {
    return whole > 0 ? (double)part / whole : 0.0;
}

static const char *label_of(const cli_context *context, int class_index) {
    return context->brief->labels.names[class_index];
}

/* Among how many of the likeliest classes the truth is looked for, besides the first; 0: there are
 * no more classes than that. */
enum { AMONG = 2, MANY_CLASSES = 10 };

static int among(const nsk_comparison *c, int index) {
    static const int few[AMONG] = {2, 3};
    static const int many[AMONG] = {3, 5};
    int first = c->classes > MANY_CLASSES ? many[index] : few[index];
    return first < c->classes && c->each == NULL ? first : 0;
}

/* What was found besides the two models' answers. */
typedef struct findings {
    nsk_loss_split split;
    int overlap; /* of the sets; -1: the brief names nothing to calibrate on */
    nsk_verdict *verdict;
} findings;

/* ---- machine-readable ---- */

static void json_among(JsonBuilder *b, const nsk_comparison *c, bool integer) {
    json_builder_set_member_name(b, "among");
    json_builder_begin_array(b);
    for (int i = 0; i < AMONG; i++) {
        int first = among(c, i);
        if (first > 0) {
            json_builder_begin_object(b);
            cli_json_int(b, "first", first);
            cli_json_real(b, "right", nsk_right_among(c, first, integer));
            json_builder_end_object(b);
        }
    }
    json_builder_end_array(b);
}

static void json_half(const cli_context *context, JsonBuilder *b, const nsk_comparison *c,
                      bool integer) {
    int correct = integer ? c->integer_correct : c->float_correct;
    nsk_scoring *s = nsk_scoring_of(c, integer);
    json_builder_set_member_name(b, integer ? "integer" : "float");
    json_builder_begin_object(b);
    cli_json_int(b, "correct", correct);
    cli_json_real(b, "accuracy", share(correct, c->images));
    cli_json_real(b, "balanced_accuracy", s->balanced_accuracy);
    cli_json_real(b, "calibration_error", s->calibration_error);
    if (c->each != NULL) {
        cli_json_real(b, "each_label", s->decisions);
        cli_json_real(b, "f1", s->f1);
        cli_json_real(b, "average_precision", s->average_precision);
    }
    json_among(b, c, integer);
    json_builder_set_member_name(b, "classes");
    json_builder_begin_array(b);
    for (int k = 0; k < c->classes; k++) {
        json_builder_begin_object(b);
        cli_json_text(b, "name", label_of(context, k));
        cli_json_int(b, "images", s->classes[k].images);
        cli_json_real(b, "precision", s->classes[k].precision);
        cli_json_real(b, "recall", s->classes[k].recall);
        cli_json_real(b, "f1", s->classes[k].f1);
        if (c->each != NULL) {
            cli_json_real(b, "threshold", context->brief->labels.thresholds[k]);
            cli_json_int(b, "answers", s->classes[k].answers);
            cli_json_int(b, "right", s->classes[k].right);
            cli_json_real(b, "average_precision", s->classes[k].average_precision);
        }
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    nsk_scoring_free(s);
}

/* What loss the brief allows, or a point. */
static double loss_to_settle(const cli_context *context) {
    double limit = context->brief->limits.loss;
    return (isfinite(limit) && limit > 0.0 ? limit : 1.0) / 100.0;
}

static void json_split(JsonBuilder *b, const nsk_loss_split *split) {
    json_builder_set_member_name(b, "split");
    json_builder_begin_object(b);
    cli_json_int(b, "stored", split->stored);
    cli_json_int(b, "float", split->exact);
    cli_json_int(b, "preparation", split->prepared);
    cli_json_int(b, "weights", split->weights);
    json_builder_end_object(b);
}

static void print_json(const cli_context *context, const nsk_comparison *c, const findings *f) {
    const compare_options *own = context->own;
    JsonBuilder *b = cli_json_start(context);
    cli_json_int(b, "images", c->images);
    json_half(context, b, c, false);
    json_half(context, b, c, true);
    cli_json_real(b, "loss_points", c->loss_points);
    cli_json_real(b, "loss_low", c->loss_low);
    cli_json_real(b, "loss_high", c->loss_high);
    cli_json_real(b, "chance", nsk_paired_chance(c->lost, c->won));
    cli_json_int(b, "images_to_settle",
                 nsk_images_to_settle(c->lost, c->won, c->images, loss_to_settle(context)));
    cli_json_real(b, "agreement", share(c->agree, c->images));
    cli_json_int(b, "tied", c->tied);
    if (f->overlap >= 0) {
        cli_json_int(b, "overlap", f->overlap);
    }
    if (own->split) {
        json_split(b, &f->split);
    }
    cli_json_verdict(b, f->verdict);
    json_builder_end_object(b);
    cli_print_json(b);
}

/* The truth, and what float and integer say. */
static void name_answer(const cli_context *context, const nsk_comparison *c, const nsk_answer *a,
                        char *names[3]) {
    const int classes[3] = {a->label, a->float_class, a->integer_class};
    for (int i = 0; i < 3; i++) {
        names[i] = nsk_comparison_class(c, &context->brief->labels, classes[i]);
    }
}

static void free_names(char *names[3]) {
    for (int i = 0; i < 3; i++) {
        nsk_string_free(names[i]);
    }
}

static bool write_predictions(cli_context *context, const nsk_comparison *c) {
    const compare_options *own = context->own;
    cli_csv *csv =
        cli_csv_new("image,label,float_class,float_probability,integer_class,integer_probability");
    for (int i = 0; i < c->images; i++) {
        const nsk_answer *a = &c->answers[i];
        cli_csv_text(csv, nsk_images_path(context->held_out, i));
        char *names[3];
        name_answer(context, c, a, names);
        cli_csv_text(csv, names[0]);
        cli_csv_text(csv, names[1]);
        cli_csv_number(csv, (double)a->float_probability);
        cli_csv_text(csv, names[2]);
        cli_csv_number(csv, (double)a->integer_probability);
        cli_csv_end(csv);
        free_names(names);
    }
    return cli_csv_write(csv, own->predictions, &context->error);
}

/* ---- for people ---- */

static void print_accuracy(const nsk_comparison *c) {
    printf("Float against integer on %d held-out images of %d classes\n\n", c->images, c->classes);
    cli_table *table = cli_table_new("lrrrrrr");
    char heads[AMONG][CLI_TEXT];
    for (int i = 0; i < AMONG; i++) {
        heads[i][0] = '\0';
        if (among(c, i) > 0) {
            g_snprintf(heads[i], CLI_TEXT, "among first %d", among(c, i));
        }
    }
    cli_table_row(table, "\tright\taccuracy\tbalanced\t%s\t%s\tcalibration error", heads[0],
                  heads[1]);
    for (int k = 0; k < 2; k++) {
        int right = k == 0 ? c->float_correct : c->integer_correct;
        nsk_scoring *s = nsk_scoring_of(c, k == 1);
        char shares[AMONG][CLI_TEXT] = {"", ""};
        for (int i = 0; i < AMONG; i++) {
            if (among(c, i) > 0) {
                g_snprintf(shares[i], CLI_TEXT, "%.2f %%",
                           100.0 * nsk_right_among(c, among(c, i), k == 1) / c->images);
            }
        }
        cli_table_row(table, "%s\t%d\t%.2f %%\t%.2f %%\t%s\t%s\t%.2f %%",
                      k == 0 ? "float" : "integer", right, 100.0 * share(right, c->images),
                      100.0 * s->balanced_accuracy, shares[0], shares[1],
                      100.0 * s->calibration_error);
        nsk_scoring_free(s);
    }
    cli_table_print(table);
}

static void print_summary(const cli_context *context, const nsk_comparison *c) {
    (c->each != NULL ? cli_print_several : print_accuracy)(c);
    printf("\nloss       %.2f points; 95 %% interval for paired results %.2f to %.2f\n",
           c->loss_points, c->loss_low, c->loss_high);
    if (isfinite(context->brief->limits.loss)) {
        static const char *const words[] = {
            "holds", "OPEN: the interval crosses it, so that chance leaves it open", "BROKEN"};
        double limit = context->brief->limits.loss;
        printf("limit      %.2f points: %s\n", limit,
               words[nsk_interval_standing(c->loss_low, c->loss_high, limit)]);
    }
    printf("chance     %.2g that equally good models differ so unevenly (McNemar's exact test);\n"
           "           to tell a loss of %.2f points from none takes about %d images\n",
           nsk_paired_chance(c->lost, c->won), 100.0 * loss_to_settle(context),
           nsk_images_to_settle(c->lost, c->won, c->images, loss_to_settle(context)));
    if (c->tied > 0) {
        printf(
            "ties       %d images whose highest integer score several classes share: the first of "
            "them\n           in the labels' order is the answer\n",
            c->tied);
    }
    int flipped = c->images - c->agree;
    printf("agreement  %.2f %%; %d images flipped: %d lost, %d won, %d wrong both ways\n\n",
           100.0 * share(c->agree, c->images), flipped, c->lost, c->won,
           flipped - c->lost - c->won);
}

static void print_classes(const cli_context *context, const nsk_comparison *c) {
    nsk_scoring *sides[2] = {nsk_scoring_of(c, false), nsk_scoring_of(c, true)};
    cli_table *table = cli_table_new("lrrrrrrrr");
    cli_table_row(table, "\t\trecall\t\t\tprecision\t\tF1\t");
    cli_table_row(table, "class\timages\tfloat\tinteger\tloss\tfloat\tinteger\tfloat\tinteger");
    for (int k = 0; k < c->classes; k++) {
        const nsk_class_score *f = &sides[0]->classes[k];
        const nsk_class_score *i = &sides[1]->classes[k];
        if (f->images == 0) {
            cli_table_row(table, "%s\t0\t-\t-\t-\t-\t-\t-\t-", label_of(context, k));
            continue;
        }
        cli_table_row(table, "%s\t%d\t%.2f %%\t%.2f %%\t%.2f\t%.2f %%\t%.2f %%\t%.3f\t%.3f",
                      label_of(context, k), f->images, 100.0 * f->recall, 100.0 * i->recall,
                      100.0 * (f->recall - i->recall), 100.0 * f->precision, 100.0 * i->precision,
                      f->f1, i->f1);
    }
    cli_table_print(table);
    nsk_scoring_free(sides[0]);
    nsk_scoring_free(sides[1]);
}

/* The first letters of a name, as many as a column of a confusion matrix has room for. */
static void append_short(GString *line, const char *name) {
    enum { ROOM = 4 };
    char *head = g_utf8_substring(name, 0, MIN(ROOM, g_utf8_strlen(name, -1)));
    g_string_append_printf(line, " %*s%s", ROOM - (int)g_utf8_strlen(head, -1), "", head);
    g_free(head);
}

static void append_counts(GString *line, const int *counts, int classes, int truth) {
    for (int k = 0; k < classes; k++) {
        int count = counts[truth * classes + k];
        if (count > 0) {
            g_string_append_printf(line, " %4d", count);
        } else {
            g_string_append(line, "    .");
        }
    }
}

/* `half` 0: float, 1: integer, 2: both side by side. */
static void print_matrix(const cli_context *context, const nsk_comparison *c, int half) {
    GString *line = g_string_new(NULL);
    int first = half == 1 ? 1 : 0;
    int last = half == 0 ? 0 : 1;
    int width = 5 * c->classes;
    int *const counts[2] = {nsk_confusion_of(c, false), nsk_confusion_of(c, true)};
    g_string_printf(line, "%-9s", "");
    for (int k = first; k <= last; k++) {
        g_string_append_printf(line, "  %-*s", width, k == 0 ? " float says" : " integer says");
    }
    puts(g_strchomp(line->str));
    g_string_printf(line, "%-9s", "truth");
    for (int k = first; k <= last; k++) {
        g_string_append(line, "  ");
        for (int i = 0; i < c->classes; i++) {
            append_short(line, label_of(context, i));
        }
    }
    puts(line->str);
    for (int truth = 0; truth < c->classes; truth++) {
        g_string_printf(line, "%-9.9s", label_of(context, truth));
        for (int k = first; k <= last; k++) {
            g_string_append(line, "  ");
            append_counts(line, counts[k], c->classes, truth);
        }
        puts(line->str);
    }
    nsk_free(counts[0]);
    nsk_free(counts[1]);
    g_string_free(line, TRUE);
}

/* For many classes a matrix cannot be read: the pairs that are confused most. */
static void print_pairs(const cli_context *context, const nsk_comparison *c) {
    int *counts = nsk_confusion_of(c, true);
    int *by_float = nsk_confusion_of(c, false);
    cli_table *table = cli_table_new("llrr");
    cli_table_row(table, "truth\tinteger says\tinteger\tfloat");
    for (int n = 0; n < SHORT_LIST; n++) {
        int most = -1;
        for (int i = 0; i < c->classes * c->classes; i++) {
            bool wrong = i / c->classes != i % c->classes && counts[i] > 0;
            most = wrong && (most < 0 || counts[i] > counts[most]) ? i : most;
        }
        if (most < 0) {
            break;
        }
        int truth = most / c->classes;
        int answer = most % c->classes;
        cli_table_row(table, "%s\t%s\t%d\t%d", label_of(context, truth), label_of(context, answer),
                      counts[most], by_float[most]);
        counts[most] = 0;
    }
    cli_table_print(table);
    nsk_free(counts);
    nsk_free(by_float);
}

static void print_confusion(const cli_context *context, const nsk_comparison *c) {
    putchar('\n');
    if (c->classes <= SIDE_BY_SIDE) {
        print_matrix(context, c, 2);
    } else if (c->classes <= MOST_IN_MATRIX) {
        print_matrix(context, c, 0);
        putchar('\n');
        print_matrix(context, c, 1);
    } else {
        print_pairs(context, c);
    }
}

static void print_flips(const cli_context *context, const nsk_comparison *c) {
    const compare_options *own = context->own;
    int left = own->all ? c->images : SHORT_LIST;
    int flipped = c->images - c->agree;
    if (flipped == 0) {
        return;
    }
    cli_table *table = cli_table_new("lllrlr");
    cli_table_row(table, "flipped image\ttruth\tfloat\t\tinteger\t");
    for (int i = 0; i < c->images && left > 0; i++) {
        const nsk_answer *a = &c->answers[i];
        if (!a->alike) {
            char *name = g_path_get_basename(nsk_images_path(context->held_out, i));
            char *names[3];
            name_answer(context, c, a, names);
            cli_table_row(table, "%s\t%s\t%s\t%.2f\t%s\t%.2f", name, names[0], names[1],
                          (double)a->float_probability, names[2], (double)a->integer_probability);
            free_names(names);
            g_free(name);
            left--;
        }
    }
    putchar('\n');
    cli_table_print(table);
    if (!own->all && flipped > SHORT_LIST) {
        printf("... and %d more; --all lists them\n", flipped - SHORT_LIST);
    }
}

/* The steps from float to integers, each with what it costs. */
static void print_split(const nsk_comparison *c, const nsk_loss_split *split,
                        const nsk_sensor *sensor) {
    const bool sensed = !nsk_sensor_is_plain(sensor);
    const int right[] = {split->stored, split->exact, split->prepared, split->weights,
                         c->integer_correct};
    static const char *const steps[] = {"float, pictures as stored", "the sensor's format",
                                        "the device's preparation", "integer weights",
                                        "rounding what is computed"};
    cli_table *table = cli_table_new("lrrr");
    cli_table_row(table, "step\tright\taccuracy\tloss");
    const int first = sensed ? 0 : 1;
    for (int i = first; i < (int)G_N_ELEMENTS(steps); i++) {
        char loss[32] = "";
        if (i > first) {
            g_snprintf(loss, sizeof loss, "%.2f", 100.0 * (right[i - 1] - right[i]) / c->images);
        }
        cli_table_row(table, "%s\t%d\t%.2f %%\t%s", i == 1 && !sensed ? "float" : steps[i],
                      right[i], 100.0 * share(right[i], c->images), loss);
    }
    cli_table_print(table);
    putchar('\n');
}

/* The class that more wrong answers name than before, and the pairs that got worse. */
static void print_worse(const cli_context *context, const nsk_comparison *c) {
    GString *text = g_string_new(NULL);
    int *by_float = nsk_confusion_of(c, false);
    int *by_integer = nsk_confusion_of(c, true);
    int most = 0;
    int gained = -1;
    for (int answer = 0; answer < c->classes; answer++) {
        int more = 0;
        for (int truth = 0; truth < c->classes; truth++) {
            int change = truth == answer ? 0
                                         : by_integer[truth * c->classes + answer] -
                                               by_float[truth * c->classes + answer];
            more += change;
            if (change > 0) {
                g_string_append_printf(text, "%s%s for %s (%d more)", text->len > 0 ? ", " : "",
                                       label_of(context, answer), label_of(context, truth), change);
            }
        }
        if (more > most) {
            most = more;
            gained = answer;
        }
    }
    nsk_free(by_float);
    nsk_free(by_integer);
    if (text->len > 0) {
        char *gain = gained < 0 ? g_strdup("no class gains wrong answers")
                                : g_strdup_printf("'%s' gains most wrong answers, %d",
                                                  label_of(context, gained), most);
        char *line =
            g_strdup_printf("%s; taken more often than by the float model: %s", gain, text->str);
        putchar('\n');
        cli_paragraph("worse      ", line);
        g_free(gain);
        g_free(line);
    }
    g_string_free(text, TRUE);
}

static bool draw(cli_context *context, const nsk_comparison *c) {
    const compare_options *own = context->own;
    nsk_model model;
    nsk_open(&model, context->model->bytes, context->model->size);
    return (own->sheet == NULL ||
            nsk_flips_sheet(c, context->held_out, own->sheet, &context->error)) &&
           (own->plot == NULL || nsk_reliability_draw(c, nsk_model_fact(&model, NSK_FACT_NAME),
                                                      own->plot, &context->error));
}

/* Of the brief's own model: one from elsewhere has weights of its own. */
static bool split_loss(cli_context *context, nsk_loss_split *split) {
    if (context->model_path != NULL) {
        return nsk_fail(&context->error,
                        "--split is of the model that the brief describes; leave out --model");
    }
    return nsk_split_loss(context->network, context->calibration, &context->brief->recipe,
                          context->model, context->held_out, split, cli_progress, NULL,
                          &context->error);
}

/* Where a model file is given, the brief need not name anything to calibrate on. */
static bool find_overlap(cli_context *context, int *overlap) {
    *overlap = -1;
    if (context->brief->calibration == NULL ||
        (context->calibration == NULL &&
         !g_file_test(context->brief->calibration, G_FILE_TEST_EXISTS))) {
        return true;
    }
    if (!cli_load_calibration(context)) {
        return false;
    }
    *overlap = nsk_images_shared(context->calibration, context->held_out);
    return true;
}

static void print_text(const cli_context *context, const nsk_comparison *c, const findings *f) {
    const compare_options *own = context->own;
    cli_print_facts(context);
    print_summary(context, c);
    if (own->split) {
        print_split(c, &f->split, &context->brief->product.sensor);
    }
    if (c->each != NULL) {
        cli_print_labels(context, c);
    } else {
        print_classes(context, c);
        print_confusion(context, c);
        print_worse(context, c);
    }
    print_flips(context, c);
    if (nsk_verdict_standing(f->verdict) != NSK_STANDING_HOLDS) {
        putchar('\n');
        cli_print_findings(f->verdict);
    }
}

/* What is written and found out once both models have answered. */
static bool find_rest(cli_context *context, const nsk_comparison *c, findings *f) {
    const compare_options *own = context->own;
    return (own->predictions == NULL || write_predictions(context, c)) && draw(context, c) &&
           (!own->split || split_loss(context, &f->split)) && find_overlap(context, &f->overlap);
}

static int run(cli_context *context) {
    findings f = {.overlap = -1};
    if (!cli_load_network(context) || !cli_load_held_out(context) || !cli_load_model(context)) {
        return cli_fail(context);
    }
    nsk_comparison *c = nsk_compare(context->network, context->model, context->held_out,
                                    cli_progress, NULL, &context->error);
    if (c == NULL || !find_rest(context, c, &f)) {
        nsk_comparison_free(c);
        return cli_fail(context);
    }
    f.verdict = nsk_verdict_new();
    nsk_judge_comparison(f.verdict, c, &context->brief->labels, context->brief->limits.loss);
    nsk_judge_overlap(f.verdict, "compare", MAX(f.overlap, 0), c->images);
    if (context->json) {
        print_json(context, c, &f);
    } else {
        print_text(context, c, &f);
    }
    int status = cli_conclude(context, f.verdict);
    nsk_verdict_free(f.verdict);
    nsk_comparison_free(c);
    return status;
}

static const cli_own own_options[] = {
    {"predictions", offsetof(compare_options, predictions), 0},
    {"all", offsetof(compare_options, all), 0},
    {"sheet", offsetof(compare_options, sheet), 0},
    {"plot", offsetof(compare_options, plot), 0},
    {"split", offsetof(compare_options, split), 0},
    {NULL, 0, 0},
};

const cli_command cli_compare = {
    .name = "compare",
    .summary = "float against integer on the held-out images",
    .arguments = "BRIEF",
    .example = "  netsuke compare demo/kiln.ini --predictions answers.csv\n"
               "says what quantising costs in accuracy, and on which images; --sheet F.png shows "
               "those, and\n"
               "--plot F.svg whether the probabilities can be trusted.",
    .least = 1,
    .most = 1,
    .shared = "model calibration held-out tolerant strict on remember",
    .own = own_options,
    .own_size = sizeof(compare_options),
    .run = run,
};
