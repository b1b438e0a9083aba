/* netsuke survey: what the image sets hold. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "command.h"
#include "table.h"

typedef struct survey_options {
    gboolean all;
    char *sheet;
} survey_options;

enum { SHORT_LIST = 8, SHEET_PICTURES = 5 };

static const char *const places[NSK_TWIN_PLACES] = {"both_sets", "two_classes", "one_class"};

static int channels_of(const cli_context *context) {
    return context->brief->input.colour == NSK_COLOUR_GREY ? 1 : 3;
}

static const nsk_images *set_of(const cli_context *context, int k) {
    return k == 0 ? context->calibration : context->held_out;
}

/* ---- machine-readable ---- */

static void json_numbers(JsonBuilder *b, const char *name, const double *numbers, int count) {
    json_builder_set_member_name(b, name);
    json_builder_begin_array(b);
    for (int i = 0; i < count; i++) {
        json_builder_add_double_value(b, numbers[i]);
    }
    json_builder_end_array(b);
}

static void json_size(JsonBuilder *b, const char *name, int width, int height) {
    const double size[2] = {width, height};
    json_numbers(b, name, size, 2);
}

/* Other light, or another camera: a mean a quarter of the spread away, or a spread a third larger.
 */
static bool light_differs(const cli_context *context, const nsk_survey *s) {
    bool differs = false;
    for (int c = 0; c < channels_of(context); c++) {
        double spread = fmax(s->sets[0].deviation[c], 1e-9);
        double ratio = s->sets[1].deviation[c] / spread;
        differs = differs || fabs(s->sets[1].mean[c] - s->sets[0].mean[c]) > 0.25 * spread ||
                  ratio > 1.33 || ratio < 0.75;
    }
    return differs;
}

