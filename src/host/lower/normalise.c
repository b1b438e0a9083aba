/* Lowering Normalise: where the blocks are groups of channels, of each pixel or of the whole
 * picture, its input stays as it stands; else each block becomes a pixel. */
#include <math.h>
#include <string.h>

#include "graph/blocks.h"
#include "lower/translation.h"

/* A tensor as height x width x channels, where each element of the value stands in it, and how the
 * blocks lie there. */
typedef struct form {
    nsk_lowered_tensor layout;
    int32_t *places;
    bool whole;
    size_t groups;
} form;

static size_t size_of(const nsk_lowered_tensor *t) {
    return (size_t)t->height * (size_t)t->width * (size_t)t->channels;
}

/* The block, of those that the form has, that a place is in. */
static int32_t block_of(const form *f, int32_t place) {
    const int32_t channels = f->layout.channels;
    const int32_t each = channels / (int32_t)f->groups;
    const int32_t pixel = f->whole ? 0 : place / channels;
    return pixel * (int32_t)f->groups + place % channels / each;
}

/* All elements of a block, and none else, stand in one of the form's. */
static bool blocks_agree(const nsk_translation *l, const nsk_node *node, const form *f) {
    const nsk_blocks b = nsk_blocks_of(l->graph, node);
    const size_t count = b.outer * b.run * b.inner;
    bool *taken = g_new0(bool, count);
    int32_t *stands_in = g_new(int32_t, b.outer * b.inner);
    bool good = size_of(&f->layout) == count;
    memset(stands_in, 0xff, b.outer * b.inner * sizeof *stands_in);
    for (size_t i = 0; i < count && good; i++) {
        int32_t *in = &stands_in[nsk_block_at(&b, i)];
        int32_t block = block_of(f, f->places[i]);
        good = (*in < 0 || *in == block) && !taken[f->places[i]];
        taken[f->places[i]] = true;
        *in = block;
    }
    g_free(stands_in);
    g_free(taken);
    return good;
}

/* The gain, or offset, of each channel; NULL where elements of a channel have several. g_free. */
static float *by_channel(const nsk_translation *l, const nsk_node *node, const form *f, int input,
                         float otherwise) {
    const nsk_value *gains = nsk_translation_input(l, node, input);
    const size_t count = size_of(&f->layout);
    float *all = g_new(float, f->layout.channels);
    bool good = true;
    for (int c = 0; c < f->layout.channels; c++) {
        all[c] = gains != NULL ? NAN : otherwise; /* not known yet */
    }
    for (size_t i = 0; i < count && gains != NULL && good; i++) {
        float *of_channel = &all[f->places[i] % f->layout.channels];
        float gain = gains->data[nsk_gain_place(l->graph, node, gains, i)];
        good = isnan(*of_channel) || !(fabsf(*of_channel - gain) > 0.0F);
        *of_channel = gain;
    }
    if (!good) {
        g_free(all);
        return NULL;
    }
    return all;
}

static bool gains_agree(const nsk_translation *l, const nsk_node *node, const form *f) {
    bool good = true;
    for (int input = 1; input <= 2 && good; input++) {
        float *all = by_channel(l, node, f, input, 0.0F);
        good = all != NULL;
        g_free(all);
    }
    return good;
}

/* Finds out how the blocks lie in the layout; false where they do not. */
static bool fits(const nsk_translation *l, const nsk_node *node, form *f) {
    const nsk_blocks b = nsk_blocks_of(l->graph, node);
    const size_t pixels = (size_t)f->layout.height * (size_t)f->layout.width;
    const size_t blocks = b.outer * b.inner;
    for (int whole = 0; whole < 2; whole++) {
        size_t shares = whole ? 1 : pixels;
        f->whole = whole != 0;
        f->groups = blocks / shares;
        if (blocks % shares == 0 && f->groups > 0 && (size_t)f->layout.channels % f->groups == 0 &&
            blocks_agree(l, node, f) && gains_agree(l, node, f)) {
            return true;
        }
    }
    return false;
}

