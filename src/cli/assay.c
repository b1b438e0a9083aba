/* netsuke assay: everything in the order of work, into one folder, with one verdict at its end.
 *
 * Each step is this same program in a process of its own; what it printed is kept in the folder. A
 * step whose text is there is not run again, as long as nothing that it depends on has changed. */
#include <gio/gio.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>
#include <sys/wait.h>

#include "command.h"
#include "netsuke/weigh.h"

typedef struct assay_options {
    char *output;
} assay_options;

/* A step: its words, '@' standing for the folder. It is taken where what it needs is there. */
typedef enum need {
    ALWAYS,
    ONE_LABEL, /* a picture, not several */
    VARIANTS,
    SCENES,
    SCENES_OF_SEVERAL,
    NO_SCENES,
    TESTED,
    ON_BOARD /* never taken from the folder: it is about a board that is there now */
} need;
static const struct step {
    const char *name, *question, *words;
    need needs;
} steps[] = {
    {"survey", "Look at the images.", "survey BRIEF --sheet @/survey.png", ALWAYS},
    {"outline", "Look at the model.", "outline BRIEF --plot @/layers.svg", ALWAYS},
    {"vet", "Is it fed as it was in training?", "vet BRIEF", ALWAYS},
    {"quantise", "Build the integer model.", "quantise BRIEF -o @/model.nsk", ALWAYS},
    {"compare", "What does that cost in accuracy, and where?",
     "compare BRIEF --model @/model.nsk --predictions @/predictions.csv --plot @/reliability.svg",
     ALWAYS},
    {"drift", "Which layers does rounding hurt?", "drift BRIEF --sample 200 --plot @/drift.svg",
     ALWAYS},
    {"stress", "Does it break earlier than the float model where images change?",
     "stress BRIEF --model @/model.nsk --sample 120 --plot @/stress.svg", ALWAYS},
    {"atlas", "Which images stand among another class?",
     "atlas BRIEF --sample 300 --plot @/atlas.svg", ONE_LABEL},
    {"budget", "Does it fit the board?", "budget BRIEF --model @/model.nsk --plot @/plan.svg",
     ALWAYS},
    {"headroom", "What would give more room?", "headroom BRIEF", ALWAYS},
    {"weigh", "And variants of the network, side by side?",
     "weigh VARIANTS --keep @/kept --plot @/weigh.svg", VARIANTS},
    {"emit", "Hand over C.", "emit BRIEF --model @/model.nsk -o @/hand-over", ALWAYS},
    {"self-test", "Does it compute the same scores?", "", TESTED},
    {"rehearse", "How does the product do on the simulated board?",
     "rehearse BRIEF --model @/model.nsk --scenes --sweep --plot @/sweep.svg", SCENES},
    {"rehearse", "How does the product do on the simulated board?",
     "rehearse BRIEF --model @/model.nsk --scenes", SCENES_OF_SEVERAL},
    {"rehearse", "How does the product do on the simulated board?",
     "rehearse BRIEF --model @/model.nsk --frames 300", NO_SCENES},
    {"trial", "And on the board itself?", "trial BRIEF --model @/model.nsk --on LINK", ON_BOARD},
    {"report", "All of it on one page.",
     "report BRIEF --model @/model.nsk --keep @/kept -o @/report.html --json", ALWAYS},
};

typedef struct assay {
    cli_context *context;
    char *folder, *self;
    int ran, kept; /* steps */
    nsk_verdict *verdict;
} assay;

static bool is_wanted(const assay *a, const struct step *step) {
    const nsk_brief *brief = a->context->brief;
    const bool several = brief->labels.thresholds != NULL;
    return step->needs == VARIANTS            ? brief->variants_brief != NULL
           : step->needs == SCENES            ? brief->scenes != NULL && !several
           : step->needs == SCENES_OF_SEVERAL ? brief->scenes != NULL && several
           : step->needs == NO_SCENES         ? brief->scenes == NULL
           : step->needs == ONE_LABEL         ? !several
           : step->needs == ON_BOARD          ? a->context->on != NULL
                                              : true;
}

static char *file_of(const assay *a, const struct step *step, const char *ending) {
    return g_strdup_printf("%s/%02d-%s.%s", a->folder, (int)(step - steps) + 1, step->name, ending);
}

