/* netsuke headroom: which limit binds first, and what would give it back. */
#include <stdio.h>

#include "command.h"
#include "netsuke/headroom.h"
#include "table.h"

static const char *const names[NSK_BUDGET_LIMITS] = {"flash", "ram", "latency"};

/* The same network with its first layers streamed, where it can be made. */
static nsk_model_file *stream(cli_context *context) {
    nsk_recipe recipe;
    nsk_error ignored;
    if (context->model_path != NULL || !cli_make_recipe(context, &recipe)) {
        return NULL;
    }
    recipe.streaming = NSK_STREAMING_ALWAYS;
    return nsk_quantise(context->network, context->calibration, &recipe, &ignored);
}

static void print_json(const nsk_headroom *h, const nsk_budget *b) {
    JsonBuilder *json = json_builder_new();
    json_builder_begin_object(json);
    cli_json_text(json, "tightest", names[h->tightest]);
    cli_json_real(json, "used", b->limits[h->tightest].value / b->limits[h->tightest].limit);
    cli_json_real(json, "clock", h->clock);
    json_builder_set_member_name(json, "ways");
    json_builder_begin_array(json);
    for (int i = 0; i < h->count; i++) {
        json_builder_begin_object(json);
        cli_json_text(json, "what", h->way[i].what);
        cli_json_real(json, "flash", h->way[i].flash);
        cli_json_real(json, "ram", h->way[i].ram);
        cli_json_real(json, "seconds", h->way[i].seconds);
        json_builder_set_member_name(json, "trains");
        json_builder_add_boolean_value(json, h->way[i].trains);
        json_builder_set_member_name(json, "fits");
        json_builder_add_boolean_value(json, h->way[i].fits);
        json_builder_end_object(json);
    }
    json_builder_end_array(json);
    json_builder_end_object(json);
    cli_print_json(json);
}

static void print_text(const cli_context *context, const nsk_headroom *h, const nsk_budget *b) {
    char text[3][CLI_TEXT];
    printf("On board '%s' the limit of %s binds first: %.0f %% of it are used.\n\n",
           context->board->name, names[h->tightest],
           100.0 * b->limits[h->tightest].value / b->limits[h->tightest].limit);
    cli_table *table = cli_table_new("lrrrll");
    cli_table_row(table, "\tflash\tram\ttime\t\t");
    cli_table_row(table, "as it is\t%s\t%s\t%s\t\t", cli_bytes(b->flash, text[0]),
                  cli_bytes(b->ram, text[1]), cli_time(b->seconds, text[2]));
    for (int i = 0; i < h->count; i++) {
        const nsk_way_out *w = &h->way[i];
        cli_table_row(table, "%s\t%s\t%s\t%s\t%s\t%s", w->what, cli_bytes(w->flash, text[0]),
                      cli_bytes(w->ram, text[1]), cli_time(w->seconds, text[2]),
                      w->fits ? "fits" : "too much", w->trains ? "train again" : "");
    }
    cli_table_print(table);
    printf(
        "\nWhat takes least %s comes first. At %.4g MHz the limit of latency would just be met.\n",
        names[h->tightest], h->clock / 1e6);
    if (h->silent != NULL) {
        printf("No smaller inputs or narrower networks: %s.\n", h->silent);
    } else {
        puts("Smaller and narrower networks are reckoned from their layers' shapes; what they get\n"
             "right is known when they are trained: 'netsuke weigh' lays them side by side.");
    }
}

static int run(cli_context *context) {
    if (!cli_load_board(context) || !cli_load_model(context) || !cli_check_own_model(context)) {
        return cli_fail(context);
    }
    const nsk_brief *brief = context->brief;
    nsk_model_file *streamed = stream(context);
    nsk_headroom *h = nsk_headroom_make(context->model, streamed, context->board, &brief->product,
                                        &brief->limits, &context->error);
    nsk_budget *b = h != NULL ? nsk_budget_make(context->model, context->board, &brief->product,
                                                &brief->limits, &context->error)
                              : NULL;
    bool holds = true;
    for (int i = 0; b != NULL && i < NSK_BUDGET_LIMITS; i++) {
        holds = holds && b->limits[i].holds;
    }
    if (b != NULL && context->json) {
        print_json(h, b);
    } else if (b != NULL) {
        print_text(context, h, b);
    }
    bool good = b != NULL;
    nsk_model_file_free(streamed);
    nsk_headroom_free(h);
    nsk_budget_free(b);
    return !good ? cli_fail(context) : holds ? CLI_DONE : CLI_LIMIT_BROKEN;
}

const cli_command cli_headroom = {
    .name = "headroom",
    .summary = "which limit binds first, and what would give it back",
    .arguments = "BRIEF",
    .example = "  netsuke headroom demo/kiln.ini --board boards/sponge.ini\n"
               "reckons smaller inputs, narrower networks, streaming and faster clocks.",
    .least = 1,
    .most = 1,
    .shared = "model board calibration tolerant",
    .run = run,
};
