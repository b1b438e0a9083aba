/* netsuke outline: the network, layer by layer. */
#include <stdio.h>

#include "command.h"
#include "table.h"

static void print_json(const nsk_outline *o) {
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
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

/* "Conv 3x3/2, depthwise": operator, kernel, stride, groups. */
static void write_kind(GString *text, const nsk_outline_layer *l) {
    g_string_assign(text, l->kind);
    if (l->kernel[0] == 0) {
        return;
    }
    g_string_append_printf(text, " %dx%d", l->kernel[0], l->kernel[1]);
    if (l->stride[0] != l->stride[1]) {
        g_string_append_printf(text, "/%dx%d", l->stride[0], l->stride[1]);
    } else if (l->stride[0] > 1) {
        g_string_append_printf(text, "/%d", l->stride[0]);
    }
    if (l->depthwise) {
        g_string_append(text, ", depthwise");
    } else if (l->groups > 1) {
        g_string_append_printf(text, ", %d groups", l->groups);
    }
}

static void print_text(const char *path, const nsk_outline *o) {
    char parameters[CLI_TEXT];
    char macs[CLI_TEXT];
    printf("%s takes pictures of %d x %d with %d channels\n\n", path, o->width, o->height,
           o->channels);
    GString *kind = g_string_new("");
    cli_table *table = cli_table_new("lllrrl");
    cli_table_row(table, "layer\tkind\toutput\tparameters\tmult-accs\tfolded in");
    for (int i = 0; i < o->count; i++) {
        const nsk_outline_layer *l = &o->layers[i];
        write_kind(kind, l);
        cli_table_row(table, "%s\t%s\t%d x %d x %d\t%s\t%s\t%s", l->name, kind->str, l->height,
                      l->width, l->channels,
                      l->parameters > 0 ? cli_count((double)l->parameters, parameters) : "",
                      l->macs > 0 ? cli_count((double)l->macs, macs) : "", l->folded);
    }
    cli_table_row(table, "all\t\t\t%s\t%s\t", cli_count((double)o->parameters, parameters),
                  cli_count((double)o->macs, macs));
    cli_table_print(table);
    g_string_free(kind, TRUE);
    puts("\nKernels are height x width/stride; outputs height x width x channels. Every shape "
         "follows\n"
         "from the one before it.");
}

/* A brief, or a model file by itself: labels and preparation are not needed here. */
static bool load(cli_job *job) {
    const char *path = job->arguments[0];
    if (!g_str_has_suffix(path, ".onnx")) {
        return cli_load_network(job);
    }
    job->network = nsk_network_read(path, NULL, NULL, &job->error);
    return job->network != NULL;
}

static int run(cli_job *job) {
    if (!load(job)) {
        return cli_fail(job);
    }
    nsk_outline *o = nsk_network_outline(job->network);
    if (job->json) {
        print_json(o);
    } else {
        print_text(job->brief != NULL ? job->brief->model : job->arguments[0], o);
    }
    nsk_outline_free(o);
    return CLI_DONE;
}

const cli_command cli_outline = {
    "outline",
    "look at the model: layers, shapes, parameters, multiply-accumulates",
    "BRIEF|MODEL.onnx",
    "  netsuke outline demo/kiln.onnx\n"
    "lists the layers as they will run, and what was folded into each.",
    1,
    1,
    "",
    run,
};
