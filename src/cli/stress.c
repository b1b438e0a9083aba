/* netsuke stress: both models on changed images. */
#include <stdio.h>
#include <string.h>

#include "stress.h"
#include "table.h"

typedef struct stress_options {
    gboolean all;
    gint seed;
    char *plot;
} stress_options;

enum { SAMPLE = 240 };

static void json_count(JsonBuilder *b, const nsk_stress_count *c) {
    cli_json_int(b, "float_correct", c->float_correct);
    cli_json_int(b, "integer_correct", c->integer_correct);
    cli_json_int(b, "lost", c->lost);
    cli_json_int(b, "won", c->won);
    cli_json_real(b, "chance", c->chance);
}

static void print_json(const cli_context *context, const nsk_stress *s) {
    const stress_options *own = context->own;
    JsonBuilder *b = cli_json_start(context);
    cli_json_int(b, "images", s->images);
    cli_json_int(b, "seed", own->seed);
    json_builder_set_member_name(b, "unchanged");
    json_builder_begin_object(b);
    json_count(b, &s->unchanged);
    json_builder_end_object(b);
    json_builder_set_member_name(b, "changes");
    json_builder_begin_array(b);
    for (int i = 0; i < s->changes; i++) {
        for (int k = 0; k < NSK_STRENGTHS; k++) {
            const nsk_stress_count *count = &s->change[i].count[k];
            json_builder_begin_object(b);
            cli_json_text(b, "change", s->change[i].name);
            cli_json_text(b, "unit", s->change[i].unit);
            cli_json_real(b, "amount", s->change[i].amount[k]);
            json_count(b, count);
            json_builder_set_member_name(b, "worse_than_chance");
            json_builder_add_boolean_value(b, nsk_stress_breaks(s, count));
            json_builder_set_member_name(b, "both_fail");
            json_builder_add_boolean_value(b, nsk_stress_both_fail(s, count));
            json_builder_end_object(b);
        }
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    cli_print_json(b);
}

/* One line of five figures. */
static void print_five(cli_table *table, const char *name, char figures[NSK_STRENGTHS][16]) {
    cli_table_row(table, "%s\t%s\t%s\t%s\t%s\t%s", name, figures[0], figures[1], figures[2],
                  figures[3], figures[4]);
}

static void print_change(cli_table *table, const nsk_stress *s, const nsk_stress_change *c) {
    char title[64];
    char figures[4][NSK_STRENGTHS][16];
    g_snprintf(title, sizeof title, "%s, %s", c->name, c->unit);
    for (int k = 0; k < NSK_STRENGTHS; k++) {
        const nsk_stress_count *n = &c->count[k];
        double points = 100.0 * (n->lost - n->won) / s->images;
        g_snprintf(figures[0][k], 16, "%g", c->amount[k]);
        g_snprintf(figures[1][k], 16, "%.1f %%", 100.0 * n->float_correct / s->images);
        g_snprintf(figures[2][k], 16, "%.1f %%", 100.0 * n->integer_correct / s->images);
        g_snprintf(figures[3][k], 16, "%.1f%s", points, nsk_stress_breaks(s, n) ? " !" : "  ");
    }
    print_five(table, title, figures[0]);
    print_five(table, "  float", figures[1]);
    print_five(table, "  integer", figures[2]);
    print_five(table, "  loss", figures[3]);
}

typedef bool fails(const nsk_stress *s, const nsk_stress_count *count);

/* The first strength at which a change does so, or NSK_STRENGTHS. */
static int fails_from(const nsk_stress *s, const nsk_stress_change *c, fails *does) {
    int k = 0;
    while (k < NSK_STRENGTHS && !does(s, &c->count[k])) {
        k++;
    }
    return k;
}

/* Those that fail at the weakest strength come first. */
char *stress_both_fail(const nsk_stress *s) {
    GString *text = g_string_new("");
    for (int k = 0; k < NSK_STRENGTHS; k++) {
        for (int i = 0; i < s->changes; i++) {
            const nsk_stress_change *c = &s->change[i];
            if (fails_from(s, c, nsk_stress_both_fail) == k) {
                g_string_append_printf(text, "%s%s from %g\xc2\xa0%s on (float %.1f\xc2\xa0%%)",
                                       text->len > 0 ? "; " : "", c->name, c->amount[k], c->unit,
                                       100.0 * c->count[k].float_correct / s->images);
            }
        }
    }
    return g_string_free(text, FALSE);
}

char *stress_integer_alone(const nsk_stress *s) {
    GString *text = g_string_new("");
    for (int i = 0; i < s->changes; i++) {
        const nsk_stress_change *c = &s->change[i];
        int k = fails_from(s, c, nsk_stress_breaks);
        if (k < NSK_STRENGTHS) {
            g_string_append_printf(text, "%s%s from %g\xc2\xa0%s on", text->len > 0 ? "; " : "",
                                   c->name, c->amount[k], c->unit);
        }
    }
    return g_string_free(text, FALSE);
}

static void print_verdict(const nsk_stress *s) {
    char *both = stress_both_fail(s);
    char *alone = stress_integer_alone(s);
    if (both[0] != '\0') {
        cli_paragraph("both fail      ", both);
        cli_paragraph("               ",
                      "that is, lose more than 10 points: a matter of training, not "
                      "of quantising");
    } else {
        cli_paragraph("both fail      ", "nowhere: neither loses more than 10 points");
    }
    if (alone[0] != '\0') {
        cli_paragraph("integer alone  ", alone);
        cli_paragraph("               ",
                      "there the integer model is worse than the float one, and "
                      "chance does not explain it (marked !): McNemar's exact test "
                      "at 5 % over all of the above together");
    } else {
        cli_paragraph("integer alone  ",
                      "nowhere: at no strength is the integer model worse than the "
                      "float one by more than chance explains (McNemar's exact test "
                      "at 5 % over all of the above together)");
    }
    g_free(both);
    g_free(alone);
}

static void print_text(const cli_context *context, const nsk_stress *s) {
    const stress_options *own = context->own;
    cli_print_facts(context);
    printf("Accuracy on %d held-out images, changed as light, lens and belt may change them\n"
           "as they are: float %.1f %%, integer %.1f %%; seed %d\n\n",
           s->images, 100.0 * s->unchanged.float_correct / s->images,
           100.0 * s->unchanged.integer_correct / s->images, own->seed);
    cli_table *table = cli_table_new("lrrrrr");
    for (int i = 0; i < s->changes; i++) {
        print_change(table, s, &s->change[i]);
    }
    cli_table_print(table);
    puts("");
    print_verdict(s);
}

int stress_resting_class(const cli_context *context) {
    const nsk_labels *labels = &context->brief->labels;
    for (int i = 0; context->brief->decision.resting != NULL && i < labels->count; i++) {
        if (strcmp(labels->names[i], context->brief->decision.resting) == 0) {
            return i;
        }
    }
    return NSK_NO_CLASS;
}

static int run(cli_context *context) {
    const stress_options *own = context->own;
    context->sample = context->sample > 0 ? context->sample : own->all ? 0 : SAMPLE;
    if (!cli_load_brief(context) || !cli_load_model(context) || !cli_load_network(context) ||
        !cli_load_held_out(context)) {
        return cli_fail(context);
    }
    nsk_stress *s = nsk_stress_measure(context->network, context->model, context->held_out,
                                       stress_resting_class(context), (uint64_t)own->seed,
                                       cli_progress, NULL, &context->error);
    if (s == NULL) {
        return cli_fail(context);
    }
    nsk_model model;
    nsk_open(&model, context->model->bytes, context->model->size);
    bool good = own->plot == NULL || nsk_stress_draw(s, nsk_model_fact(&model, NSK_FACT_NAME),
                                                     own->plot, &context->error);
    if (good && context->json) {
        print_json(context, s);
    } else if (good) {
        print_text(context, s);
    }
    nsk_stress_free(s);
    return good ? CLI_DONE : cli_fail(context);
}

static const cli_own own_options[] = {
    {"all", offsetof(stress_options, all), 0},
    {"seed", offsetof(stress_options, seed), 1},
    {"plot", offsetof(stress_options, plot), 0},
    {NULL, 0, 0},
};

const cli_command cli_stress = {
    .name = "stress",
    .summary = "both models on images darker, blurred, moved, hidden, ...",
    .arguments = "BRIEF",
    .example =
        "  netsuke stress demo/kiln.ini --plot stress.svg\n"
        "changes held-out images in light, colour, sharpness, place and more, at five strengths "
        "each,\n"
        "and says where both models fail, and whether the integer model breaks earlier.",
    .least = 1,
    .most = 1,
    .shared = "model calibration held-out tolerant sample on remember",
    .own = own_options,
    .own_size = sizeof(stress_options),
    .usual = "sample: 240; seed: 1",
    .run = run,
};
