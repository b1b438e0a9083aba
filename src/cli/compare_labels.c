#include "compare_labels.h"

#include <stdio.h>

#include "table.h"

static const char *const sides[2] = {"float", "integer"};

void cli_print_several(const nsk_comparison *c) {
    printf("Float against integer on %d held-out images, each of which may have any of %d labels\n"
           "\n",
           c->images, c->classes);
    cli_table *table = cli_table_new("lrrrrrrr");
    cli_table_row(table, "\tright\tall labels\teach label\tbalanced\tF1\taverage precision\t"
                         "calibration error");
    for (int k = 0; k < 2; k++) {
        int right = k == 0 ? c->float_correct : c->integer_correct;
        nsk_scoring *s = nsk_scoring_of(c, k == 1);
        cli_table_row(table, "%s\t%d\t%.2f %%\t%.2f %%\t%.2f %%\t%.3f\t%.3f\t%.2f %%", sides[k],
                      right, 100.0 * right / c->images, 100.0 * s->decisions,
                      100.0 * s->balanced_accuracy, s->f1, s->average_precision,
                      100.0 * s->calibration_error);
        nsk_scoring_free(s);
    }
    cli_table_print(table);
}

static void print_rates(const cli_context *context, const nsk_comparison *c,
                        nsk_scoring *const by[2]) {
    const nsk_labels *labels = &context->brief->labels;
    cli_table *table = cli_table_new("lrrrrrrrrrr");
    cli_table_row(table, "\t\t\trecall\t\tprecision\t\tF1\t\taverage precision\t");
    cli_table_row(table, "label\tfrom\timages\tfloat\tinteger\tfloat\tinteger\tfloat\tinteger\t"
                         "float\tinteger");
    for (int k = 0; k < c->classes; k++) {
        const nsk_class_score *f = &by[0]->classes[k];
        const nsk_class_score *i = &by[1]->classes[k];
        if (f->images == 0) {
            cli_table_row(table, "%s\t%.1f %%\t0\t-\t-\t-\t-\t-\t-\t-\t-", labels->names[k],
                          100.0 * labels->thresholds[k]);
            continue;
        }
        cli_table_row(table,
                      "%s\t%.1f %%\t%d\t%.2f %%\t%.2f %%\t%.2f %%\t%.2f %%\t%.3f\t%.3f\t%.3f\t%.3f",
                      labels->names[k], 100.0 * labels->thresholds[k], f->images, 100.0 * f->recall,
                      100.0 * i->recall, 100.0 * f->precision, 100.0 * i->precision, f->f1, i->f1,
                      f->average_precision, i->average_precision);
    }
    cli_table_print(table);
}

/* Two rows and two columns a label, in a line. */
static void print_counts(const cli_context *context, const nsk_comparison *c,
                         nsk_scoring *const by[2]) {
    cli_table *table = cli_table_new("lrrrrrr");
    cli_table_row(table, "\tfloat\t\t\tinteger\t\t");
    cli_table_row(table, "label\tfound\tmissed\tfor nothing\tfound\tmissed\tfor nothing");
    for (int k = 0; k < c->classes; k++) {
        const nsk_class_score *f = &by[0]->classes[k];
        const nsk_class_score *i = &by[1]->classes[k];
        cli_table_row(table, "%s\t%d\t%d\t%d\t%d\t%d\t%d", context->brief->labels.names[k],
                      f->right, f->images - f->right, f->answers - f->right, i->right,
                      i->images - i->right, i->answers - i->right);
    }
    cli_table_print(table);
}

void cli_print_labels(const cli_context *context, const nsk_comparison *c) {
    nsk_scoring *const by[2] = {nsk_scoring_of(c, false), nsk_scoring_of(c, true)};
    print_rates(context, c, by);
    putchar('\n');
    print_counts(context, c, by);
    nsk_scoring_free(by[0]);
    nsk_scoring_free(by[1]);
}
