/* netsuke budget: flash, RAM and time per frame against limits. */
#include <math.h>
#include <stdio.h>

#include "budget_on.h"
#include "table.h"

typedef struct budget_options {
    char *plot, *output;
    gboolean compile;
} budget_options;

enum { BAR = 24, SHARE_BAR = 16 };

static void json_limits(JsonBuilder *b, const nsk_budget *budget) {
    json_builder_set_member_name(b, "limits");
    json_builder_begin_array(b);
    for (size_t i = 0; i < G_N_ELEMENTS(budget->limits); i++) {
        const nsk_budget_limit *l = &budget->limits[i];
        json_builder_begin_object(b);
        cli_json_text(b, "name", l->name);
        cli_json_text(b, "unit", l->unit);
        cli_json_real(b, "limit", l->limit);
        cli_json_real(b, "value", l->value);
        json_builder_set_member_name(b, "holds");
        json_builder_add_boolean_value(b, l->holds);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
}

static void json_numbers(JsonBuilder *b, const char *group, const char *const *names,
                         const double *values, size_t count) {
    json_builder_set_member_name(b, group);
    json_builder_begin_object(b);
    for (size_t i = 0; i < count; i++) {
        cli_json_real(b, names[i], values[i]);
    }
    json_builder_end_object(b);
}

static void print_json(const cli_context *context, const nsk_budget *u,
                       const cli_measured *measured) {
    static const char *const flash[] = {"total", "model", "code", "loop"};
    static const char *const ram[] = {"total", "workspace", "lower_bound",
                                      "frame", "camera",    "stack"};
    static const char *const latency[] = {"cycles", "seconds", "seconds_low", "seconds_high",
                                          "watchdog_seconds"};
    JsonBuilder *b = cli_json_start(context);
    json_numbers(b, "flash", flash,
                 (double[]){u->flash, u->flash_model, u->flash_code, u->flash_loop}, 4);
    json_numbers(b, "ram", ram,
                 (double[]){u->ram, u->ram_workspace, u->ram_lower_bound, u->ram_frame,
                            u->ram_camera, u->ram_stack},
                 6);
    json_numbers(b, "latency", latency,
                 (double[]){u->cycles, u->seconds, u->seconds_low, u->seconds_high, u->watchdog},
                 5);
    if (u->seconds_slow > 0.0) {
        static const char *const pipeline[] = {"seconds_fast", "seconds_slow"};
        json_numbers(b, "pipeline", pipeline, (double[]){u->seconds_fast, u->seconds_slow}, 2);
    }
    json_builder_set_member_name(b, "timings_published");
    json_builder_add_boolean_value(b, u->timed);
    if (u->joules >= 0.0) {
        cli_json_real(b, "joules", u->joules);
    }
    if (u->watts >= 0.0) {
        cli_json_real(b, "watts", u->watts);
    }
    if (u->days >= 0.0) {
        cli_json_real(b, "days", u->days);
    }
    json_limits(b, u);
    cli_json_measured(b, context, measured);
    json_builder_end_object(b);
    cli_print_json(b);
}

static const char *amount(const nsk_budget_limit *l, double value, char *text) {
    return l->unit[0] == 'b' ? cli_bytes(value, text) : cli_time(value, text);
}

static void print_limits(const nsk_budget *u) {
    cli_table *table = cli_table_new("lrlrlrl");
    for (size_t i = 0; i < G_N_ELEMENTS(u->limits); i++) {
        const nsk_budget_limit *l = &u->limits[i];
        char text[3][CLI_TEXT];
        char bar[CLI_TEXT];
        double part = l->limit > 0.0 ? l->value / l->limit : 2.0;
        double margin = l->holds ? l->limit - l->value : l->value - l->limit;
        cli_table_row(table, "%s\t%s\tof\t%s\t[%s]\t%.0f %%\t%s, %s %s", l->name,
                      amount(l, l->value, text[0]), amount(l, l->limit, text[1]),
                      cli_bar(part, BAR, bar), 100.0 * part, l->holds ? "holds" : "BROKEN",
                      amount(l, margin, text[2]), l->holds ? "left" : "too much");
    }
    cli_table_print(table);
    if (!u->timed) {
        puts("         at one instruction a cycle, as this core's timings are not published");
    }
}

static void print_energy(const cli_context *context, const nsk_budget *u) {
    const nsk_product *p = &context->brief->product;
    if (u->joules >= 0.0) {
        printf("energy   %.2f mJ a frame while computing", 1e3 * u->joules);
        if (u->watts >= 0.0) {
            printf("; %.2f mW on the average", 1e3 * u->watts);
        }
        putchar('\n');
    }
    if (u->days >= 0.0) {
        printf("battery  %.4g Wh last %.1f days, awake %.0f %% of the time%s\n",
               p->battery / 3600.0, u->days, 100.0 * p->awake,
               p->awake < 1.0 && context->board->sleep_power < 0.0
                   ? ";\n         the board does not say what it takes asleep: idle, then"
                   : "");
    }
}

/* Measured: preparation and layers. */
static double of_board(const nsk_budget *u) {
    double sum = u->preparation.cycles;
    for (int i = 0; i < u->layers; i++) {
        sum += u->layer[i].cycles;
    }
    return sum;
}

static void print_parts(const cli_context *context, const nsk_budget *u) {
    char text[5][CLI_TEXT];
    printf("\nflash    model %s, code %s, of which the product's loop %s\n",
           cli_bytes(u->flash_model, text[0]), cli_bytes(u->flash_code, text[1]),
           cli_bytes(u->flash_loop, text[2]));
    if (u->ram_camera > 0.0) {
        printf("ram      %s for the camera's pictures and the loop,\n         ",
               cli_bytes(u->ram_camera, text[0]));
    } else {
        printf("ram      ");
    }
    printf("workspace %s, %s %s, stack %s;\n"
           "         no plan of the workspace can need less than %s\n",
           cli_bytes(u->ram_workspace, text[0]),
           u->streamed > 0 ? "a row of the camera's" : "camera frame",
           cli_bytes(u->ram_frame, text[1]), cli_bytes(u->ram_stack, text[2]),
           cli_bytes(u->ram_lower_bound, text[3]));
    if (u->streamed > 0) {
        char layers[CLI_TEXT] = "the first layer runs";
        if (u->streamed > 1) {
            g_snprintf(layers, sizeof layers, "the first %d layers run", u->streamed);
        }
        printf("         streamed: %s while the frame comes in, %d of its rows at a time;\n"
               "         who holds the frame whole needs %s more\n",
               layers, u->band, cli_bytes(u->ram_rest_of_frame, text[4]));
    }
    if (u->measured) {
        printf("latency  %s cycles a frame, of which the board took %s: at most %.2f frames a "
               "second\n",
               cli_count(u->cycles, text[0]), cli_count(of_board(u), text[1]), 1.0 / u->seconds);
    } else if (u->timed) {
        printf("latency  %s cycles a frame: at most %.2f frames a second; by the misfits of the\n"
               "         cost table %s to %s\n",
               cli_count(u->cycles, text[0]), 1.0 / u->seconds, cli_time(u->seconds_low, text[1]),
               cli_time(u->seconds_high, text[2]));
    } else {
        printf(
            "latency  %s instructions a frame, %.1f %% more or less by the misfits of the\n"
            "         cost table; at one a cycle, at most %.2f frames a second: 'netsuke clock'\n"
            "         learns the board's own timings\n",
            cli_count(u->cycles, text[0]), 100.0 * (u->seconds_high / u->seconds - 1.0),
            1.0 / u->seconds);
        if (u->seconds_slow > 0.0) {
            printf("         a model of the core's pipeline, most of whose numbers are assumed, "
                   "has it\n"
                   "         between %s and %s, from memory that never waits\n",
                   cli_time(u->seconds_fast, text[0]), cli_time(u->seconds_slow, text[1]));
        }
    }
    if (!nsk_sensor_is_plain(&context->brief->product.sensor)) {
        puts("         what it takes to make pixels of the sensor's format is not in it");
    }
    printf("watchdog at most %s from one call of the port's to the next that can feed it\n",
           cli_time(u->watchdog, text[0]));
    print_energy(context, u);
}

/* What the product does around the model. */
static void print_around(cli_table *table, const char *name, const nsk_layer_cost *cost,
                         const nsk_budget *u, double clock) {
    char cycles[CLI_TEXT];
    char text[CLI_TEXT];
    if (cost->cycles > 0.0) {
        cli_table_row(table, "%s\t\t\t%s\t%s\t%.1f %%\t", name, cli_count(cost->cycles, cycles),
                      cli_time(cost->cycles / clock, text), 100.0 * cost->cycles / u->cycles);
    }
}

static void print_layers(const nsk_budget *u, const nsk_model_file *file, double clock) {
    nsk_model model;
    char cycles[CLI_TEXT];
    char text[CLI_TEXT];
    char bar[CLI_TEXT];
    double most = 1.0; /* the longest bar's */
    nsk_open(&model, file->bytes, file->size);
    for (int i = 0; i < u->layers; i++) {
        most = fmax(most, u->layer[i].cycles);
    }
    cli_table *table = cli_table_new("llrrrrl");
    cli_table_row(table, "layer\toutput\tmult-accs\tcycles\ttime\tshare\t");
    cli_table_row(table, "preparation\t%u x %u x %u\t\t%s\t%s\t%.1f %%\t", model.height,
                  model.width, model.channels, cli_count(u->preparation.cycles, cycles),
                  cli_time(u->preparation.cycles / clock, text),
                  100.0 * u->preparation.cycles / u->cycles);
    print_around(table, "scaling", &u->scaling, u, clock);
    print_around(table, "looking at it", &u->frame_check, u, clock);
    print_around(table, "model's checksum", &u->check, u, clock);
    print_around(table, "a second time", &u->again, u, clock);
    if (u->streamed > 0) {
        cli_table_row(
            table, "rows kept\t\t\t%s\t%s\t%.1f %%\t", cli_count(u->streaming.cycles, cycles),
            cli_time(u->streaming.cycles / clock, text), 100.0 * u->streaming.cycles / u->cycles);
    }
    for (int i = 0; i < u->layers; i++) {
        nsk_tensor out = nsk_tensor_at(&model, nsk_layer_output(&model, (unsigned)i));
        char macs[CLI_TEXT];
        double part = u->layer[i].cycles / u->cycles;
        cli_table_row(
            table, "%s\t%u x %u x %u\t%s\t%s\t%s\t%.1f %%\t%s", nsk_layer_name(&model, (unsigned)i),
            out.height, out.width, out.channels, cli_count((double)u->macs[i], macs),
            cli_count(u->layer[i].cycles, cycles), cli_time(u->layer[i].cycles / clock, text),
            100.0 * part,
            g_strdelimit((char *)cli_bar(u->layer[i].cycles / most, SHARE_BAR, bar), ".", ' '));
    }
    putchar('\n');
    cli_table_print(table);
}

/* The cross compiler's own figure of the code in place of the table's. */
static bool compile(cli_context *context, nsk_budget *u) {
    double code;
    if (!nsk_budget_compile(context->model, context->board->core, &code, &context->error)) {
        return false;
    }
    nsk_budget_set_code(u, code, "what the linker placed of a hand-over, compiled just now");
    return true;
}

static int run(cli_context *context) {
    const budget_options *own = context->own;
    cli_measured measured = {0};
    if (!cli_load_board(context) || !cli_load_model(context) || !cli_check_own_model(context)) {
        return cli_fail(context);
    }
    nsk_budget *u = nsk_budget_make(context->model, context->board, &context->brief->product,
                                    &context->brief->limits, &context->error);
    if (u == NULL || (own->compile && !compile(context, u)) ||
        (own->plot != NULL && !nsk_plan_draw(context->model, own->plot, &context->error)) ||
        !cli_budget_measure(context, u, own->output, &measured)) {
        cli_measured_clear(&measured);
        nsk_budget_free(u);
        return cli_fail(context);
    }
    bool holds = true;
    for (size_t i = 0; i < G_N_ELEMENTS(u->limits); i++) {
        holds = holds && u->limits[i].holds;
    }
    if (context->json) {
        print_json(context, u, &measured);
    } else {
        cli_print_facts(context);
        printf("On board '%s': %s at %.0f MHz, %.6g KiB of flash, %.6g KiB of RAM, %g frames a "
               "second\n\n",
               context->board->name, context->board->core, context->board->clock / 1e6,
               context->board->flash / 1024.0, context->board->ram / 1024.0,
               context->board->frame_rate);
        print_limits(u);
        print_parts(context, u);
        print_layers(u, context->model, context->board->clock);
        cli_print_measured(context, &measured, own->output);
        puts("\nHow each figure was obtained");
        cli_paragraph("  code    ", u->code_source);
        cli_paragraph("  cycles  ", u->cycle_source);
        cli_paragraph("  stack   ", u->stack_source);
    }
    const long differ = measured.trial != NULL ? measured.trial->differ : 0;
    if (differ > 0) {
        fprintf(stderr,
                "netsuke: %ld of %d frames have other scores on the board than here, so that "
                "its times mean nothing; netsuke trial says where\n",
                differ, measured.trial->frames);
    }
    cli_measured_clear(&measured);
    nsk_budget_free(u);
    return holds && differ == 0 ? CLI_DONE : CLI_LIMIT_BROKEN;
}

static const cli_own own_options[] = {
    {"plot", offsetof(budget_options, plot), 0},
    {"compile", offsetof(budget_options, compile), 0},
    {"output", offsetof(budget_options, output), 0},
    {NULL, 0, 0},
};

const cli_command cli_budget = {
    .name = "budget",
    .summary = "flash, RAM and time per frame on a board, against limits",
    .arguments = "BRIEF",
    .example =
        "  netsuke budget demo/kiln.ini --board boards/needle.ini\n"
        "says whether the model fits that board, and where the time goes; --plot F.svg draws what "
        "stands\n"
        "in its RAM, and when. --on LINK sets what a board takes beside that, and -o F.ini keeps "
        "what its cost\n"
        "table learns from it.",
    .least = 1,
    .most = 1,
    .shared = "model board calibration held-out tolerant on",
    .own = own_options,
    .own_size = sizeof(budget_options),
    .run = run,
};
