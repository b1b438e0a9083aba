/* netsuke clock: a board's own timings, and a cost table that learns from them. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "command.h"
#include "netsuke/clock.h"
#include "table.h"

typedef struct clock_options {
    char **logs;
    char *tick, *output;
} clock_options;

/* A brief's model, and its trial where a board is at a link. */
typedef struct clocked {
    cli_context context;
    nsk_trial *trial;
} clocked;

static void clear_clocked(void *data) {
    nsk_trial_free(((clocked *)data)->trial);
    cli_context_clear(&((clocked *)data)->context);
}

/* Another core's times would teach this board's table nothing. */
static bool is_that_core(cli_context *its) {
    const char *core = nsk_on_board_self(its->on_board)->core;
    return strcmp(core, its->board->core) == 0 ||
           nsk_fail(&its->error, "%s: the board there is a '%s', and the brief's a '%s'", its->on,
                    core, its->board->core);
}

/* Over the link, if there is one: the median of some frames. */
static bool try_board(clocked *c) {
    enum { FRAMES = 10 };
    cli_context *its = &c->context;
    if (its->on_board == NULL) {
        return true;
    }
    if (!is_that_core(its) || !cli_load_held_out(its)) {
        return false;
    }
    c->trial = nsk_trial_run(its->on_board, its->model, its->held_out, FRAMES, cli_progress, NULL,
                             &its->error);
    if (c->trial != NULL && c->trial->differ > 0) {
        return nsk_fail(&its->error,
                        "%s: the board's scores are not this machine's, so that its times mean "
                        "nothing; netsuke trial says where",
                        its->on);
    }
    return c->trial != NULL && !c->trial->broken;
}

static bool load(cli_context *context, GArray *briefs) {
    for (char **path = context->arguments; *path != NULL; path++) {
        clocked one = {.context = {.arguments = g_new0(char *, 2),
                                   .board_path = g_strdup(context->board_path),
                                   .calibration_path = g_strdup(context->calibration_path),
                                   .model_path = g_strdup(context->model_path),
                                   .on = g_strdup(context->on)}};
        one.context.arguments[0] = g_strdup(*path);
        g_array_append_val(briefs, one);
        clocked *last = &g_array_index(briefs, clocked, briefs->len - 1);
        cli_context *its = &last->context;
        if (!cli_load_board(its) || !cli_load_model(its) || !try_board(last)) {
            context->error = its->error;
            return false;
        }
    }
    return true;
}

/* Ticks of the log's timer in cycles of the board. */
static bool read_tick(cli_context *context, double clock, double *cycles) {
    const clock_options *own = context->own;
    char *end;
    *cycles = 1.0;
    if (own->tick == NULL) {
        return true;
    }
    double hertz = g_ascii_strtod(own->tick, &end);
    double factor = g_strcmp0(end, "Hz") == 0 || *end == '\0' ? 1.0
                    : g_strcmp0(end, "kHz") == 0              ? 1e3
                    : g_strcmp0(end, "MHz") == 0              ? 1e6
                                                              : 0.0;
    *cycles = clock / (hertz * factor);
    if (!(hertz * factor >= 1.0) || !isfinite(*cycles)) {
        return nsk_fail(&context->error,
                        "--tick %s: the rate of the timer that the log counts by, as in '25MHz'",
                        own->tick);
    }
    return true;
}

static double apart(double estimate, double measured) {
    return 100.0 * (estimate / measured - 1.0);
}

static void print_layers(const GArray *briefs, const nsk_clocking *c) {
    cli_table *table = cli_table_new("llrrrrr");
    int at = 0;
    double sum[3] = {0.0, 0.0, 0.0};
    cli_table_row(table, "layer\tkernel\tmeasured\testimated\t\tlearned\t");
    for (guint k = 0; k < briefs->len; k++) {
        const cli_context *context = &g_array_index(briefs, clocked, k).context;
        nsk_model model;
        nsk_open(&model, context->model->bytes, context->model->size);
        int layers = model.layers + (model.streamed > 0 ? 0 : 1);
        for (int i = 0; i < layers && at < c->layers; i++, at++) {
            const nsk_clocked_layer *l = &c->layer[at];
            char text[3][CLI_TEXT];
            int layer = i - (model.streamed > 0 ? 0 : 1);
            cli_table_row(table, "%s\t%s\t%s\t%s\t%+.1f %%\t%s\t%+.1f %%",
                          layer < 0 ? "preparation" : nsk_layer_name(&model, (unsigned)layer),
                          l->kind, cli_count(l->measured, text[0]), cli_count(l->guessed, text[1]),
                          apart(l->guessed, l->measured), cli_count(l->learned, text[2]),
                          apart(l->learned, l->measured));
            sum[0] += l->measured;
            sum[1] += l->guessed;
            sum[2] += l->learned;
        }
    }
    char text[3][CLI_TEXT];
    cli_table_row(table, "all\t\t%s\t%s\t%+.1f %%\t%s\t%+.1f %%", cli_count(sum[0], text[0]),
                  cli_count(sum[1], text[1]), apart(sum[1], sum[0]), cli_count(sum[2], text[2]),
                  apart(sum[2], sum[0]));
    cli_table_print(table);
}

