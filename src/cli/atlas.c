/* netsuke atlas: the images on a plane, and those among another class. */
#include <stdio.h>

#include "command.h"
#include "csv.h"
#include "netsuke/atlas.h"
#include "table.h"

typedef struct atlas_options {
    gboolean all, neighbours;
    char *plot, *points;
} atlas_options;

enum { SAMPLE = 600, SHORT_LIST = 20 };

static const char *label_of(const cli_context *context, int class_index) {
    return class_index >= 0 ? context->brief->labels.names[class_index] : "";
}

static void json_side(const cli_context *context, JsonBuilder *b, const char *name,
                      const nsk_atlas_side *side) {
    json_builder_set_member_name(b, name);
    json_builder_begin_object(b);
    cli_json_real(b, "x", side->x);
    cli_json_real(b, "y", side->y);
    cli_json_text(b, "answer", label_of(context, side->answer));
    cli_json_int(b, "neighbours_of_its_own", side->of_its_own);
    cli_json_text(b, "other", label_of(context, side->other));
    cli_json_int(b, "neighbours_of_other", side->of_other);
    json_builder_end_object(b);
}

static void print_json(const cli_context *context, const nsk_atlas *a) {
    JsonBuilder *b = cli_json_start(context);
    cli_json_int(b, "numbers", a->numbers);
    cli_json_real(b, "kept", a->kept);
    json_builder_set_member_name(b, "spread");
    json_builder_begin_array(b);
    json_builder_add_double_value(b, a->spread[0]);
    json_builder_add_double_value(b, a->spread[1]);
    json_builder_end_array(b);
    json_builder_set_member_name(b, "images");
    json_builder_begin_array(b);
    for (int i = 0; i < a->images; i++) {
        const nsk_atlas_image *image = &a->image[i];
        json_builder_begin_object(b);
        cli_json_text(b, "image", nsk_images_path(context->held_out, i));
        cli_json_text(b, "label", label_of(context, image->label));
        json_builder_set_member_name(b, "astray");
        json_builder_add_boolean_value(b, nsk_atlas_is_astray(image));
        json_side(context, b, "float", &image->in_float);
        json_side(context, b, "integer", &image->in_integer);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    cli_print_json(b);
}

static void csv_side(const cli_context *context, cli_csv *csv, const nsk_atlas_side *side) {
    cli_csv_number(csv, side->x);
    cli_csv_number(csv, side->y);
    cli_csv_text(csv, label_of(context, side->answer));
    cli_csv_number(csv, side->of_its_own);
    cli_csv_text(csv, label_of(context, side->other));
    cli_csv_number(csv, side->of_other);
}

static bool write_points(cli_context *context, const nsk_atlas *a) {
    const atlas_options *own = context->own;
    cli_csv *csv =
        cli_csv_new("image,label,float_x,float_y,float_class,float_own,float_other,float_of_other,"
                    "integer_x,integer_y,integer_class,integer_own,integer_other,integer_of_other");
    for (int i = 0; i < a->images; i++) {
        cli_csv_text(csv, nsk_images_path(context->held_out, i));
        cli_csv_text(csv, label_of(context, a->image[i].label));
        csv_side(context, csv, &a->image[i].in_float);
        csv_side(context, csv, &a->image[i].in_integer);
        cli_csv_end(csv);
    }
    return cli_csv_write(csv, own->points, &context->error);
}

static void print_classes(const cli_context *context, const nsk_atlas *a) {
    cli_table *table = cli_table_new("lrrrr");
    cli_table_row(table, "class\timages\tfloat\tinteger\tamong another");
    for (int c = 0; c < context->brief->labels.count; c++) {
        nsk_atlas_class of = nsk_atlas_class_of(a, c);
        if (of.images > 0) {
            cli_table_row(table, "%s\t%d\t%.1f\t%.1f\t%d", label_of(context, c), of.images,
                          of.float_own, of.integer_own, of.astray);
        }
    }
    cli_table_print(table);
}

static void print_astray(const cli_context *context, const nsk_atlas *a) {
    const atlas_options *own = context->own;
    int left = own->all ? a->images : SHORT_LIST;
    int astray = 0;
    cli_table *table = cli_table_new("llrl");
    cli_table_row(table, "among another class\tlabel\tneighbours\tinteger says");
    for (int i = 0; i < a->images; i++) {
        const nsk_atlas_image *image = &a->image[i];
        if (!nsk_atlas_is_astray(image) || astray++ >= left) {
            continue;
        }
        char *name = g_path_get_basename(nsk_images_path(context->held_out, i));
        cli_table_row(table, "%s\t%s\t%d of %d %s\t%s", name, label_of(context, image->label),
                      image->in_integer.of_other, NSK_NEIGHBOURS,
                      label_of(context, image->in_integer.other),
                      label_of(context, image->in_integer.answer));
        g_free(name);
    }
    putchar('\n');
    cli_table_print(table);
    if (astray > left) {
        printf("... and %d more; --all lists them\n", astray - left);
    } else if (astray == 0) {
        puts("none");
    }
}

static void print_text(const cli_context *context, const nsk_atlas *a) {
    cli_print_facts(context);
    printf("What the layer before the last says of %d held-out images: %d numbers each; ",
           a->images, a->numbers);
    if (a->by_neighbours) {
        puts("drawn so\nthat near ones stay near");
    } else {
        printf("of how\nthey differ, the two directions drawn carry %.0f %% and %.0f %%\n",
               100.0 * a->spread[0], 100.0 * a->spread[1]);
    }
    printf("(of each image's ten nearest, %.0f %% are among the ten nearest there)\n\n",
           100.0 * a->kept);
    print_classes(context, a);
    print_astray(context, a);
    putchar('\n');
    cli_paragraph("float, integer     ",
                  "how many of an image's ten nearest are of its class, on the average");
    cli_paragraph("among another      ", "most of them are of one other class, in both models: it "
                                         "looks like that one, or is labelled wrongly");
}

static int run(cli_context *context) {
    const atlas_options *own = context->own;
    context->sample = context->sample > 0 ? context->sample : SAMPLE;
    if (!cli_load_brief(context)) {
        return cli_fail(context);
    }
    context->brief->recipe.streaming = NSK_STREAMING_NEVER; /* to look at whole tensors */
    if (!cli_load_model(context) || !cli_load_equalised(context) || !cli_load_held_out(context)) {
        return cli_fail(context);
    }
    nsk_model model;
    nsk_open(&model, context->model->bytes, context->model->size);
    nsk_atlas *a = nsk_atlas_make(
        context->equalised != NULL ? context->equalised : context->network, context->model,
        context->held_out, own->neighbours != FALSE, cli_progress, NULL, &context->error);
    if (a == NULL || (own->points != NULL && !write_points(context, a)) ||
        (own->plot != NULL &&
         !nsk_atlas_draw(a, &context->brief->labels, nsk_model_fact(&model, NSK_FACT_NAME),
                         own->plot, &context->error))) {
        nsk_atlas_free(a);
        return cli_fail(context);
    }
    if (context->json) {
        print_json(context, a);
    } else {
        print_text(context, a);
    }
    nsk_atlas_free(a);
    return CLI_DONE;
}

static const cli_own own_options[] = {
    {"all", offsetof(atlas_options, all), 0},
    {"plot", offsetof(atlas_options, plot), 0},
    {"points", offsetof(atlas_options, points), 0},
    {"neighbours", offsetof(atlas_options, neighbours), 0},
    {NULL, 0, 0},
};

const cli_command cli_atlas = {
    .name = "atlas",
    .summary = "images on a plane, as the network sees them; likely wrong labels",
    .arguments = "BRIEF",
    .example =
        "  netsuke atlas demo/kiln.ini --plot atlas.svg --points atlas.csv\n"
        "finds held-out images among another class: they look like it, or are labelled wrongly.\n"
        "--neighbours draws them so that near ones stay near.",
    .least = 1,
    .most = 1,
    .shared = "calibration held-out tolerant sample",
    .own = own_options,
    .own_size = sizeof(atlas_options),
    .usual = "sample: 600",
    .run = run,
};
