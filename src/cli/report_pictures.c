/* The sections of a report's page that tell of pictures: as they are, changed, among each other. */
#include "report.h"

static void append_triple(GString *to, const double *numbers, int channels) {
    for (int c = 0; c < 3; c++) {
        g_string_append(to, "\t");
        if (c < channels) {
            g_string_append_printf(to, "%.3f", numbers[c]);
        }
    }
}

/* Sizes, brightness, and what stands there twice. */
static void tell_pictures(const report_content *s) {
    static const char *const places[NSK_TWIN_PLACES] = {"held-out in calibration",
                                                        "in two classes of a set", "in one class"};
    const nsk_input *input = &s->context->brief->input;
    int channels = input->colour == NSK_COLOUR_GREY ? 1 : 3;
    nsk_page_table(s->page, "Pictures, channel by channel beside the brief",
                   "<set\t>images\t>unreadable\t>width\t>height\t>mean\t>\t>\t>deviation\t>\t>");
    for (int k = 0; k < 2; k++) {
        const nsk_survey_set *set = &s->survey->sets[k];
        GString *row = g_string_new(NULL);
        g_string_printf(row, "%s\t%d\t%d\t%d to %d\t%d to %d", set->name, set->images,
                        set->unreadable, set->least_width, set->most_width, set->least_height,
                        set->most_height);
        append_triple(row, set->mean, channels);
        append_triple(row, set->deviation, channels);
        nsk_page_row(s->page, "%s", row->str);
        g_string_free(row, TRUE);
    }
    GString *brief = g_string_new("the brief\t\t");
    g_string_append_printf(brief, "\t%d\t%d", input->width, input->height);
    append_triple(brief, input->mean, channels);
    append_triple(brief, input->deviation, channels);
    nsk_page_row(s->page, "%s", brief->str);
    g_string_free(brief, TRUE);
    nsk_page_table_end(s->page);
    nsk_page_table(s->page, "Pictures that repeat another", "<where\t>every pixel\t>nearly");
    for (int i = 0; i < NSK_TWIN_PLACES; i++) {
        nsk_page_row(s->page, "%s\t%d\t%d", places[i], s->survey->exact[i], s->survey->near[i]);
    }
    nsk_page_table_end(s->page);
}

bool report_data(report_content *s) {
    nsk_page *page = s->page;
    const nsk_images *sets[2] = {s->context->calibration, s->context->held_out};
    nsk_page_section(page, "Data");
    nsk_page_table(page, "Images of each class", "<class\t>calibration\t>held-out\t=");
    int most = 1;
    for (int c = 0; c < s->context->brief->labels.count; c++) {
        most = MAX(most, s->survey->sets[1].in_class[c]);
    }
    for (int c = 0; c < s->context->brief->labels.count; c++) {
        nsk_page_row(page, "%s\t%d\t%d\t%.3f", report_label(s, c), s->survey->sets[0].in_class[c],
                     s->survey->sets[1].in_class[c], (double)s->survey->sets[1].in_class[c] / most);
    }
    nsk_page_table_end(page);
    tell_pictures(s);
    char *sheet = report_drawing(s, "sheet.png");
    return report_take(s, nsk_survey_sheet(sets, 6, sheet, &s->context->error), sheet,
                       "Some images of each class, as the network sees them");
}

/* ---- stress ---- */

/* Strengths, both accuracies, and what integers lose; the darker, the more is lost. */
static void tell_change(const report_content *s, const nsk_stress_change *c) {
    enum { AMOUNT, FLOAT, INTEGER, LOSS, ROWS };
    GString *row[ROWS];
    row[AMOUNT] = g_string_new(c->name);
    g_string_append_printf(row[AMOUNT], "\t%s", c->unit);
    row[FLOAT] = g_string_new("\tfloat");
    row[INTEGER] = g_string_new("\tinteger");
    row[LOSS] = g_string_new("\tloss");
    for (int k = 0; k < NSK_STRENGTHS; k++) {
        const nsk_stress_count *n = &c->count[k];
        double is[2] = {(double)n->float_correct / s->stress->images,
                        (double)n->integer_correct / s->stress->images};
        g_string_append_printf(row[AMOUNT], "\t %g", c->amount[k]);
        g_string_append_printf(row[FLOAT], "\t%.3f %.1f %%", 1.0 - is[0], 100.0 * is[0]);
        g_string_append_printf(row[INTEGER], "\t%.3f %.1f %%", 1.0 - is[1], 100.0 * is[1]);
        g_string_append_printf(row[LOSS], "\t %.1f%s", 100.0 * (is[0] - is[1]),
                               nsk_stress_breaks(s->stress, n) ? " !" : "");
    }
    for (int i = 0; i < ROWS; i++) {
        nsk_page_row(s->page, "%s", row[i]->str);
        g_string_free(row[i], TRUE);
    }
}