/* The command line of a step, this program first. */
static char **line_of(const assay *a, const struct step *step) {
    if (step->needs == TESTED) {
        char *folder = g_build_filename(a->folder, "hand-over", NULL);
        char *make[] = {(char *)"make", (char *)"-s", (char *)"-C", folder, NULL};
        char **line = g_strdupv(make);
        g_free(folder);
        return line;
    }
    GString *words = g_string_new("self ");
    g_string_append(words, step->words);
    char **line = g_strsplit(words->str, " ", -1);
    for (char **word = line; *word != NULL; word++) {
        const char *whole = word == line                     ? a->self
                            : strcmp(*word, "BRIEF") == 0    ? a->context->brief->path
                            : strcmp(*word, "VARIANTS") == 0 ? a->context->brief->variants_brief
                            : strcmp(*word, "LINK") == 0     ? a->context->on
                                                             : NULL;
        char *replaced = whole != NULL   ? g_strdup(whole)
                         : **word == '@' ? g_strconcat(a->folder, *word + 1, NULL)
                                         : g_strdup(*word);
        g_free(*word);
        *word = replaced;
    }
    g_string_free(words, TRUE);
    return line;
}

/* What a person would type. */
static void print_line(const struct step *step, char **line) {
    printf("\n==== %s\n     %s", step->question, step->needs == TESTED ? "make" : "netsuke");
    for (char **word = line + 1; *word != NULL; word++) {
        printf(" %s", *word);
    }
    puts("\n");
}

/* Text and status of a step, from the folder. */
static char *recall(const assay *a, const struct step *step, int *status) {
    char *path = file_of(a, step, "txt");
    char *text = NULL;
    char *kept = NULL;
    char *status_path = file_of(a, step, "status");
    bool good = g_file_get_contents(path, &text, NULL, NULL) &&
                g_file_get_contents(status_path, &kept, NULL, NULL);
    *status = good ? (int)g_ascii_strtoll(kept, NULL, 10) : CLI_ERROR;
    if (!good) {
        g_clear_pointer(&text, g_free);
    }
    g_free(status_path);
    g_free(kept);
    g_free(path);
    return text;
}

static bool keep(const assay *a, const struct step *step, const char *text, int status) {
    char *path = file_of(a, step, "txt");
    char *status_path = file_of(a, step, "status");
    char digits[16];
    GError *reason = NULL;
    g_snprintf(digits, sizeof digits, "%d\n", status);
    bool good = g_file_set_contents(path, text, -1, &reason) &&
                g_file_set_contents(status_path, digits, -1, &reason);
    if (!good) {
        nsk_fail(&a->context->error, "%s", reason->message);
        g_error_free(reason);
    }
    g_free(status_path);
    g_free(path);
    return good;
}

/* What the self-test is built with. */
static bool has_tools(nsk_error *error) {
    static const char *const tools[] = {"make", "cc"};
    for (size_t i = 0; i < G_N_ELEMENTS(tools); i++) {
        char *path = g_find_program_in_path(tools[i]);
        if (path == NULL) {
            return nsk_fail(
                error,
                "the self-test wants '%s', which is not here; install make and a C compiler, and "
                "start again: it goes on from here",
                tools[i]);
        }
        g_free(path);
    }
    return true;
}

/* Runs a step to its end. NULL and context->error where it fails. */
static char *execute(const assay *a, const struct step *step, char **line, int *status) {
    char *out = NULL;
    char *said = NULL;
    int wait = 0;
    GError *reason = NULL;
    nsk_error *error = &a->context->error;
    if (step->needs == TESTED && !has_tools(error)) {
        return NULL;
    }
    if (!g_spawn_sync(NULL, line, NULL, G_SPAWN_SEARCH_PATH, NULL, NULL, &out, &said, &wait,
                      &reason)) {
        nsk_fail(error, "%s: %s", step->name, reason->message);
        g_error_free(reason);
        return NULL;
    }
    *status = WIFEXITED(wait) ? WEXITSTATUS(wait) : CLI_ERROR;
    bool differs = step->needs == TESTED && strstr(out, "\nFAILED") != NULL;
    if (!differs && (*status >= CLI_ERROR || (step->needs == TESTED && *status != CLI_DONE))) {
        static const char prefix[] = "netsuke: ";
        const char *text = g_str_has_prefix(said, prefix) ? said + strlen(prefix) : said;
        nsk_fail(error, "%s: %s", step->name, text[0] != '\0' ? text : "it ended without a word");
        g_strchomp(error->text);
        g_clear_pointer(&out, g_free);
    }
    g_free(said);
    return out;
}

/* The self-test's last line. */
static void judge_self_test(const assay *a, const char *text) {
    bool passed = strstr(text, "\npassed") != NULL;
    nsk_verdict_add(a->verdict, "hand-over", passed ? NSK_STANDING_HOLDS : NSK_STANDING_BROKEN,
                    passed ? "the self-test computes the same scores and takes the same decisions"
                           : "the self-test FAILED: its scores are not those of the host");
}

