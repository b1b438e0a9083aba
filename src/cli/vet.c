/* netsuke vet: is the float network fed as it was in training, and are its labels in order? */
#include <stdio.h>
#include <string.h>

#include "command.h"
#include "table.h"

typedef struct vet_options {
    gboolean all;
} vet_options;

enum { SHORT_LIST = 6, SAMPLE = 600 };

static double accuracy(const nsk_vetting *v, int correct) {
    return (double)correct / v->images;
}

/* ---- machine-readable ---- */

static void json_alternative(JsonBuilder *b, const nsk_vetting *v, const nsk_alternative *a) {
    json_builder_begin_object(b);
    cli_json_text(b, "change", a->change);
    cli_json_int(b, "correct", a->correct);
    cli_json_real(b, "accuracy", accuracy(v, a->correct));
    cli_json_int(b, "lost", a->lost);
    cli_json_int(b, "won", a->won);
    cli_json_real(b, "gain", a->gain);
    cli_json_real(b, "certainty", a->certainty);
    json_builder_end_object(b);
}

static void json_order(JsonBuilder *b, const cli_context *context, const nsk_vetting *v) {
    json_builder_set_member_name(b, "labels");
    json_builder_begin_object(b);
    json_builder_set_member_name(b, "renamed");
    json_builder_add_boolean_value(b, v->renamed);
    cli_json_real(b, "accuracy", accuracy(v, v->order_correct));
    json_builder_set_member_name(b, "order");
    json_builder_begin_array(b);
    for (int k = 0; k < v->classes; k++) {
        json_builder_add_string_value(b, context->brief->labels.names[v->order[k]]);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
}

static void print_json(const cli_context *context, const nsk_vetting *v,
                       const nsk_verdict *verdict) {
    JsonBuilder *b = cli_json_start(context);
    cli_json_int(b, "images", v->images);
    cli_json_int(b, "correct", v->correct);
    cli_json_real(b, "accuracy", accuracy(v, v->correct));
    json_builder_set_member_name(b, "better");
    if (v->better >= 0) {
        json_alternative(b, v, &v->alternatives[v->better]);
    } else {
        json_builder_add_null_value(b);
    }
    json_order(b, context, v);
    json_builder_set_member_name(b, "alternatives");
    json_builder_begin_array(b);
    for (int i = 0; i < v->count; i++) {
        json_alternative(b, v, &v->alternatives[i]);
    }
    json_builder_end_array(b);
    cli_json_verdict(b, verdict);
    json_builder_end_object(b);
    cli_print_json(b);
}

/* ---- for people ---- */

/* A row whose last cell goes on in a second one where it is long. */
static void add_way(cli_table *table, const nsk_vetting *v, const nsk_alternative *a) {
    enum { ROOM = 58 };
    char *head = g_strdup(a->change);
    char *tail = strlen(head) > ROOM ? g_strrstr_len(head, ROOM, "; ") : NULL;
    if (tail != NULL) {
        tail[1] = '\0';
    }
    cli_table_row(table, "%.1f %%\t%d\t%d\t%+.1f\t%s", 100.0 * accuracy(v, a->correct), a->lost,
                  a->won, a->certainty, head);
    if (tail != NULL) {
        cli_table_row(table, "\t\t\t\t  %s", tail + 2);
    }
    g_free(head);
}

static void print_ways(const cli_context *context, const nsk_vetting *v) {
    const vet_options *own = context->own;
    int shown = own->all ? v->count : MIN(v->count, SHORT_LIST);
    cli_table *table = cli_table_new("rrrrl");
    cli_table_row(table, "accuracy\tlost\twon\tcertainty\tpreparation%s",
                  v->renamed ? ", the labels renamed as below" : "");
    if (v->renamed) {
        cli_table_row(table, "%.1f %%\t\t\t\tas the brief has it, labels too",
                      100.0 * accuracy(v, v->correct));
    }
    cli_table_row(table, "%.1f %%\t\t\t\tas the brief has it",
                  100.0 * accuracy(v, v->order_correct));
    for (int i = 0; i < shown; i++) {
        add_way(table, v, &v->alternatives[i]);
    }
    cli_table_print(table);
    if (shown < v->count) {
        printf("... and %d more that do worse; --all lists them\n", v->count - shown);
    }
    putchar('\n');
    cli_paragraph("certainty    ", "how many standard errors likelier the true labels are than as "
                                   "the brief has it");
}

static void print_order(const cli_context *context, const nsk_vetting *v) {
    const vet_options *own = context->own;
    char **names = context->brief->labels.names;
    char *text =
        g_strdup_printf("renamed one to one, the outputs are right on %.1f\xc2\xa0%% instead of "
                        "%.1f\xc2\xa0%%; the order in training was probably:",
                        100.0 * accuracy(v, v->order_correct), 100.0 * accuracy(v, v->correct));
    cli_paragraph("LABELS       ", text);
    g_free(text);
    putchar('\n');
    cli_table *table = cli_table_new("lrll");
    cli_table_row(table, "           \toutput\tthe labels file says\tit should say");
    for (int k = 0; k < v->classes; k++) {
        bool moved = v->order[k] != k;
        if (moved || own->all || v->classes <= 20) {
            cli_table_row(table, "\t%d\t%s\t%s", k, names[k], moved ? names[v->order[k]] : "");
        }
    }
    cli_table_print(table);
}

static void print_verdict(const cli_context *context, const nsk_vetting *v) {
    if (v->better >= 0) {
        const nsk_alternative *a = &v->alternatives[v->better];
        char *text = g_strdup_printf("another is clearly better, %.1f\xc2\xa0%% instead of "
                                     "%.1f\xc2\xa0%%; training probably used it or "
                                     "one much like it. Under [input] in the brief, try: %s",
                                     100.0 * accuracy(v, a->correct),
                                     100.0 * accuracy(v, v->order_correct), a->change);
        cli_paragraph("PREPARATION  ", text);
        g_free(text);
    } else {
        cli_paragraph("preparation  ", "no other way that was tried is clearly better");
    }
    if (v->renamed) {
        print_order(context, v);
    } else {
        cli_paragraph("labels       ",
                      context->brief->labels.thresholds != NULL
                          ? "right is what is right in all of its labels; other orders of them are "
                            "not tried where a picture may have several"
                          : "no other order of the labels is clearly better");
    }
}

static int run(cli_context *context) {
    const vet_options *own = context->own;
    context->sample = context->sample > 0 ? context->sample : own->all ? 0 : SAMPLE;
    if (!cli_load_network(context) || !cli_load_held_out(context)) {
        return cli_fail(context);
    }
    nsk_vetting *v =
        nsk_vet(context->network, context->held_out, cli_progress, NULL, &context->error);
    if (v == NULL) {
        return cli_fail(context);
    }
    nsk_verdict *verdict = nsk_verdict_new();
    nsk_judge_vetting(verdict, v);
    if (context->json) {
        print_json(context, v, verdict);
    } else {
        printf("The float network on %d held-out images, in %d ways\n\n", v->images, v->count + 1);
        print_ways(context, v);
        putchar('\n');
        print_verdict(context, v);
    }
    int status = cli_conclude(context, verdict);
    nsk_verdict_free(verdict);
    nsk_vetting_free(v);
    return status;
}

static const cli_own own_options[] = {
    {"all", offsetof(vet_options, all), 0},
    {NULL, 0, 0},
};

const cli_command cli_vet = {
    .name = "vet",
    .summary = "is the network fed as in training, its labels in order? tries the usual mistakes",
    .arguments = "BRIEF",
    .example =
        "  netsuke vet demo/kiln.ini\n"
        "runs the float network on some held-out images under other colour orders, ranges, means,\n"
        "deviations and fits, and renames its outputs, to see whether something else fits better.",
    .least = 1,
    .most = 1,
    .shared = "held-out tolerant sample",
    .own = own_options,
    .own_size = sizeof(vet_options),
    .usual = "sample: 600",
    .run = run,
};