static void tell_failures(const report_content *s) {
    char *both = stress_both_fail(s->stress);
    char *alone = stress_integer_alone(s->stress);
    nsk_page_text(s->page, "Both models lose more than 10 points: %s.",
                  both[0] != '\0' ? both : "nowhere");
    nsk_page_text(s->page,
                  "The integer model is worse than the float one, and chance does not explain it "
                  "(marked !; McNemar's exact test at 5 %% over all of them together): %s.",
                  alone[0] != '\0' ? alone : "nowhere");
    g_free(both);
    g_free(alone);
}

bool report_stress(report_content *s) {
    const nsk_stress *all = s->stress;
    nsk_page_section(s->page, "Stress");
    nsk_page_text(
        s->page,
        "Accuracy on %d held-out images, changed as light, lens and belt may change them. "
        "As they are: float %.1f %%, integer %.1f %%.",
        all->images, 100.0 * all->unchanged.float_correct / all->images,
        100.0 * all->unchanged.integer_correct / all->images);
    tell_failures(s);
    nsk_page_table(s->page, "Five strengths of each change", "<change\t<\t~1\t~2\t~3\t~4\t~5");
    for (int i = 0; i < all->changes; i++) {
        tell_change(s, &all->change[i]);
    }
    nsk_page_table_end(s->page);
    char *plot = report_drawing(s, "stress.svg");
    return report_take(s, nsk_stress_draw(all, s->context->brief->name, plot, &s->context->error),
                       plot, "Accuracy over strength, change by change");
}

/* ---- atlas ---- */

static void tell_neighbours(const report_content *s) {
    nsk_page_table(s->page, "How many of an image's ten nearest are of its class, on the average",
                   "<class\t>images\t>float\t>integer\t>among another");
    for (int c = 0; c < s->context->brief->labels.count; c++) {
        nsk_atlas_class of = nsk_atlas_class_of(s->atlas, c);
        if (of.images > 0) {
            nsk_page_row(s->page, "%s\t%d\t%.1f\t%.1f\t%d", report_label(s, c), of.images,
                         of.float_own, of.integer_own, of.astray);
        }
    }
    nsk_page_table_end(s->page);
}

/* Images that look like another class, or are labelled wrongly. */
static void tell_astray(const report_content *s) {
    int astray = 0;
    nsk_page_table(s->page, "Images among another class, in both models",
                   "<image\t<label\t>neighbours\t<integer says");
    for (int i = 0; i < s->atlas->images; i++) {
        const nsk_atlas_image *image = &s->atlas->image[i];
        if (nsk_atlas_is_astray(image)) {
            char *name = g_path_get_basename(nsk_images_path(s->on_plane, i));
            nsk_page_row(s->page, "%s\t%s\t%d of %d %s\t%s", name, report_label(s, image->label),
                         image->in_integer.of_other, NSK_NEIGHBOURS,
                         report_label(s, image->in_integer.other),
                         report_label(s, image->in_integer.answer));
            g_free(name);
            astray++;
        }
    }
    if (astray == 0) {
        nsk_page_row(s->page, "none\t\t\t");
    }
    nsk_page_table_end(s->page);
}

bool report_atlas(report_content *s) {
    const nsk_atlas *a = s->atlas;
    nsk_page_section(s->page, "Atlas");
    if (a == NULL) {
        nsk_page_text(s->page, "The images cannot be laid out: %s.", s->no_atlas.text);
        return true;
    }
    nsk_page_text(s->page,
                  "What the layer before the last says of %d held-out images: %d numbers each. Of "
                  "how they differ, the two directions drawn carry %.0f %% and %.0f %%; of each "
                  "image's ten nearest, %.0f %% are among the ten nearest there.",
                  a->images, a->numbers, 100.0 * a->spread[0], 100.0 * a->spread[1],
                  100.0 * a->kept);
    tell_neighbours(s);
    tell_astray(s);
    char *plot = report_drawing(s, "atlas.svg");
    return report_take(s,
                       nsk_atlas_draw(a, &s->context->brief->labels, s->context->brief->name, plot,
                                      &s->context->error),
                       plot, "The images on a plane: near ones are alike to the network");
}
