/* netsuke classify: what both models say of single images. */
#include <stdio.h>
#include <string.h>

#include "command.h"
#include "netsuke/classify.h"
#include "table.h"

typedef struct classify_options {
    char *sheet;
} classify_options;

enum { MOST_SHOWN = 5, MOST_RANKED = 6, MOST_ON_SHEET = 400 };

/* ---- machine-readable ---- */

static void json_ranking(JsonBuilder *b, const char *name, const float *probabilities,
                         const nsk_labels *labels) {
    json_builder_set_member_name(b, name);
    json_builder_begin_array(b);
    for (int i = 0; i < labels->count; i++) {
        int c = nsk_ranked(probabilities, labels->count, i);
        json_builder_begin_object(b);
        cli_json_text(b, "class", labels->names[c]);
        cli_json_real(b, "probability", (double)probabilities[c]);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
}

static void print_json(const cli_context *context, const nsk_opinions *all) {
    const nsk_labels *labels = &context->brief->labels;
    JsonBuilder *b = cli_json_start(context);
    json_builder_set_member_name(b, "images");
    json_builder_begin_array(b);
    for (int i = 0; i < all->count; i++) {
        const nsk_opinion *o = &all->opinion[i];
        json_builder_begin_object(b);
        cli_json_text(b, "path", o->path);
        json_builder_set_member_name(b, "label");
        if (o->truth != NULL) {
            json_builder_add_string_value(b, o->truth);
        } else {
            json_builder_add_null_value(b);
        }
        cli_json_text(b, "float_says", o->says[0]);
        cli_json_text(b, "integer_says", o->says[1]);
        json_ranking(b, "float", o->by_float, labels);
        json_ranking(b, "integer", o->by_integer, labels);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    cli_print_json(b);
}

/* ---- for people ---- */

/* All labels, likely ones first, and whether they are said to be there. */
static void print_each(const nsk_opinion *o, const nsk_labels *labels) {
    cli_table *table = cli_table_new("lrrr");
    cli_table_row(table, "  \tfloat\tinteger\tfrom");
    for (int i = 0; i < labels->count; i++) {
        int c = nsk_ranked(o->by_integer, labels->count, i);
        cli_table_row(table, "  %s\t%.1f %%\t%.1f %%\t%.1f %%", labels->names[c],
                      100.0 * (double)o->by_float[c], 100.0 * (double)o->by_integer[c],
                      100.0 * labels->thresholds[c]);
    }
    cli_table_row(table, "  says\t%s\t%s\t", o->says[0], o->says[1]);
    cli_table_print(table);
}

static void print_ranking(const nsk_opinion *o, const nsk_labels *labels) {
    bool named = strcmp(o->path, "-") != 0;
    printf("%s%s%s\n", named ? o->path : "standard input",
           o->truth != NULL ? ", whose folder says " : "", o->truth != NULL ? o->truth : "");
    if (labels->thresholds != NULL) {
        print_each(o, labels);
        return;
    }
    cli_table *table = cli_table_new("llrlr");
    cli_table_row(table, "  \tfloat\t\tinteger\t");
    for (int i = 0; i < MIN(labels->count, MOST_SHOWN); i++) {
        int f = nsk_ranked(o->by_float, labels->count, i);
        int q = nsk_ranked(o->by_integer, labels->count, i);
        cli_table_row(table, "  %d\t%s\t%.1f %%\t%s\t%.1f %%", i + 1, labels->names[f],
                      100.0 * (double)o->by_float[f], labels->names[q],
                      100.0 * (double)o->by_integer[q]);
    }
    cli_table_print(table);
}

/* One line an image, and how many were right where that is known. */
static void print_list(const nsk_opinions *all) {
    int known = 0;
    int right[2] = {0, 0};
    cli_table *table = cli_table_new("lllrlrl");
    cli_table_row(table, "image\tfolder\tfloat\t\tinteger\t\t");
    for (int i = 0; i < all->count; i++) {
        const nsk_opinion *o = &all->opinion[i];
        char *name = g_path_get_basename(o->path);
        bool differ = strcmp(o->says[0], o->says[1]) != 0;
        bool wrong = o->truth != NULL && strcmp(o->says[1], o->truth) != 0;
        cli_table_row(table, "%s\t%s\t%s\t%.1f %%\t%s\t%.1f %%\t%s", name,
                      o->truth != NULL ? o->truth : "", o->says[0], 100.0 * (double)o->likely[0],
                      o->says[1], 100.0 * (double)o->likely[1],
                      differ  ? "differ"
                      : wrong ? "wrong"
                              : "");
        known += o->truth != NULL;
        right[0] += g_strcmp0(o->says[0], o->truth) == 0;
        right[1] += g_strcmp0(o->says[1], o->truth) == 0;
        g_free(name);
    }
    cli_table_print(table);
    if (known > 0) {
        printf("\n%d of %d have a folder that tells; float is right on %d, integer on %d\n", known,
               all->count, right[0], right[1]);
    }
}

static void print(const cli_context *context, const nsk_opinions *all) {
    if (context->json) {
        print_json(context, all);
    } else if (all->count > MOST_RANKED) {
        print_list(all);
    } else {
        for (int i = 0; i < all->count; i++) {
            fputs(i > 0 ? "\n" : "", stdout);
            print_ranking(&all->opinion[i], &context->brief->labels);
        }
    }
}

static int run(cli_context *context) {
    const classify_options *own = context->own;
    if (!cli_load_network(context) || !cli_load_model(context)) {
        return cli_fail(context);
    }
    const nsk_brief *brief = context->brief;
    nsk_opinions *all = nsk_classify(context->network, context->model, &brief->labels,
                                     &brief->input, (const char *const *)(context->arguments + 1),
                                     cli_progress, NULL, &context->error);
    bool good =
        all != NULL && (own->sheet == NULL || nsk_opinions_sheet(all, &brief->input, MOST_ON_SHEET,
                                                                 own->sheet, &context->error));
    if (good) {
        print(context, all);
    }
    nsk_opinions_free(all);
    return good ? CLI_DONE : cli_fail(context);
}

static const cli_own own_options[] = {
    {"sheet", offsetof(classify_options, sheet), 0},
    {NULL, 0, 0},
};

const cli_command cli_classify = {
    .name = "classify",
    .summary = "what both models say of single images, folders, or standard input",
    .arguments = "BRIEF IMAGE...",
    .example = "  netsuke classify demo/kiln.ini demo/images/held-out/crack/crack-0003.png\n"
               "ranks the classes, float beside integer. A folder stands for every image in it, "
               "FILE[17] "
               "for one\n"
               "of an array, - for one on standard input; --sheet draws them with both answers.",
    .least = 2,
    .most = 10000,
    .shared = "model calibration tolerant on remember",
    .own = own_options,
    .own_size = sizeof(classify_options),
    .run = run,
};