static void judge_trial(const assay *a, int status) {
    const bool same = status == CLI_DONE;
    nsk_verdict_add(a->verdict, "board", same ? NSK_STANDING_HOLDS : NSK_STANDING_BROKEN,
                    same ? "every score over %s is the one that this machine computes"
                         : "over %s there are OTHER SCORES than on this machine",
                    a->context->on);
}

static bool run_step(assay *a, const struct step *step) {
    int status;
    char **line = line_of(a, step);
    char *text = step->needs == ON_BOARD ? NULL : recall(a, step, &status);
    bool again = text != NULL;
    if (!a->context->json) {
        print_line(step, line);
        fflush(stdout);
    }
    if (text == NULL) {
        text = execute(a, step, line, &status);
    }
    bool good = text != NULL && (again || keep(a, step, text, status));
    if (good && !a->context->json && strcmp(step->name, "report") != 0) {
        fputs(text, stdout);
    }
    a->kept += again;
    a->ran += !again;
    if (good && step->needs == TESTED) {
        judge_self_test(a, text);
    } else if (good && step->needs == ON_BOARD) {
        judge_trial(a, status);
    }
    g_free(text);
    g_strfreev(line);
    return good;
}

/* ---- what everything depends on ---- */

static bool make_key(assay *a, char **key) {
    cli_context *context = a->context;
    nsk_recipe recipe;
    char *text = NULL;
    if (!cli_load_board(context) || !cli_load_network(context) || !cli_load_calibration(context) ||
        !cli_load_held_out(context) || !cli_make_recipe(context, &recipe)) {
        return false;
    }
    char *measured = nsk_measurement_key(context->network, context->calibration, &recipe,
                                         context->held_out, &context->error);
    if (measured == NULL) {
        return false;
    }
    GChecksum *sum = g_checksum_new(G_CHECKSUM_SHA256);
    g_checksum_update(sum, (const guchar *)measured, -1);
    const char *const files[] = {context->brief->path, context->brief->board, context->board->costs,
                                 context->brief->variants_brief};
    for (size_t i = 0; i < G_N_ELEMENTS(files); i++) {
        if (files[i] != NULL && g_file_get_contents(files[i], &text, NULL, NULL)) {
            g_checksum_update(sum, (const guchar *)text, -1);
            g_clear_pointer(&text, g_free);
        }
    }
    for (char **scene = context->brief->scenes; scene != NULL && *scene != NULL; scene++) {
        if (g_file_get_contents(*scene, &text, NULL, NULL)) {
            g_checksum_update(sum, (const guchar *)text, -1);
            g_clear_pointer(&text, g_free);
        }
    }
    *key = g_strdup(g_checksum_get_string(sum));
    g_checksum_free(sum);
    g_free(measured);
    return true;
}

static void forget(const assay *a) {
    for (size_t i = 0; i < G_N_ELEMENTS(steps); i++) {
        char *path = file_of(a, &steps[i], "status");
        g_unlink(path);
        g_free(path);
    }
}

/* Steps that were run for something else are forgotten. */
static bool open_folder(const assay *a) {
    nsk_error *error = &a->context->error;
    char *path = g_build_filename(a->folder, "assayed.txt", NULL);
    char *known = NULL;
    char *key = NULL;
    bool good = make_key((assay *)a, &key);
    if (good && g_mkdir_with_parents(a->folder, 0777) != 0) {
        nsk_fail(error, "%s: the folder cannot be made; check the path", a->folder);
        good = false;
    }
    if (good && (!g_file_get_contents(path, &known, NULL, NULL) || strcmp(known, key) != 0)) {
        forget(a);
        GError *reason = NULL;
        good = g_file_set_contents(path, key, -1, &reason) != FALSE;
        if (!good) {
            nsk_fail(error, "%s", reason->message);
            g_error_free(reason);
        }
    }
    g_free(known);
    g_free(key);
    g_free(path);
    return good;
}

/* ---- the end ---- */

static JsonParser *read_numbers(const assay *a) {
    int status;
    char *text = recall(a, &steps[G_N_ELEMENTS(steps) - 1], &status);
    JsonParser *parser = json_parser_new();
    if (text == NULL || !json_parser_load_from_data(parser, text, -1, NULL)) {
        g_clear_object(&parser);
    }
    g_free(text);
    return parser;
}

static double number(JsonObject *o, const char *name) {
    return json_object_has_member(o, name) ? json_object_get_double_member(o, name) : 0.0;
}

