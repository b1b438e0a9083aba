/* netsuke probe: what every layer makes of one image. */
#include "netsuke/probe.h"

#include <math.h>
#include <stdio.h>

#include "command.h"
#include "table.h"

typedef struct probe_options {
    char *layer, *output;
} probe_options;

/* ---- machine-readable ---- */

static void json_layer(JsonBuilder *b, const nsk_probe *p) {
    json_builder_begin_object(b);
    cli_json_text(b, "name", p->name);
    cli_json_int(b, "height", p->height);
    cli_json_int(b, "width", p->width);
    cli_json_int(b, "channels", p->channels);
    cli_json_real(b, "scale", (double)p->scale);
    cli_json_int(b, "zero", p->zero);
    cli_json_real(b, "integer_low", p->low[1]);
    cli_json_real(b, "integer_high", p->high[1]);
    if (p->by_float != NULL) {
        cli_json_real(b, "float_low", p->low[0]);
        cli_json_real(b, "float_high", p->high[0]);
        if (isfinite(p->sqnr_db)) {
            cli_json_real(b, "sqnr_db", p->sqnr_db);
        }
    }
    json_builder_end_object(b);
}

static void print_json(const cli_context *context, const nsk_probing *all, const nsk_probe *only) {
    JsonBuilder *b = cli_json_start(context);
    cli_json_text(b, "image", context->arguments[1]);
    json_builder_set_member_name(b, "layers");
    json_builder_begin_array(b);
    for (int i = 0; i < all->layers; i++) {
        if (only == NULL || only == &all->layer[i]) {
            json_layer(b, &all->layer[i]);
        }
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    cli_print_json(b);
}

/* ---- for people ---- */

static void print_layer(cli_table *table, const nsk_probe *p) {
    char by_float[CLI_TEXT] = "-";
    char apart[32] = "-";
    if (p->by_float != NULL) {
        g_snprintf(by_float, sizeof by_float, "%.3g to %.3g", p->low[0], p->high[0]);
        g_snprintf(apart, sizeof apart, isfinite(p->sqnr_db) ? "%.1f dB" : "same", p->sqnr_db);
    }
    cli_table_row(table, "%s\t%d x %d x %d\t%.3g\t%d\t%s\t%.3g to %.3g\t%s", p->name, p->height,
                  p->width, p->channels, (double)p->scale, p->zero, by_float, p->low[1], p->high[1],
                  apart);
}

static void print_text(const cli_context *context, const nsk_probing *all, const nsk_probe *only) {
    const probe_options *own = context->own;
    cli_table *table = cli_table_new("llrrllr");
    cli_print_facts(context);
    printf("%s, layer by layer\n\n", context->arguments[1]);
    cli_table_row(table, "layer\toutput\tscale\tzero\tfloat\tinteger\tso far");
    for (int i = 0; i < all->layers; i++) {
        if (only == NULL || only == &all->layer[i]) {
            print_layer(table, &all->layer[i]);
        }
    }
    cli_table_print(table);
    puts("");
    cli_paragraph("so far  ",
                  "signal over error of this image: what all layers up to this one have done");
    if (own->output != NULL) {
        printf("\nwrote %s: %d x %d x %d x %d numbers%s\n", own->output,
               only->by_float != NULL ? 2 : 1, only->height, only->width, only->channels,
               only->by_float != NULL ? ", the float network's first" : ", the integer model's");
    }
}

/* The probing of the picture that is named; NULL and context->error else. */
static nsk_probing *probe(cli_context *context) {
    const nsk_input *input = &context->brief->input;
    size_t bytes = (size_t)input->width * (size_t)input->height * 3;
    uint8_t *frame = g_malloc(bytes);
    nsk_probing *all =
        nsk_picture_frame(context->arguments[1], input, frame, &context->error)
            ? nsk_probe_frame(context->equalised != NULL ? context->equalised : context->network,
                              context->model, &context->brief->labels, input, frame,
                              &context->error)
            : NULL;
    g_free(frame);
    return all;
}

static int run(cli_context *context) {
    const probe_options *own = context->own;
    if (own->output != NULL && own->layer == NULL) {
        nsk_fail(&context->error,
                 "say which layer to write: --layer NAME; without -o all are listed");
        return cli_fail(context);
    }
    if (!cli_load_brief(context)) {
        return cli_fail(context);
    }
    context->brief->recipe.streaming = NSK_STREAMING_NEVER; /* to look at whole tensors */
    if (!cli_load_model(context) || !cli_load_network(context) || !cli_load_equalised(context)) {
        return cli_fail(context);
    }
    nsk_probing *all = probe(context);
    const nsk_probe *only = NULL;
    bool good = all != NULL &&
                (own->layer == NULL ||
                 (only = nsk_probe_named(all, own->layer, &context->error)) != NULL) &&
                (own->output == NULL || nsk_probe_write(only, own->output, &context->error));
    if (good && context->json) {
        print_json(context, all, only);
    } else if (good) {
        print_text(context, all, only);
    }
    nsk_probing_free(all);
    return good ? CLI_DONE : cli_fail(context);
}

static const cli_own own_options[] = {
    {"layer", offsetof(probe_options, layer), 0},
    {"output", offsetof(probe_options, output), 0},
    {NULL, 0, 0},
};

const cli_command cli_probe = {
    .name = "probe",
    .summary = "what every layer makes of one image, in float and in integers",
    .arguments = "BRIEF IMAGE",
    .example =
        "  netsuke probe demo/kiln.ini demo/images/held-out/crack/crack-0003.png --layer conv3 -o "
        "conv3.npy\n"
        "writes the layer's tensor as the float network and the integer model have it; without "
        "--layer it\n"
        "lists what all of them span. FILE[17] is one of an array.",
    .least = 2,
    .most = 2,
    .shared = "model calibration tolerant",
    .own = own_options,
    .own_size = sizeof(probe_options),
    .run = run,
};
