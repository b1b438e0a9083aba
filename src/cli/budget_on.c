/* A budget beside what a board took. */
#include "budget_on.h"

#include <stdio.h>
#include <string.h>

#include "table.h"

enum { FRAMES = 10 };

/* ---- measuring ---- */

/* Clocks of the core, of so many ticks of the board's timer. */
static double clocks(const cli_context *context, double ticks) {
    const nsk_board_self *self = nsk_on_board_self(context->on_board);
    return ticks * self->clock / self->tick;
}

static bool run_frames(cli_context *context, cli_measured *m) {
    if (!cli_load_held_out(context)) {
        return false;
    }
    m->trial = nsk_trial_run(context->on_board, context->model, context->held_out, FRAMES,
                             cli_progress, NULL, &context->error);
    return m->trial != NULL && !m->trial->broken;
}

static void keep_table(const nsk_budget *u, cli_measured *m) {
    m->table = g_new(nsk_layer_cost, (gsize)u->layers + 1);
    memcpy(m->table, u->layer, (size_t)u->layers * sizeof *m->table);
    m->table[u->layers] = u->preparation;
}

static bool learn(cli_context *context, const char *costs, cli_measured *m) {
    const nsk_clock_log log = {context->model, context->on, m->trial->ticks, clocks(context, 1.0)};
    m->clocking = nsk_clock(context->board, &log, 1, &context->error);
    return m->clocking != NULL &&
           (costs == NULL ||
            nsk_clock_write(m->clocking, context->board, context->on, costs, &context->error));
}

/* What the board took in place of what its table says. */
static void take_times(const cli_context *context, nsk_budget *u, const cli_measured *m) {
    double *cycles = g_new(double, (gsize)u->layers + 1);
    char *source = g_strdup_printf("of preparation and layers what the board over %s took, the "
                                   "median of %d frames; of the rest: %s",
                                   context->on, m->trial->frames, u->cycle_source);
    for (int i = 0; i <= u->layers; i++) {
        cycles[i] = clocks(context, m->trial->ticks[i]);
    }
    nsk_budget_set_cycles(u, context->board, &context->brief->product, cycles, source);
    g_free(source);
    g_free(cycles);
}

bool cli_budget_measure(cli_context *context, nsk_budget *budget, const char *costs,
                        cli_measured *measured) {
    cli_measured *m = measured;
    *m = (cli_measured){0};
    if (context->on == NULL) {
        return costs == NULL || nsk_fail(&context->error,
                                         "--output %s: a cost table is learned from a board: say "
                                         "where it is by --on LINK",
                                         costs);
    }
    const bool here = strcmp(context->on, "sim") == 0;
    const bool own = strcmp(nsk_on_board_self(context->on_board)->core, context->board->core) == 0;
    m->emulated = g_str_has_prefix(context->on, "emulate:");
    if ((here || !own) && costs != NULL) {
        return nsk_fail(&context->error,
                        "--output %s: %s teaches nothing of the board '%s', whose core is a %s",
                        costs, here ? "this machine's time" : "that board", context->board->name,
                        context->board->core);
    }
    keep_table(budget, m);
    if (!run_frames(context, m) ||
        (!here && own && m->trial->differ == 0 && !learn(context, costs, m))) {
        return false;
    }
    if (m->clocking != NULL && !m->emulated) {
        take_times(context, budget, m);
    }
    return true;
}

void cli_measured_clear(cli_measured *measured) {
    nsk_clocking_free(measured->clocking);
    nsk_trial_free(measured->trial);
    g_free(measured->table);
}

/* ---- telling ---- */

/* The clocking has preparation first, and of a streamed model none. */
static const nsk_clocked_layer *learned_of(const cli_measured *m, int layer) {
    if (m->clocking == NULL) {
        return NULL;
    }
    const int first = m->clocking->layers - m->trial->layers;
    const int at = layer == m->trial->layers ? first - 1 : layer + first;
    return at >= 0 ? &m->clocking->layer[at] : NULL;
}

static const char *name_of(const nsk_model *model, int layer) {
    return layer < model->layers ? nsk_layer_name(model, (unsigned)layer) : "preparation";
}

static void print_row(cli_table *table, const char *name, const double *numbers, double learned) {
    char text[4][CLI_TEXT];
    char off[CLI_TEXT] = "";
    if (numbers[2] > 0.0) {
        g_snprintf(off, sizeof off, "%+.1f %%", 100.0 * (numbers[1] / numbers[2] - 1.0));
    }
    cli_table_row(table, "%s\t%s\t%s\t%s\t%s\t%s", name, cli_count(numbers[0], text[0]),
                  cli_count(numbers[1], text[1]), cli_count(numbers[2], text[2]), off,
                  learned > 0.0 ? cli_count(learned, text[3]) : "");
}

void cli_print_measured(const cli_context *context, const cli_measured *measured,
                        const char *costs) {
    const cli_measured *m = measured;
    nsk_model model;
    double sum[3] = {0.0, 0.0, 0.0};
    double learned = 0.0;
    if (m->trial == NULL) {
        return;
    }
    nsk_open(&model, context->model->bytes, context->model->size);
    cli_table *table = cli_table_new("lrrrrr");
    printf("\nBeside what the board took, over %s: the median of %d frames, %s\n\n", context->on,
           m->trial->frames,
           m->emulated ? "in instructions, which the learned table takes for cycles" : "in cycles");
    cli_table_row(table, "layer\tcounted\testimated\tmeasured\toff by\t%s",
                  m->clocking != NULL ? "learned" : "");
    for (int i = 0; i <= m->trial->layers; i++) {
        const nsk_clocked_layer *l = learned_of(m, i);
        const double numbers[3] = {m->table[i].instructions,
                                   m->emulated ? m->table[i].instructions : m->table[i].cycles,
                                   clocks(context, m->trial->ticks[i])};
        print_row(table, name_of(&model, i), numbers, l != NULL ? l->learned : 0.0);
        for (int k = 0; k < 3; k++) {
            sum[k] += numbers[k];
        }
        learned += l != NULL ? l->learned : 0.0;
    }
    print_row(table, "all", sum, learned);
    cli_table_print(table);
    if (costs != NULL) {
        printf("wrote    %s; name it as [costs] file of the board\n", costs);
    }
}

void cli_json_measured(JsonBuilder *builder, const cli_context *context,
                       const cli_measured *measured) {
    const cli_measured *m = measured;
    nsk_model model;
    if (m->trial == NULL) {
        return;
    }
    nsk_open(&model, context->model->bytes, context->model->size);
    json_builder_set_member_name(builder, "measured");
    json_builder_begin_array(builder);
    for (int i = 0; i <= m->trial->layers; i++) {
        const nsk_clocked_layer *l = learned_of(m, i);
        json_builder_begin_object(builder);
        cli_json_text(builder, "name", name_of(&model, i));
        cli_json_real(builder, "counted", m->table[i].instructions);
        cli_json_real(builder, "estimated", m->table[i].cycles);
        cli_json_real(builder, "measured", clocks(context, m->trial->ticks[i]));
        if (l != NULL) {
            cli_json_real(builder, "learned", l->learned);
        }
        json_builder_end_object(builder);
    }
    json_builder_end_array(builder);
}
