/* netsuke outline: the network, layer by layer. */
#include <stdio.h>

#include "command.h"
#include "table.h"

typedef struct outline_options {
    char *plot;
} outline_options;

static void print_json(const cli_context *context, const nsk_outline *o) {
    JsonBuilder *b = cli_json_start(context);
    json_builder_set_member_name(b, "layers");
    json_builder_begin_array(b);
    for (int i = 0; i < o->count; i++) {
        const nsk_outline_layer *l = &o->layers[i];
        const int output[3] = {l->height, l->width, l->channels};
        json_builder_begin_object(b);
        cli_json_text(b, "name", l->name);
        cli_json_text(b, "kind", l->kind);
        json_builder_set_member_name(b, "output");
        json_builder_begin_array(b);
        for (int k = 0; k < 3; k++) {
            json_builder_add_int_value(b, output[k]);
        }
        json_builder_end_array(b);
        cli_json_int(b, "parameters", (gint64)l->parameters);
        cli_json_int(b, "macs", (gint64)l->macs);
        cli_json_text(b, "folded", l->folded);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    cli_json_int(b, "parameters", (gint64)o->parameters);
    cli_json_int(b, "macs", (gint64)o->macs);
    json_builder_end_object(b);
    cli_print_json(b);
}

static void print_text(const char *path, const nsk_outline *o) {
    char parameters[CLI_TEXT];
    char macs[CLI_TEXT];
    printf("%s takes pictures of %d x %d with %d channels\n\n", path, o->width, o->height,
           o->channels);
    char kind[160];
    cli_table *table = cli_table_new("lllrrl");
    cli_table_row(table, "layer\tkind\toutput\tparameters\tmult-accs\tfolded in");
    for (int i = 0; i < o->count; i++) {
        const nsk_outline_layer *l = &o->layers[i];
        nsk_outline_kind(l, kind, sizeof kind);
        cli_table_row(table, "%s\t%s\t%d x %d x %d\t%s\t%s\t%s", l->name, kind, l->height, l->width,
                      l->channels,
                      l->parameters > 0 ? cli_count((double)l->parameters, parameters) : "",
                      l->macs > 0 ? cli_count((double)l->macs, macs) : "", l->folded);
    }
    cli_table_row(table, "all\t\t\t%s\t%s\t", cli_count((double)o->parameters, parameters),
                  cli_count((double)o->macs, macs));
    cli_table_print(table);
    puts("\nKernels are height x width/stride; outputs height x width x channels. Every shape "
         "follows\n"
         "from the one before it.");
}

/* A brief, or a model file by itself: labels and preparation are not needed here. */
static bool load(cli_context *context) {
    const char *path = context->arguments[0];
    if (!g_str_has_suffix(path, ".onnx")) {
        return cli_load_network(context);
    }
    context->network = nsk_network_read(path, NULL, NULL, &context->error);
    if (context->network != NULL) {
        cli_print_notes(context->network, path);
    }
    return context->network != NULL;
}

static int run(cli_context *context) {
    const outline_options *own = context->own;
    if (!load(context) ||
        (own->plot != NULL && !nsk_network_draw(context->network, own->plot, &context->error))) {
        return cli_fail(context);
    }
    nsk_outline *o = nsk_network_outline(context->network);
    if (context->json) {
        print_json(context, o);
    } else {
        cli_print_facts(context);
        print_text(context->brief != NULL ? context->brief->model : context->arguments[0], o);
    }
    nsk_outline_free(o);
    return CLI_DONE;
}

static const cli_own own_options[] = {
    {"plot", offsetof(outline_options, plot), 0},
    {NULL, 0, 0},
};

const cli_command cli_outline = {
    .name = "outline",
    .summary = "look at the model: layers, shapes, parameters, multiply-accumulates",
    .arguments = "BRIEF|MODEL.onnx",
    .example = "  netsuke outline demo/kiln.onnx\n"
               "lists the layers as they will run, and what was folded into each; --plot F.svg "
               "draws them.",
    .least = 1,
    .most = 1,
    .own = own_options,
    .own_size = sizeof(outline_options),
    .run = run,
};
