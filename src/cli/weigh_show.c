/* Variants side by side, for people and for programs. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "csv.h"
#include "table.h"
#include "weigh.h"

static const char *const trait_names[TRAITS] = {"model",  "input",    "board",
                                                "ranges", "streamed", "refined"};

/* Whether the variants differ in it. */
static bool differs(const entry *entries, int count, int trait) {
    for (int i = 1; i < count; i++) {
        if (strcmp(entries[i].traits[trait], entries[0].traits[trait]) != 0) {
            return true;
        }
    }
    return false;
}

/* Whether a column is worth having: a model's file that only repeats the variant's name is not. */
static bool tells(const entry *entries, int count, int trait) {
    bool repeats = trait == MODEL;
    for (int i = 0; i < count && repeats; i++) {
        size_t length = strlen(entries[i].name);
        const char *text = entries[i].traits[trait];
        repeats = strncmp(text, entries[i].name, length) == 0 && text[length] == '.';
    }
    return differs(entries, count, trait) && !repeats;
}

static double share(int part, int whole) {
    return whole > 0 ? (double)part / whole : 0.0;
}

/* ---- for people ---- */

static void print_common(const entry *entries, int count) {
    GString *text = g_string_new("");
    for (int t = 0; t < TRAITS; t++) {
        if (!differs(entries, count, t)) {
            g_string_append_printf(text, "%s%s %s", text->len > 0 ? "; " : "", trait_names[t],
                                   entries[0].traits[t]);
        }
    }
    if (text->len > 0) {
        cli_paragraph("all  ", text->str);
        putchar('\n');
    }
    g_string_free(text, TRUE);
}

static void append_limit(GString *line, const nsk_budget_limit *l, double unit, int digits) {
    g_string_append_printf(line, "\t%.*f%s", digits, l->value / unit,
                           !l->holds ? "!"
                           : l->open ? "?"
                                     : " ");
}

static void print_row(cli_table *table, const entry *entries, int count, const nsk_variant *v,
                      int index) {
    GString *line = g_string_new("");
    g_string_printf(line, "%s %s", v->beaten_by == NSK_NO_VARIANT ? "*" : " ", v->name);
    for (int t = 0; t < TRAITS; t++) {
        if (tells(entries, count, t)) {
            g_string_append_printf(line, "\t%s", entries[index].traits[t]);
        }
    }
    g_string_append_printf(line, "\t%.2f\t%.2f\t%.1f to %.1f",
                           100.0 * share(v->float_correct, v->images),
                           100.0 * share(v->integer_correct, v->images), 100.0 * v->accuracy_low,
                           100.0 * v->accuracy_high);
    append_limit(line, &v->limits[NSK_LIMIT_LOSS], 1.0, 2);
    append_limit(line, &v->limits[NSK_LIMIT_FLASH], 1024.0, 1);
    append_limit(line, &v->limits[NSK_LIMIT_RAM], 1024.0, 1);
    append_limit(line, &v->limits[NSK_LIMIT_LATENCY], 1e-3, 1);
    if (v->joules >= 0.0) {
        g_string_append_printf(line, "\t%.2f", 1e3 * v->joules);
    }
    cli_table_row(table, "%s", line->str);
    g_string_free(line, TRUE);
}