/* A layout that fits: a pixel a block; or, where gains are by channel, axis 1 as the channels. */
static void arrange(const nsk_translation *l, const nsk_node *node, form *f) {
    const nsk_value *in = nsk_translation_input(l, node, 0);
    const nsk_blocks b = nsk_blocks_of(l->graph, node);
    const size_t count = nsk_value_count(in);
    const bool by_axis = node->attributes.by_channel;
    const size_t channels = by_axis ? (size_t)in->dims[1] : b.run;
    const size_t behind = by_axis ? count / channels / (size_t)in->dims[0] : b.inner;
    f->layout = (nsk_lowered_tensor){
        .height = 1, .width = (int)(count / channels), .channels = (int)channels};
    for (size_t i = 0; i < count; i++) {
        size_t pixel = i / (channels * behind) * behind + i % behind;
        f->places[i] = (int32_t)(pixel * channels + i / behind % channels);
    }
}

/* Brings the value into the form; the tensor that holds it then, or NSK_NONE. */
static int brought(nsk_translation *l, const nsk_node *node, form *f) {
    int value = node->input[0];
    const size_t count = nsk_value_count(nsk_graph_value(l->graph, value));
    int32_t *sources = g_memdup2(f->places, count * sizeof *sources);
    int32_t *places = g_new(int32_t, count);
    arrange(l, node, f);
    bool good = f->layout.width <= UINT16_MAX && f->layout.channels <= UINT16_MAX;
    for (size_t i = 0; i < count; i++) {
        places[f->places[i]] = sources[i];
    }
    int tensor = NSK_NONE;
    if (good && fits(l, node, f)) {
        tensor = nsk_view_gather(l, node, value, l->views[value].tensor, places, &f->layout);
    } else {
        nsk_no_integer_form(l, node, "it has more than 65535 blocks, or channels");
    }
    g_free(places);
    g_free(sources);
    return tensor;
}

static void add_layer(nsk_translation *l, const nsk_node *node, const form *f, int from, int to) {
    const nsk_attributes *a = &node->attributes;
    nsk_lowered_layer *layer = nsk_translation_add_layer(
        l, node, f->whole ? NSK_KIND_NORMALISE_WHOLE : NSK_KIND_NORMALISE, from, to);
    layer->window.groups = (int64_t)f->groups;
    layer->block = (int)nsk_blocks_of(l->graph, node).run;
    layer->centred = a->centred;
    /* next to no variance: nothing is what either way gives */
    layer->variance = a->epsilon + a->alpha * a->alpha + a->beta * a->beta;
    layer->gains = by_channel(l, node, f, 1, 1.0F);
    layer->offsets = by_channel(l, node, f, 2, 0.0F);
    layer->low = node->low;
    layer->high = node->high;
}

bool nsk_lower_normalise(nsk_translation *l, const nsk_node *node) {
    enum { MOST_BLOCK = 1 << 22 };
    const nsk_view *view = &l->views[node->input[0]];
    bool plain = view->source == NULL;
    int from = view->tensor;
    form f = {.places = nsk_view_places(l, node->input[0])};
    bool good = nsk_blocks_of(l->graph, node).run <= MOST_BLOCK ||
                nsk_no_integer_form(l, node, "it is over more than 4194304 numbers at once");
    if (good) {
        f.layout = *nsk_lowered_tensor_at(l->result, from);
        if (!fits(l, node, &f)) {
            from = brought(l, node, &f);
            plain = false;
        }
    }
    int to = !good || from == NSK_NONE
                 ? NSK_NONE
                 : nsk_translation_add_tensor(l, node, node->output, f.layout.height,
                                              f.layout.width, f.layout.channels);
    if (to == NSK_NONE) {
        g_free(f.places);
        return false;
    }
    add_layer(l, node, &f, from, to);
    if (plain) {
        g_free(f.places);
        f.places = NULL;
    }
    nsk_view_set(l, node->output, to, f.places);
    return true;
}
