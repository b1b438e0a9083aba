/* netsuke trial: a model on a board, held against this machine. */
#include <stdio.h>
#include <string.h>

#include "command.h"
#include "netsuke/on_board.h"
#include "netsuke/tools.h"
#include "table.h"

typedef struct trial_options {
    gint frames;
} trial_options;

enum { USUAL_FRAMES = 50 };

/* What became of a model that the board was to be given. */
typedef enum renewal { NOT_ASKED, WAS_THERE, KEPT, SENT_BACK } renewal;

/* What is said of a trial. */
typedef struct told {
    const nsk_board_self *self;
    const nsk_trial *trial;
    nsk_budget *budget; /* or NULL: the brief's board has another core, or no cost table */
    nsk_model model;
    bool emulated; /* instructions are counted, not cycles */
    bool here;     /* this machine's own time */
    renewal renewal;
} told;

/* ---- what was expected ---- */

/* Clocks of the core, of so many ticks. */
static double clocks(const told *t, double ticks) {
    return ticks * t->self->clock / t->self->tick;
}

static double expected(const told *t, int layer) {
    const nsk_layer_cost *c =
        layer < t->trial->layers ? &t->budget->layer[layer] : &t->budget->preparation;
    return t->emulated ? c->instructions : c->cycles;
}

static double expected_total(const told *t) {
    double sum = t->emulated ? t->budget->streaming.instructions : t->budget->streaming.cycles;
    for (int i = 0; i <= t->trial->layers; i++) {
        sum += expected(t, i);
    }
    return sum;
}

static const char *unit(const told *t) {
    return t->emulated ? "instructions" : t->here ? "nanoseconds" : "cycles";
}

/* ---- machine-readable ---- */

static void json_layer(JsonBuilder *b, const told *t, int i) {
    json_builder_begin_object(b);
    cli_json_text(b, "name",
                  i < t->trial->layers ? nsk_layer_name(&t->model, (unsigned)i) : "preparation");
    cli_json_real(b, "ticks", t->trial->ticks[i]);
    cli_json_real(b, "clocks", clocks(t, t->trial->ticks[i]));
    if (t->budget != NULL) {
        cli_json_real(b, "estimated", expected(t, i));
    }
    if (t->self->measures_stack) {
        cli_json_real(b, "stack", t->trial->stack[i]);
    }
    json_builder_end_object(b);
}

static void json_difference(JsonBuilder *b, const told *t) {
    const nsk_trial *r = t->trial;
    json_builder_set_member_name(b, "difference");
    json_builder_begin_object(b);
    cli_json_int(b, "frame", r->first);
    const nsk_difference *d = &r->difference;
    cli_json_text(b, "class", nsk_label(&t->model, (unsigned)d->score));
    cli_json_int(b, "here", d->scores[0]);
    cli_json_int(b, "board", d->scores[1]);
    if (d->layer >= 0) {
        cli_json_text(b, "layer", nsk_layer_name(&t->model, (unsigned)d->layer));
    }
    if (d->has_place) {
        cli_json_int(b, "row", d->row);
        cli_json_int(b, "column", d->column);
        cli_json_int(b, "channel", d->channel);
    }
    json_builder_end_object(b);
}

static const char *const renewals[] = {
    [NOT_ASKED] = "", [WAS_THERE] = "was there", [KEPT] = "kept", [SENT_BACK] = "not kept"};