void weigh_print(const entry *entries, const nsk_variant *variants, int count) {
    GString *head = g_string_new("  variant");
    GString *units = g_string_new("");
    GString *columns = g_string_new("l");
    printf("%d variant%s, each on its own brief's held-out images\n\n", count,
           count == 1 ? "" : "s");
    print_common(entries, count);
    for (int t = 0; t < TRAITS; t++) {
        if (tells(entries, count, t)) {
            g_string_append_printf(head, "\t%s", t == STREAMED ? "stream" : trait_names[t]);
            g_string_append_c(units, '\t');
            g_string_append_c(columns, 'l');
        }
    }
    g_string_append(head, "\tfloat\tinteger\t95 %\tloss \tflash \tram \ttime \tenergy");
    g_string_append(units, "\t%\t%\t%\tpoints \tKiB \tKiB \tms \tmJ");
    g_string_append(columns, "rrrrrrrr");
    cli_table *table = cli_table_new(columns->str);
    cli_table_row(table, "%s", head->str);
    cli_table_row(table, "%s", units->str);
    for (int i = 0; i < count; i++) {
        print_row(table, entries, count, &variants[i], i);
    }
    cli_table_print(table);
    puts("");
    cli_paragraph("*     ",
                  "no other is as good or better in accuracy, flash, ram, time and energy "
                  "alike");
    cli_paragraph("!     ", "over the limit of its brief, or what its board has");
    cli_paragraph("?     ", "the interval of the loss crosses its limit: chance leaves it open");
    cli_paragraph("95 %  ", "interval of the integer model's accuracy (Wilson)");
    g_string_free(head, TRUE);
    g_string_free(units, TRUE);
    g_string_free(columns, TRUE);
}

/* ---- machine-readable ---- */

static void json_variant(JsonBuilder *b, const entry *e, const nsk_variant *v) {
    json_builder_begin_object(b);
    cli_json_text(b, "name", v->name);
    for (int t = 0; t < TRAITS; t++) {
        cli_json_text(b, trait_names[t], e->traits[t]);
    }
    cli_json_int(b, "images", v->images);
    cli_json_real(b, "float_accuracy", share(v->float_correct, v->images));
    cli_json_real(b, "integer_accuracy", share(v->integer_correct, v->images));
    cli_json_real(b, "accuracy_low", v->accuracy_low);
    cli_json_real(b, "accuracy_high", v->accuracy_high);
    cli_json_real(b, "loss_points", v->loss_points);
    cli_json_real(b, "loss_low", v->loss_low);
    cli_json_real(b, "loss_high", v->loss_high);
    cli_json_real(b, "flash", v->flash);
    cli_json_real(b, "ram", v->ram);
    cli_json_real(b, "seconds", v->seconds);
    if (v->joules >= 0.0) {
        cli_json_real(b, "joules", v->joules);
    }
    json_builder_set_member_name(b, "fits");
    json_builder_add_boolean_value(b, v->fits);
    json_builder_set_member_name(b, "open");
    json_builder_add_boolean_value(b, v->limits[NSK_LIMIT_LOSS].open);
    json_builder_set_member_name(b, "beaten");
    json_builder_add_boolean_value(b, v->beaten_by != NSK_NO_VARIANT);
    json_builder_end_object(b);
}

void weigh_print_json(const entry *entries, const nsk_variant *variants, int count) {
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    json_builder_set_member_name(b, "variants");
    json_builder_begin_array(b);
    for (int i = 0; i < count; i++) {
        json_variant(b, &entries[i], &variants[i]);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    cli_print_json(b);
}

bool weigh_write_points(cli_context *context, const entry *entries, const nsk_variant *variants,
                        int count) {
    const weigh_options *own = context->own;
    cli_csv *csv = cli_csv_new("variant,model,input,board,ranges,streamed,refined,images,"
                               "float_accuracy,integer_accuracy,accuracy_low,accuracy_high,"
                               "loss_points,flash,ram,seconds,joules,fits,beaten");
    for (int i = 0; i < count; i++) {
        const nsk_variant *v = &variants[i];
        cli_csv_text(csv, v->name);
        for (int t = 0; t < TRAITS; t++) {
            cli_csv_text(csv, entries[i].traits[t]);
        }
        const double numbers[] = {v->images,
                                  share(v->float_correct, v->images),
                                  share(v->integer_correct, v->images),
                                  v->accuracy_low,
                                  v->accuracy_high,
                                  v->loss_points,
                                  v->flash,
                                  v->ram,
                                  v->seconds,
                                  v->joules,
                                  v->fits,
                                  v->beaten_by != NSK_NO_VARIANT};
        for (size_t k = 0; k < G_N_ELEMENTS(numbers); k++) {
            cli_csv_number(csv, numbers[k]);
        }
        cli_csv_end(csv);
    }
    return cli_csv_write(csv, own->points, &context->error);
}