/* What the report found becomes the assay's, beside the self-test. */
static void take_findings(const assay *a, JsonObject *report) {
    JsonArray *findings =
        json_object_get_array_member(json_object_get_object_member(report, "verdict"), "findings");
    for (guint i = 0; i < json_array_get_length(findings); i++) {
        JsonObject *f = json_array_get_object_element(findings, i);
        nsk_standing standing = NSK_STANDING_HOLDS;
        while (standing < NSK_STANDING_BROKEN &&
               strcmp(nsk_standing_text(standing), json_object_get_string_member(f, "standing")) !=
                   0) {
            standing++;
        }
        nsk_verdict_add(a->verdict, g_intern_string(json_object_get_string_member(f, "step")),
                        standing, "%s", json_object_get_string_member(f, "text"));
    }
}

static void print_numbers(JsonObject *o) {
    printf("  float accuracy    %.2f %% of %.0f held-out images\n"
           "  integer accuracy  %.2f %%: %.2f points lost (95 %% interval %.2f to %.2f)\n"
           "  flash             %.1f KiB\n  ram               %.1f KiB\n"
           "  time per frame    %.1f ms\n",
           100.0 * number(o, "float_accuracy"), number(o, "images"),
           100.0 * number(o, "integer_accuracy"), number(o, "loss_points"), number(o, "loss_low"),
           number(o, "loss_high"), number(o, "flash") / 1024.0, number(o, "ram") / 1024.0,
           1e3 * number(o, "seconds"));
    if (number(o, "scenes") > 0.0) {
        printf("  rehearsal         %.0f scenes: %.0f events, %.0f missed; %.0f false actions\n",
               number(o, "scenes"), number(o, "events"), number(o, "missed"),
               number(o, "false_actions"));
    }
}

static void print_verdict(const assay *a, JsonObject *report) {
    puts("\n==== In short");
    print_numbers(report);
    printf("  verdict           %s\n", cli_verdict_words(a->verdict));
    cli_print_findings(a->verdict);
    printf("\n%s/report.html is all of it on one page.\n", a->folder);
}

static void print_json(const assay *a) {
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    cli_json_int(b, "ran", a->ran);
    cli_json_int(b, "kept", a->kept);
    json_builder_set_member_name(b, "holds");
    json_builder_add_boolean_value(b, nsk_verdict_standing(a->verdict) != NSK_STANDING_BROKEN);
    cli_json_verdict(b, a->verdict);
    json_builder_end_object(b);
    cli_print_json(b);
}

static bool conclude(const assay *a) {
    JsonParser *parser = read_numbers(a);
    if (parser == NULL) {
        return nsk_fail(
            &a->context->error,
            "%s: the report's figures cannot be read; remove the folder and start again",
            a->folder);
    }
    JsonObject *report = json_node_get_object(json_parser_get_root(parser));
    take_findings(a, report);
    if (a->context->json) {
        print_json(a);
    } else {
        print_verdict(a, report);
    }
    g_object_unref(parser);
    return true;
}

static int run(cli_context *context) {
    const assay_options *own = context->own;
    if (own->output == NULL) {
        nsk_fail(&context->error, "assay wants -o DIR: the folder for what it makes");
        return cli_fail(context);
    }
    assay a = {.context = context,
               .folder = g_strdup(own->output),
               .self = g_file_read_link("/proc/self/exe", NULL),
               .verdict = nsk_verdict_new()};
    bool good = open_folder(&a);
    for (size_t i = 0; i < G_N_ELEMENTS(steps) && good; i++) {
        good = !is_wanted(&a, &steps[i]) || run_step(&a, &steps[i]);
    }
    good = good && conclude(&a);
    int status = good ? cli_conclude(context, a.verdict) : cli_fail(context);
    nsk_verdict_free(a.verdict);
    g_free(a.folder);
    g_free(a.self);
    return status;
}

static const cli_own own_options[] = {
    {"output", offsetof(assay_options, output), 0},
    {NULL, 0, 0},
};

const cli_command cli_assay = {
    .name = "assay",
    .summary = "everything in order, into one folder, with one verdict at its end",
    .arguments = "BRIEF",
    .example = "  netsuke assay demo/kiln.ini -o demo/out\n"
               "runs all the others on what the brief names, keeps what they print and draw, and "
               "ends with a\n"
               "verdict. Started again, it goes on where it stopped. With --on LINK the board "
               "there has its "
               "trial, too.",
    .least = 1,
    .most = 1,
    .shared = "strict on",
    .own = own_options,
    .own_size = sizeof(assay_options),
    .makes_folder = true,
    .run = run,
};