static void print_json(const cli_context *context, const told *t) {
    const nsk_trial *r = t->trial;
    JsonBuilder *b = cli_json_start(context);
    json_builder_set_member_name(b, "board");
    json_builder_begin_object(b);
    cli_json_text(b, "core", t->self->core);
    cli_json_real(b, "clock", t->self->clock);
    cli_json_real(b, "tick", t->self->tick);
    cli_json_int(b, "kinds", t->self->kinds);
    json_builder_end_object(b);
    if (t->renewal != NOT_ASKED) {
        cli_json_text(b, "renewal", renewals[t->renewal]);
    }
    cli_json_int(b, "frames", r->frames);
    cli_json_int(b, "differ", r->differ);
    cli_json_int(b, "remembered", nsk_on_board_remembered(context->on_board));
    cli_json_int(b, "requests", r->requests);
    cli_json_int(b, "repeated", r->repeated);
    cli_json_text(b, "unit", unit(t));
    cli_json_real(b, "clocks", clocks(t, r->total[1]));
    if (!t->emulated) {
        cli_json_real(b, "seconds", r->total[1] / t->self->tick);
    }
    if (t->budget != NULL) {
        cli_json_real(b, "estimated", expected_total(t));
    }
    if (t->self->measures_stack) {
        cli_json_real(b, "stack", r->deepest);
    }
    if (r->first >= 0) {
        json_difference(b, t);
    }
    json_builder_set_member_name(b, "layers");
    json_builder_begin_array(b);
    for (int i = 0; i <= r->layers; i++) {
        json_layer(b, t, i);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    cli_print_json(b);
}

/* ---- for people ---- */

static void print_layer(cli_table *table, const told *t, int i) {
    char text[2][CLI_TEXT];
    const double measured = clocks(t, t->trial->ticks[i]);
    const char *name =
        i < t->trial->layers ? nsk_layer_name(&t->model, (unsigned)i) : "preparation";
    char stack[CLI_TEXT] = "";
    char off[CLI_TEXT] = "";
    if (t->self->measures_stack) {
        g_snprintf(stack, sizeof stack, "%.0f", t->trial->stack[i]);
    }
    if (t->budget != NULL && measured > 0.0) {
        g_snprintf(off, sizeof off, "%+.1f %%", 100.0 * (expected(t, i) / measured - 1.0));
    }
    cli_table_row(table, "%s\t%s\t%s\t%s\t%s", name, cli_count(measured, text[0]),
                  t->budget != NULL ? cli_count(expected(t, i), text[1]) : "", off, stack);
}

static void print_layers(const told *t) {
    cli_table *table = cli_table_new("lrrrr");
    const bool compared = t->budget != NULL;
    cli_table_row(table, "layer\t%s\t%s\t%s\t%s", unit(t), compared ? "estimated" : "",
                  compared ? "off by" : "", t->self->measures_stack ? "stack" : "");
    for (int i = 0; i <= t->trial->layers; i++) {
        print_layer(table, t, i);
    }
    cli_table_print(table);
}

static void print_difference(const told *t) {
    char *text = nsk_difference_text(&t->trial->difference, &t->model);
    printf("\nthe first frame that differs is number %d of them:\n", t->trial->first);
    cli_paragraph("        ", text);
    nsk_string_free(text);
}

/* Of an emulator only instructions are told: how long they take is a board's matter. */
static const char *amount(const told *t, double ticks, char *text) {
    return t->emulated ? cli_count(clocks(t, ticks), text) : cli_time(ticks / t->self->tick, text);
}

static void print_time(const told *t) {
    const nsk_trial *r = t->trial;
    char text[3][CLI_TEXT];
    printf("time    %s%s a frame, %s to %s", amount(t, r->total[1], text[0]),
           t->emulated ? " instructions" : "", amount(t, r->total[0], text[1]),
           amount(t, r->total[2], text[2]));
    if (!t->emulated) {
        printf(": %s %s at %.6g MHz", cli_count(clocks(t, r->total[1]), text[0]), unit(t),
               t->self->clock / 1e6);
    }
    if (t->budget != NULL) {
        printf("; estimated %s, off by %+.1f %%", cli_count(expected_total(t), text[0]),
               100.0 * (expected_total(t) / clocks(t, r->total[1]) - 1.0));
    }
    putchar('\n');
}

/* The slots are counted from 1 for people. */
static void print_renewal(const told *t) {
    if (t->renewal == KEPT) {
        printf("slot    the model is in slot %u now, and starts from there\n",
               t->self->starts + 1U);
    } else if (t->renewal == SENT_BACK) {
        puts("slot    the model was written and tried, and is NOT kept: the board starts with what "
             "it had");
    } else if (t->renewal == WAS_THERE) {
        puts("slot    the board has this model already");
    }
}

static void print_text(const cli_context *context, const told *t) {
    const nsk_trial *r = t->trial;
    char text[2][CLI_TEXT];
    cli_print_facts(context);
    print_renewal(t);
    printf("frames  %d of the held-out images: %s\n", r->frames,
           r->frames == 0   ? "none came through"
           : r->differ == 0 ? "every score is the one that this machine computes"
                            : "NOT THE SAME SCORES");
    if (r->differ > 0) {
        printf("        %d of them differ\n", r->differ);
    }
    const long known = nsk_on_board_remembered(context->on_board);
    if (known > 0) {
        printf("        %ld of them were measured before, and not again\n", known);
    }
    if (r->frames > 0) {
        print_time(t);
    }
    if (t->self->measures_stack) {
        printf("stack   %.0f bytes at the deepest layer\n", r->deepest);
    }
    printf("memory  model %s, workspace %s\n", cli_bytes(t->self->model_bytes, text[0]),
           cli_bytes(t->self->workspace_bytes, text[1]));
    printf("link    %ld messages, %ld of them again, as no answer had come in time\n", r->requests,
           r->repeated);
    if (r->frames > 0) {
        putchar('\n');
        print_layers(t);
    }
    if (r->first >= 0) {
        print_difference(t);
    }
}

/* ---- all of it ---- */

/* What was estimated, where the brief's board has that core, and its costs. */
static bool estimate(cli_context *context, told *t) {
    if (context->brief->board == NULL) {
        return true;
    }
    if (!cli_load_board(context)) {
        return false;
    }
    if (strcmp(context->board->core, t->self->core) != 0 || !nsk_has_costs(context->board)) {
        return true;
    }
    t->budget = nsk_budget_make(context->model, context->board, &context->brief->product,
                                &context->brief->limits, &context->error);
    return t->budget != NULL;
}

static bool load(cli_context *context) {
    if (context->on == NULL) {
        return nsk_fail(&context->error, "say where the board is: --on /dev/ttyACM0@921600, --on "
                                         "tcp:HOST:PORT, --on emulate:cortex-m4 or --on sim");
    }
    return cli_load_brief(context) && cli_load_model(context) && cli_check_own_model(context) &&
           cli_load_held_out(context);
}

/* A model that is new on the board is kept where all frames agree, and only then. */
static bool renew(cli_context *context, bool asked, told *t) {
    if (!asked) {
        return true;
    }
    if (!context->renew) {
        t->renewal = WAS_THERE;
        return true;
    }
    const bool good = !t->trial->broken && t->trial->differ == 0;
    t->renewal = good ? KEPT : SENT_BACK;
    return t->trial->broken || (good ? nsk_on_board_keep(context->on_board, &context->error)
                                     : nsk_on_board_back(context->on_board, &context->error));
}

static int run(cli_context *context) {
    const trial_options *own = context->own;
    const bool asked = context->renew;
    told t = {.budget = NULL};
    nsk_trial *trial = load(context)
                           ? nsk_trial_run(context->on_board, context->model, context->held_out,
                                           own->frames > 0 ? own->frames : USUAL_FRAMES,
                                           cli_progress, NULL, &context->error)
                           : NULL;
    bool good = trial != NULL;
    if (good) {
        const nsk_error kept = context->error;
        t.emulated = g_str_has_prefix(context->on, "emulate:");
        t.here = strcmp(context->on, "sim") == 0;
        nsk_open(&t.model, context->model->bytes, context->model->size);
        t.self = nsk_on_board_self(context->on_board);
        t.trial = trial;
        good = renew(context, asked, &t) && estimate(context, &t);
        context->error = good ? kept : context->error;
    }
    if (good && context->json) {
        print_json(context, &t);
    } else if (good) {
        print_text(context, &t);
    }
    const int status = !good || trial->broken ? cli_fail(context)
                       : trial->differ > 0    ? CLI_LIMIT_BROKEN
                                              : CLI_DONE;
    nsk_budget_free(t.budget);
    nsk_trial_free(trial);
    return status;
}

static const cli_own own_options[] = {
    {"frames", offsetof(trial_options, frames), 0},
    {NULL, 0, 0},
};

const cli_command cli_trial = {
    .name = "trial",
    .summary = "a model on a board: its scores held against this machine's, time, stack",
    .arguments = "BRIEF",
    .example =
        "  netsuke trial demo/kiln.ini --on /dev/ttyACM0@921600\n"
        "runs held-out images on the board at the end of a serial line, and compares every "
        "score;\n"
        "--on emulate:cortex-m4 builds the hand-over and starts an emulator with it. With "
        "--renew a\n"
        "board that runs another model is given this one: written into its spare slot, tried "
        "on the\n"
        "frames, and kept where all of them agree.",
    .least = 1,
    .most = 1,
    .shared = "model board calibration held-out tolerant on remember renew",
    .own = own_options,
    .own_size = sizeof(trial_options),
    .usual = "frames: 50",
    .run = run,
};
