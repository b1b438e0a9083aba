/* netsuke drift: error by layer. */
#include <math.h>
#include <stdio.h>

#include "drift.h"
#include "table.h"

typedef struct drift_options {
    char *plot;
} drift_options;

enum { BAR = 12, SAMPLE = 300 };

/* Channel by channel; null where there is no signal. */
static void json_channels(JsonBuilder *b, const nsk_drift_layer *l) {
    json_builder_set_member_name(b, "channels_db");
    json_builder_begin_array(b);
    for (int c = 0; c < l->channels; c++) {
        if (isnan(l->channel_db[c])) {
            json_builder_add_null_value(b);
        } else {
            json_builder_add_double_value(b, l->channel_db[c]);
        }
    }
    json_builder_end_array(b);
}

static void json_regained(JsonBuilder *b, const nsk_regained *r) {
    cli_json_int(b, "right", r->right);
    cli_json_int(b, "agree", r->agree);
    cli_json_real(b, "apart", (double)r->apart / NSK_REGAIN_APART);
}

static void json_regain(JsonBuilder *b, const nsk_regain *r) {
    json_builder_set_member_name(b, "regain");
    json_builder_begin_object(b);
    cli_json_int(b, "images", r->images);
    cli_json_int(b, "float_right", r->exact.right);
    json_regained(b, &r->rounded);
    json_builder_set_member_name(b, "layers");
    json_builder_begin_array(b);
    for (int i = 0; i < r->layers; i++) {
        json_builder_begin_object(b);
        cli_json_text(b, "name", r->layer[i].name);
        json_regained(b, &r->layer[i]);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
}

static void json_advice(JsonBuilder *b, const nsk_advices *a) {
    json_builder_set_member_name(b, "advice");
    json_builder_begin_array(b);
    for (int i = 0; i < a->count; i++) {
        json_builder_begin_object(b);
        cli_json_text(b, "change", a->advice[i].change);
        cli_json_text(b, "reason", a->advice[i].reason);
        cli_json_int(b, "agree_before", a->advice[i].agree[0]);
        cli_json_int(b, "agree", a->advice[i].agree[1]);
        cli_json_real(b, "apart_before", a->advice[i].apart[0]);
        cli_json_real(b, "apart", a->advice[i].apart[1]);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    cli_json_int(b, "advice_tried", a->tried);
}

static void print_json(const cli_context *context, const nsk_drift *d, const nsk_regain *r,
                       const nsk_advices *a) {
    JsonBuilder *b = cli_json_start(context);
    cli_json_int(b, "images", d->images);
    json_builder_set_member_name(b, "layers");
    json_builder_begin_array(b);
    for (int i = 0; i < d->layers; i++) {
        const nsk_drift_layer *l = &d->layer[i];
        json_builder_begin_object(b);
        cli_json_text(b, "name", l->name);
        if (l->measured) {
            cli_json_real(b, "sqnr_db", l->sqnr_db);
            if (!isnan(l->alone_db)) {
                cli_json_real(b, "alone_db", l->alone_db);
            }
            cli_json_real(b, "at_low", l->at_low);
            cli_json_real(b, "at_high", l->at_high);
            cli_json_int(b, "levels", l->levels);
            cli_json_int(b, "worst_channel", l->worst_channel);
            cli_json_real(b, "worst_channel_db", l->worst_channel_db);
            json_channels(b, l);
        }
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_regain(b, r);
    json_advice(b, a);
    json_builder_end_object(b);
    cli_print_json(b);
}

/* The bar of `most` decibels is full. */
static void print_layer(cli_table *table, const nsk_drift_layer *l, double most) {
    char bar[CLI_TEXT];
    char alone[CLI_TEXT] = "";
    if (!l->measured) {
        cli_table_row(table, "%s\t\t\t\t\t\tstands in another order", l->name);
        return;
    }
    if (!isnan(l->alone_db)) {
        g_snprintf(alone, sizeof alone, "%.1f dB", l->alone_db);
    }
    cli_table_row(table, "%s\t%.1f dB\t%s\t%d\t%.2f %%\t%.2f %%\t%.1f dB (%d)\t%s", l->name,
                  l->sqnr_db, alone, l->levels, 100.0 * l->at_low, 100.0 * l->at_high,
                  l->worst_channel_db, l->worst_channel,
                  cli_bar(fmax(l->sqnr_db, 0.0) / most, BAR, bar));
}

char **drift_advice_words(const nsk_advices *a) {
    GPtrArray *words = g_ptr_array_new();
    for (int i = 0; i < a->count; i++) {
        const nsk_advice *one = &a->advice[i];
        g_ptr_array_add(
            words,
            g_strdup_printf("%s (%s): tried, %d instead of %d of %d images are answered as by the "
                            "float network, and the probabilities are %.0f %% nearer to its; "
                            "'netsuke compare' says what it is worth",
                            one->change, one->reason, one->agree[1], one->agree[0], a->images,
                            100.0 * (1.0 - one->apart[1] / one->apart[0])));
    }
    if (a->agree == a->images) {
        g_ptr_array_add(words,
                        g_strdup("every answer is the float network's: there is nothing to win"));
    } else if (a->count == 0) {
        g_ptr_array_add(words, g_strdup_printf("none: %d changes of ranges, widths and stages were "
                                               "tried, and none measurably helps",
                                               a->tried));
    }
    g_ptr_array_add(words, NULL);
    return (char **)g_ptr_array_free(words, FALSE);
}

static void print_advice(const nsk_advices *a) {
    char **words = drift_advice_words(a);
    for (char **line = words; *line != NULL; line++) {
        cli_paragraph("advice  ", *line);
    }
    g_strfreev(words);
}

/* Layers by what would come back: images right, then how near the probabilities come. */
static void print_regain(const nsk_regain *r) {
    cli_table *table = cli_table_new("lrrrr");
    printf("\nWhat would come back if one layer alone were float, on %d of the images\n\n",
           r->images);
    cli_table_row(table, "layer\tright\tregained\tas float says\tcloser");
    cli_table_row(table, "none\t%d\t\t%d\t", r->rounded.right, r->rounded.agree);
    for (int i = 0; i < r->layers; i++) {
        const nsk_regained *l = &r->layer[i];
        cli_table_row(table, "%s\t%d\t%+d\t%d\t%.1f %%", l->name, l->right,
                      l->right - r->rounded.right, l->agree, nsk_regain_closer(r, l));
    }
    cli_table_row(table, "all\t%d\t%+d\t%d\t100.0 %%", r->exact.right,
                  r->exact.right - r->rounded.right, r->exact.agree);
    cli_table_print(table);
    puts("");
    cli_paragraph("closer  ", "by so much less the probabilities differ from the float network's; "
                              "an image or two more or less is chance");
    puts("");
}

static void print_text(const cli_context *context, const nsk_drift *d, const nsk_regain *r,
                       const nsk_advices *a) {
    cli_print_facts(context);
    printf("Signal over error of every layer's output, on %d held-out images\n\n", d->images);
    cli_table *table = cli_table_new("lrrrrrrl");
    cli_table_row(table, "layer\tso far\talone\tlevels\tlowest\thighest\tworst channel\t");
    double most = 1.0;
    for (int i = 0; i < d->layers; i++) {
        most = d->layer[i].measured ? fmax(most, d->layer[i].sqnr_db) : most;
    }
    for (int i = 0; i < d->layers; i++) {
        print_layer(table, &d->layer[i], most);
    }
    cli_table_print(table);
    puts("");
    cli_paragraph("so far  ", "what all layers up to this one have done");
    cli_paragraph("alone   ", "what this one does where its inputs are the float network's");
    cli_paragraph("levels  ", "so few of the 256 hold nine tenths of its outputs");
    cli_paragraph("lowest, highest  ", "shares of its outputs at the ends of its levels");
    print_regain(r);
    print_advice(a);
}

/* Of the model that the brief describes; measured on a part of the images, as each layer takes a
 * run of its own. */
static nsk_regain *find_regain(cli_context *context) {
    int kept = context->sample;
    context->sample = kept > 0 ? MIN(kept, SAMPLE) : SAMPLE;
    nsk_images *images = cli_open_held_out(context);
    context->sample = kept;
    nsk_regain *r = images != NULL ? nsk_regain_measure(context->network, context->calibration,
                                                        &context->brief->recipe, images,
                                                        cli_progress, NULL, &context->error)
                                   : NULL;
    nsk_images_free(images);
    return r;
}

static int run(cli_context *context) {
    const drift_options *own = context->own;
    if (!cli_load_brief(context)) {
        return cli_fail(context);
    }
    if (context->model_path == NULL && !cli_load_choices(context)) {
        return cli_fail(context);
    }
    context->brief->recipe.streaming = NSK_STREAMING_NEVER; /* to look at whole tensors */
    if (!cli_load_model(context) || !cli_load_equalised(context) || !cli_load_held_out(context)) {
        return cli_fail(context);
    }
    nsk_drift *d =
        nsk_drift_measure(context->equalised != NULL ? context->equalised : context->network,
                          context->model, context->held_out, cli_progress, NULL, &context->error);
    nsk_regain *r = NULL;
    const char *name = nsk_network_fact(context->network, NSK_FACT_NAME);
    nsk_advices *a = NULL;
    bool good = d != NULL && (r = find_regain(context)) != NULL &&
                (a = nsk_advise(context->network, context->calibration, &context->brief->recipe,
                                context->model, d, r, context->held_out, cli_progress, NULL,
                                &context->error)) != NULL &&
                (own->plot == NULL || nsk_drift_draw(d, r, name, own->plot, &context->error));
    if (good && context->json) {
        print_json(context, d, r, a);
    } else if (good) {
        print_text(context, d, r, a);
    }
    nsk_drift_free(d);
    nsk_regain_free(r);
    nsk_advices_free(a);
    return good ? CLI_DONE : cli_fail(context);
}

static const cli_own own_options[] = {
    {"plot", offsetof(drift_options, plot), 0},
    {NULL, 0, 0},
};

const cli_command cli_drift = {
    .name = "drift",
    .summary = "where accuracy goes: error by layer",
    .arguments = "BRIEF",
    .example = "  netsuke drift demo/kiln.ini --sample 200\n"
               "says how far each layer of the integer model is from the float network, and what "
               "would come\n"
               "back if one layer alone were float.",
    .least = 1,
    .most = 1,
    .shared = "calibration tolerant sample",
    .own = own_options,
    .own_size = sizeof(drift_options),
    .usual = "sample: all, and 300 of them for what would come back",
    .run = run,
};
