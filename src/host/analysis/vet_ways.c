#include "analysis/vet_ways.h"

#include <math.h>
#include <string.h>

/* Grey pictures have one mean and one deviation. */
static void average_channels(nsk_vet_scaling *s) {
    double *const triples[] = {s->mean, s->deviation};
    for (size_t i = 0; i < G_N_ELEMENTS(triples); i++) {
        double *t = triples[i];
        t[0] = t[1] = t[2] = (t[0] + t[1] + t[2]) / 3.0;
    }
    s->order = NSK_COLOUR_GREY;
}

/* The ways that training programs are known to use, and the brief's with parts left out. `measured`
 * is the images' own mean and deviation. */
static GArray *scalings_to_try(const nsk_input *brief, const nsk_vet_scaling *measured) {
    static const nsk_vet_scaling usual[] = {
        {NSK_COLOUR_GREY, 1.0, {0.0, 0.0, 0.0}, {1.0, 1.0, 1.0}},
        {NSK_COLOUR_GREY, 255.0, {0.0, 0.0, 0.0}, {1.0, 1.0, 1.0}},
        {NSK_COLOUR_GREY, 1.0, {0.5, 0.5, 0.5}, {0.5, 0.5, 0.5}},
        {NSK_COLOUR_RGB,
         1.0,
         {0.485, 0.456, 0.406},
         {0.229, 0.224, 0.225}}, /* of photographs at large */
        {NSK_COLOUR_RGB,
         255.0,
         {123.675, 116.28, 103.53},
         {1.0, 1.0, 1.0}}, /* the same, as bytes */
    };
    GArray *list = g_array_new(FALSE, FALSE, sizeof(nsk_vet_scaling));
    bool grey = brief->colour == NSK_COLOUR_GREY;
    nsk_vet_scaling own = {.order = NSK_COLOUR_GREY, .top = brief->top};
    memcpy(own.mean, brief->mean, sizeof own.mean);
    memcpy(own.deviation, brief->deviation, sizeof own.deviation);
    nsk_vet_scaling no_mean = own;
    nsk_vet_scaling no_deviation = own;
    nsk_vet_scaling other_deviation = own;
    other_deviation.order = measured->order;
    for (int c = 0; c < 3; c++) {
        no_mean.mean[c] = 0.0;
        no_deviation.deviation[c] = 1.0;
        other_deviation.deviation[c] = measured->deviation[c] * own.top;
    }
    const nsk_vet_scaling variants[] = {own, no_mean, no_deviation, other_deviation, *measured};
    g_array_append_vals(list, variants, G_N_ELEMENTS(variants));
    g_array_append_vals(list, usual, G_N_ELEMENTS(usual));
    for (guint i = 0; i < list->len && grey; i++) {
        average_channels(&g_array_index(list, nsk_vet_scaling, i));
    }
    return list;
}

static bool same_triple(const double *a, const double *b) {
    return fabs(a[0] - b[0]) + fabs(a[1] - b[1]) + fabs(a[2] - b[2]) < 1e-9;
}

bool nsk_vet_same_way(const nsk_alternative *a, const nsk_alternative *b) {
    return a->mirrored == b->mirrored && a->input.colour == b->input.colour &&
           a->input.fit == b->input.fit && fabs(a->input.top - b->input.top) < 1e-9 &&
           same_triple(a->input.mean, b->input.mean) &&
           same_triple(a->input.deviation, b->input.deviation);
}

static void append_triple(GString *to, const char *key, const double *numbers) {
    bool same = same_triple(numbers, (const double[3]){numbers[0], numbers[0], numbers[0]});
    g_string_append_printf(to, "; %s = %.3g", key, numbers[0]);
    for (int c = 1; c < 3 && !same; c++) {
        g_string_append_printf(to, ";%.3g", numbers[c]);
    }
}

char *nsk_vet_describe(const nsk_alternative *way, const nsk_input *brief) {
    static const char *const colours[] = {"rgb", "bgr", "grey"};
    static const char *const fits[] = {"stretch", "crop", "pad"};
    const nsk_input *input = &way->input;
    GString *text = g_string_new(NULL);
    if (input->colour != brief->colour) {
        g_string_append_printf(text, "; colour = %s", colours[input->colour]);
    }
    if (fabs(input->top - brief->top) > 1e-9) {
        g_string_append(text, input->top > 1.5 ? "; range = 0..255" : "; range = 0..1");
    }
    if (!same_triple(input->mean, brief->mean)) {
        append_triple(text, "mean", input->mean);
    }
    if (!same_triple(input->deviation, brief->deviation)) {
        append_triple(text, "deviation", input->deviation);
    }
    if (input->fit != brief->fit) {
        g_string_append_printf(text, "; fit = %s", fits[input->fit]);
    }
    if (way->mirrored) {
        g_string_append(text, "; rows and columns exchanged");
    }
    g_string_erase(text, 0, MIN(2, (gssize)text->len));
    return g_string_free(text, FALSE);
}

int nsk_vet_keys_changed(const nsk_alternative *way, const nsk_input *brief) {
    char *text = nsk_vet_describe(way, brief);
    int keys = text[0] != '\0';
    for (const char *at = strstr(text, "; "); at != NULL; at = strstr(at + 2, "; ")) {
        keys++;
    }
    g_free(text);
    return keys;
}

static void add_way(GArray *ways, const nsk_alternative *way) {
    for (guint i = 0; i < ways->len; i++) {
        if (nsk_vet_same_way(&g_array_index(ways, nsk_alternative, i), way)) {
            return;
        }
    }
    g_array_append_val(ways, *way);
}

static void add_scaled(GArray *ways, const nsk_alternative *from, const nsk_vet_scaling *s,
                       nsk_colour colour) {
    nsk_alternative way = *from;
    way.input.colour = colour;
    way.input.top = s->top;
    bool turned = s->order != NSK_COLOUR_GREY && s->order != colour;
    for (int c = 0; c < 3; c++) {
        way.input.mean[c] = s->mean[turned ? 2 - c : c];
        way.input.deviation[c] = s->deviation[turned ? 2 - c : c];
    }
    add_way(ways, &way);
}

void nsk_vet_add_placements(GArray *ways, const nsk_alternative *from) {
    for (int fit = NSK_FIT_STRETCH; fit <= NSK_FIT_PAD; fit++) {
        nsk_alternative way = *from;
        way.input.fit = (nsk_fit)fit;
        add_way(ways, &way);
    }
    if (from->input.width == from->input.height) {
        nsk_alternative way = *from;
        way.mirrored = !from->mirrored;
        add_way(ways, &way);
    }
}

GArray *nsk_vet_ways_of(bool raw_input, const nsk_input *brief, const nsk_vet_scaling *measured) {
    GArray *ways = g_array_new(FALSE, TRUE, sizeof(nsk_alternative));
    const nsk_alternative own = {.input = *brief};
    GArray *scalings = scalings_to_try(brief, measured);
    guint count = raw_input ? 1 : scalings->len;
    for (guint i = 0; i < count; i++) {
        const nsk_vet_scaling *s = &g_array_index(scalings, nsk_vet_scaling, i);
        add_scaled(ways, &own, s, brief->colour);
        if (brief->colour != NSK_COLOUR_GREY) {
            add_scaled(ways, &own, s,
                       brief->colour == NSK_COLOUR_RGB ? NSK_COLOUR_BGR : NSK_COLOUR_RGB);
        }
    }
    nsk_vet_add_placements(ways, &own);
    g_array_free(scalings, TRUE);
    return ways;
}