static void print_text(const cli_context *context, const GArray *briefs, const nsk_clocking *c) {
    const clock_options *own = context->own;
    const nsk_board *board = g_array_index(briefs, clocked, 0).context.board;
    char unseen[400] = "";
    printf("Cycles on board '%s' at %.6g MHz, beside its cost table's estimate and one that has\n"
           "learned from %s\n\n",
           board->name, board->clock / 1e6,
           context->on != NULL             ? context->on
           : context->arguments[1] != NULL ? "the logs"
                                           : own->logs[0]);
    print_layers(briefs, c);
    printf("\npace     the board takes %.3f times the cycles that the table says, in the middle\n",
           c->pace);
    for (int i = 0, used = 0; i < c->kinds; i++) {
        if (c->kind[i].layers == 0) {
            used += g_snprintf(unseen + used, sizeof unseen - (gsize)used, "%s%s",
                               used > 0 ? ", " : "", c->kind[i].kind);
            used = MIN(used, (int)sizeof unseen - 1);
        }
    }
    if (unseen[0] != '\0') {
        cli_paragraph("unseen   ", unseen);
        puts("         for these the new table has the old one's figures times the pace");
    }
    if (own->output != NULL) {
        printf("wrote    %s; name it as [costs] file of the board\n", own->output);
    }
}

static void print_json(const nsk_clocking *c) {
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    cli_json_real(b, "pace", c->pace);
    json_builder_set_member_name(b, "layers");
    json_builder_begin_array(b);
    for (int i = 0; i < c->layers; i++) {
        json_builder_begin_object(b);
        cli_json_text(b, "kernel", c->layer[i].kind);
        cli_json_real(b, "measured", c->layer[i].measured);
        cli_json_real(b, "estimated", c->layer[i].guessed);
        cli_json_real(b, "learned", c->layer[i].learned);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    cli_print_json(b);
}

static bool check_logs(cli_context *context) {
    const clock_options *own = context->own;
    guint briefs = g_strv_length(context->arguments);
    guint logs = own->logs != NULL ? g_strv_length(own->logs) : 0;
    if (g_strcmp0(context->on, "sim") == 0) {
        return nsk_fail(&context->error, "sim is this machine, whose time is no board's: give a "
                                         "link to the board, or logs");
    }
    if (context->on != NULL) {
        return (briefs == 1 && logs == 0 && own->tick == NULL) ||
               nsk_fail(&context->error,
                        "--on wants one brief, whose model the board runs, and "
                        "neither --log nor --tick: it says itself what it counts by");
    }
    if (logs != briefs) {
        nsk_fail(&context->error,
                 "--log: %u given; each brief wants the log of its own hand-over, in the same "
                 "order",
                 logs);
    }
    return logs == briefs;
}

static nsk_clocking *learn(cli_context *context, const GArray *briefs) {
    const clock_options *own = context->own;
    nsk_clock_log *logs = g_new0(nsk_clock_log, briefs->len);
    const nsk_board *board = g_array_index(briefs, clocked, 0).context.board;
    nsk_clocking *c = NULL;
    double cycles;
    if (read_tick(context, board->clock, &cycles)) {
        for (guint i = 0; i < briefs->len; i++) {
            const clocked *one = &g_array_index(briefs, clocked, i);
            const nsk_board_self *self =
                one->trial != NULL ? nsk_on_board_self(one->context.on_board) : NULL;
            logs[i] = self != NULL
                          ? (nsk_clock_log){one->context.model, context->on, one->trial->ticks,
                                            self->clock / self->tick}
                          : (nsk_clock_log){one->context.model, own->logs[i], NULL, cycles};
        }
        c = nsk_clock(board, logs, (int)briefs->len, &context->error);
    }
    g_free(logs);
    return c;
}

static int run(cli_context *context) {
    const clock_options *own = context->own;
    GArray *briefs = g_array_new(FALSE, TRUE, sizeof(clocked));
    g_array_set_clear_func(briefs, clear_clocked);
    nsk_clocking *c = check_logs(context) && load(context, briefs) ? learn(context, briefs) : NULL;
    bool good = c != NULL;
    if (good && own->output != NULL) {
        char *source = context->on != NULL ? g_strdup(context->on) : g_strjoinv(", ", own->logs);
        good = nsk_clock_write(c, g_array_index(briefs, clocked, 0).context.board, source,
                               own->output, &context->error);
        g_free(source);
    }
    if (good && context->json) {
        print_json(c);
    } else if (good) {
        print_text(context, briefs, c);
    }
    nsk_clocking_free(c);
    g_array_free(briefs, TRUE);
    return good ? CLI_DONE : cli_fail(context);
}

static const cli_own own_options[] = {
    {"log", offsetof(clock_options, logs), 0},
    {"tick", offsetof(clock_options, tick), 0},
    {"output", offsetof(clock_options, output), 0},
    {NULL, 0, 0},
};

const cli_command cli_clock = {
    .name = "clock",
    .summary = "a board's own timings beside the estimate, and a cost table that learns from them",
    .arguments = "BRIEF...",
    .example = "  netsuke clock demo/kiln.ini --log run.txt --tick 25MHz -o costs/ours.ini\n"
               "takes what the hand-over's self-test printed on the board, shows by how much each "
               "layer was\n"
               "misjudged, and writes a cost table of that board.",
    .least = 1,
    .most = 100,
    .shared = "model board calibration on",
    .own = own_options,
    .own_size = sizeof(clock_options),
    .usual = "tick: the board's clock",
    .run = run,
};