static void json_set(JsonBuilder *b, const cli_context *context, const nsk_survey_set *set) {
    json_builder_begin_object(b);
    cli_json_text(b, "name", set->name);
    cli_json_int(b, "images", set->images);
    cli_json_int(b, "unreadable", set->unreadable);
    cli_json_int(b, "grey", set->grey);
    cli_json_int(b, "transparent", set->alpha);
    json_size(b, "least_size", set->least_width, set->least_height);
    json_size(b, "most_size", set->most_width, set->most_height);
    json_numbers(b, "mean", set->mean, channels_of(context));
    json_numbers(b, "deviation", set->deviation, channels_of(context));
    json_builder_set_member_name(b, "classes");
    json_builder_begin_array(b);
    for (int c = 0; c < context->brief->labels.count; c++) {
        json_builder_begin_object(b);
        cli_json_text(b, "name", context->brief->labels.names[c]);
        cli_json_int(b, "images", set->in_class[c]);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
}

static void json_light(JsonBuilder *b, const nsk_survey *s) {
    static const char *const names[NSK_LIGHTS] = {"brightness", "contrast", "warmth"};
    json_builder_set_member_name(b, "other_light");
    json_builder_begin_object(b);
    cli_json_int(b, "images", s->outside_any);
    for (int k = 0; k < NSK_LIGHTS; k++) {
        json_builder_set_member_name(b, names[k]);
        json_builder_begin_object(b);
        cli_json_real(b, "low", s->low[k]);
        cli_json_real(b, "high", s->high[k]);
        cli_json_int(b, "outside", s->outside[k]);
        json_builder_end_object(b);
    }
    json_builder_end_object(b);
}

static void json_counts(JsonBuilder *b, const char *name, const int *counts) {
    json_builder_set_member_name(b, name);
    json_builder_begin_object(b);
    for (int i = 0; i < NSK_TWIN_PLACES; i++) {
        cli_json_int(b, places[i], counts[i]);
    }
    json_builder_end_object(b);
}

static const char *twin_path(const cli_context *context, const nsk_twins *t, int which) {
    return nsk_images_path(set_of(context, t->set[which]), t->image[which]);
}

static void print_json(const cli_context *context, const nsk_survey *s, const nsk_verdict *v) {
    JsonBuilder *b = cli_json_start(context);
    json_builder_set_member_name(b, "light_differs");
    json_builder_add_boolean_value(b, light_differs(context, s));
    json_builder_set_member_name(b, "sets");
    json_builder_begin_array(b);
    for (int k = 0; k < 2; k++) {
        json_set(b, context, &s->sets[k]);
    }
    json_builder_end_array(b);
    json_light(b, s);
    cli_json_int(b, "overlap", s->overlap);
    json_counts(b, "exact_repeats", s->exact);
    json_counts(b, "near_repeats", s->near);
    json_builder_set_member_name(b, "repeats");
    json_builder_begin_array(b);
    for (int i = 0; i < s->twin_count; i++) {
        json_builder_begin_object(b);
        cli_json_text(b, "where", places[s->twins[i].place]);
        json_builder_set_member_name(b, "exact");
        json_builder_add_boolean_value(b, s->twins[i].exact);
        cli_json_text(b, "first", twin_path(context, &s->twins[i], 0));
        cli_json_text(b, "second", twin_path(context, &s->twins[i], 1));
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    cli_json_verdict(b, v);
    json_builder_end_object(b);
    cli_print_json(b);
}

/* ---- for people ---- */

static void print_classes(const cli_context *context, const nsk_survey *s) {
    int most = 1;
    for (int k = 0; k < 2; k++) {
        for (int c = 0; c < context->brief->labels.count; c++) {
            most = MAX(most, s->sets[k].in_class[c]);
        }
    }
    cli_table *table = cli_table_new("lrlrl");
    cli_table_row(table, "class\tcalibration\t\theld-out\t");
    for (int c = 0; c < context->brief->labels.count; c++) {
        char bars[2][CLI_TEXT];
        for (int k = 0; k < 2; k++) {
            int full = (20 * s->sets[k].in_class[c] + most / 2) / most;
            memset(bars[k], '#', (size_t)full);
            bars[k][full] = '\0';
        }
        cli_table_row(table, "%s\t%d\t%s\t%d\t%s", context->brief->labels.names[c],
                      s->sets[0].in_class[c], bars[0], s->sets[1].in_class[c], bars[1]);
    }
    cli_table_row(table, "all\t%d\t\t%d\t", s->sets[0].images, s->sets[1].images);
    cli_table_print(table);
    putchar('\n');
}

static void print_sizes(const cli_context *context, const nsk_survey_set *set) {
    const nsk_input *input = &context->brief->input;
    if (set->least_width == set->most_width && set->least_height == set->most_height) {
        bool same = set->least_width == input->width && set->least_height == input->height;
        printf("%-12s all images are %d x %d; the network takes %d x %d%s\n", set->name,
               set->least_width, set->least_height, input->width, input->height,
               same ? "" : ", so they are resized");
    } else {
        printf("%-12s mixed sizes, %d to %d wide and %d to %d high, resized to %d x %d\n",
               set->name, set->least_width, set->most_width, set->least_height, set->most_height,
               input->width, input->height);
    }
    if (set->grey > 0 && (input->colour != NSK_COLOUR_GREY || set->grey < set->images)) {
        printf("%-12s %d of %d images are stored without colours; the network takes %s\n", "",
               set->grey, set->images, input->colour == NSK_COLOUR_GREY ? "grey" : "colour");
    }
    if (set->alpha > 0) {
        printf("%-12s %d images have transparency, which is dropped\n", "", set->alpha);
    }
}

static void print_evenness(const cli_context *context, const nsk_survey_set *set) {
    int least = 0;
    int most = 0;
    for (int c = 1; c < context->brief->labels.count; c++) {
        least = set->in_class[c] < set->in_class[least] ? c : least;
        most = set->in_class[c] > set->in_class[most] ? c : most;
    }
    if (set->in_class[most] > 2 * set->in_class[least]) {
        char *text = g_strdup_printf(
            "%d of '%s', %d of '%s'; overall accuracy will speak mostly of the first",
            set->in_class[most], context->brief->labels.names[most], set->in_class[least],
            context->brief->labels.names[least]);
        cli_paragraph("UNEVEN       ", text);
        g_free(text);
    }
}

static void print_unreadable(const cli_context *context, const nsk_survey_set *set) {
    const survey_options *own = context->own;
    int shown = own->all ? set->unreadable : MIN(set->unreadable, SHORT_LIST);
    if (set->unreadable > 0) {
        printf("UNREADABLE   %d images of the %s set, not counted above:\n", set->unreadable,
               set->name);
    }
    for (int i = 0; i < shown && set->reasons[i] != NULL; i++) {
        printf("             %s\n", set->reasons[i]);
    }
}

static void triple_text(const double *numbers, int count, char *text) {
    text[0] = '\0';
    for (int i = 0; i < count; i++) {
        char number[CLI_TEXT];
        snprintf(number, sizeof number, numbers[i] < 10.0 ? "%s%.3f" : "%s%.1f", i > 0 ? "  " : "",
                 numbers[i]);
        g_strlcat(text, number, CLI_TEXT);
    }
}

static void print_light(const cli_context *context, const nsk_survey *s) {
    int channels = channels_of(context);
    double apart = 0.0;
    char text[300];
    if (!light_differs(context, s)) {
        return;
    }
    for (int c = 0; c < channels; c++) {
        apart += (s->sets[1].mean[c] - s->sets[0].mean[c]) / channels;
    }
    g_snprintf(
        text, sizeof text,
        "the held-out images are %.0f %% of the range %s than those that the ranges are made "
        "from, or spread otherwise: other light, or another camera? Calibrate on images of "
        "the camera that will be used",
        100.0 * fabs(apart) / context->brief->input.top, apart > 0.0 ? "brighter" : "darker");
    cli_paragraph("OTHER LIGHT  ", text);
}

/* How many held-out images have light that calibration hardly shows: of two sets alike a few of a
 * hundred. */
static void print_outside(const nsk_survey *s) {
    char text[400];
    g_snprintf(text, sizeof text,
               "of the held-out images %d of %d (%.1f %%) are outside of what 98 of 100 of "
               "calibration have: brightness %.0f to %.0f (%d are outside), contrast %.0f to %.0f "
               "(%d), warmth, red over blue, %.0f to %.0f (%d)",
               s->outside_any, s->sets[1].images,
               100.0 * s->outside_any / MAX(s->sets[1].images, 1), s->low[NSK_LIGHT_BRIGHTNESS],
               s->high[NSK_LIGHT_BRIGHTNESS], s->outside[NSK_LIGHT_BRIGHTNESS],
               s->low[NSK_LIGHT_CONTRAST], s->high[NSK_LIGHT_CONTRAST],
               s->outside[NSK_LIGHT_CONTRAST], s->low[NSK_LIGHT_WARMTH], s->high[NSK_LIGHT_WARMTH],
               s->outside[NSK_LIGHT_WARMTH]);
    putchar('\n');
    cli_paragraph("light        ", text);
}

/* The images' brightness beside what the brief takes away and divides by. */
static void print_brightness(const cli_context *context, const nsk_survey *s) {
    static const char *const orders[] = {"red, green, blue", "blue, green, red", "grey"};
    const nsk_input *input = &context->brief->input;
    int channels = channels_of(context);
    char mean[CLI_TEXT];
    char deviation[CLI_TEXT];
    cli_table *table = cli_table_new("lll");
    cli_table_row(table, "%s\tmean\tdeviation", orders[input->colour]);
    for (int k = 0; k < 2; k++) {
        triple_text(s->sets[k].mean, channels, mean);
        triple_text(s->sets[k].deviation, channels, deviation);
        cli_table_row(table, "%s\t%s\t%s", s->sets[k].name, mean, deviation);
    }
    triple_text(input->mean, channels, mean);
    triple_text(input->deviation, channels, deviation);
    cli_table_row(table, "the brief\t%s\t%s", mean, deviation);
    putchar('\n');
    cli_table_print(table);
    bool far = false;
    for (int c = 0; c < channels; c++) {
        double spread = fmax(s->sets[0].deviation[c], 1e-9);
        double ratio = input->deviation[c] / spread;
        far =
            far || fabs(input->mean[c] - s->sets[0].mean[c]) > spread || ratio > 2.0 || ratio < 0.5;
    }
    if (far) {
        cli_paragraph("FAR OFF      ",
                      "the brief's mean or deviation is not that of these images; if training "
                      "used it all the same it is right, and 'netsuke vet' tells");
    }
    print_outside(s);
    print_light(context, s);
}

static void print_twins(const cli_context *context, const nsk_survey *s) {
    const survey_options *own = context->own;
    static const char *const names[NSK_TWIN_PLACES] = {"held-out in calibration",
                                                       "in two classes of a set", "in one class"};
    putchar('\n');
    cli_table *table = cli_table_new("lrr");
    cli_table_row(table, "images that repeat another\tevery pixel\tnearly");
    for (int i = 0; i < NSK_TWIN_PLACES; i++) {
        cli_table_row(table, "%s\t%d\t%d", names[i], s->exact[i], s->near[i]);
    }
    cli_table_print(table);
    int left = own->all ? s->twin_count : SHORT_LIST;
    for (int place = 0; place < NSK_TWIN_PLACES; place++) {
        for (int i = 0; i < s->twin_count; i++) {
            const nsk_twins *t = &s->twins[i];
            if (t->place == (nsk_twin_place)place && left-- > 0) {
                printf("  %s %s %s\n", twin_path(context, t, 1), t->exact ? "=" : "~",
                       twin_path(context, t, 0));
            }
        }
    }
    if (!own->all && s->twin_count > SHORT_LIST) {
        printf("  ... and %d more; --all lists them\n", s->twin_count - SHORT_LIST);
    }
}

static void print_survey(const cli_context *context, const nsk_survey *s, int limit,
                         const nsk_verdict *v) {
    const survey_options *own = context->own;
    print_classes(context, s);
    if (limit > 0 && limit < s->sets[0].images) {
        printf("calibration  %d of %d images will be used, spread over the classes\n", limit,
               s->sets[0].images);
    }
    for (int k = 0; k < 2; k++) {
        print_sizes(context, &s->sets[k]);
        print_evenness(context, &s->sets[k]);
        print_unreadable(context, &s->sets[k]);
    }
    print_brightness(context, s);
    print_twins(context, s);
    cli_print_findings(v);
    if (own->sheet != NULL) {
        printf("\nsheet        %s\n", own->sheet);
    }
}

static bool draw_sheet(cli_context *context) {
    const survey_options *own = context->own;
    const nsk_images *const sets[2] = {context->calibration, context->held_out};
    return nsk_survey_sheet(sets, SHEET_PICTURES, own->sheet, &context->error);
}

static int run(cli_context *context) {
    const survey_options *own = context->own;
    if (!cli_load_network(context) || !cli_load_held_out(context)) {
        return cli_fail(context);
    }
    int limit = context->brief->calibration_limit;
    context->brief->calibration_limit = 0; /* look at all there are */
    if (!cli_load_calibration(context)) {
        return cli_fail(context);
    }
    nsk_survey *s = nsk_survey_make(context->calibration, context->held_out, cli_progress, NULL,
                                    &context->error);
    if (s == NULL || (own->sheet != NULL && !draw_sheet(context))) {
        nsk_survey_free(s);
        return cli_fail(context);
    }
    nsk_verdict *v = nsk_verdict_new();
    nsk_judge_survey(v, s, &context->brief->labels);
    if (context->json) {
        print_json(context, s, v);
    } else {
        print_survey(context, s, limit, v);
    }
    int status = cli_conclude(context, v);
    nsk_verdict_free(v);
    nsk_survey_free(s);
    return status;
}

static const cli_own own_options[] = {
    {"all", offsetof(survey_options, all), 0},
    {"sheet", offsetof(survey_options, sheet), 0},
    {NULL, 0, 0},
};

const cli_command cli_survey = {
    .name = "survey",
    .summary = "look at the images: classes, sizes, brightness, repeats; a contact sheet",
    .arguments = "BRIEF",
    .example = "  netsuke survey demo/kiln.ini --sheet demo/out/sheet.png\n"
               "counts the images of each class in the calibration and held-out sets, looks for "
               "images\n"
               "that stand there twice, and draws some of each class as the network sees them.",
    .least = 1,
    .most = 1,
    .shared = "calibration held-out tolerant strict",
    .own = own_options,
    .own_size = sizeof(survey_options),
    .run = run,
};
