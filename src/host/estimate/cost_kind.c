#include "estimate/cost_kind.h"

#include <glib.h>
#include <stdio.h>
#include <string.h>

#include "device/layer.h"

/* By nsk_kind. */
static const struct {
    const char *name, *files;
} kinds[NSK_KINDS] = {
#define NSK_KIND_ROW(number, NAME, name, text, form, files) [NSK_KIND_##NAME] = {text, files},
#include "device/kinds.def"
};

const char *nsk_kind_name(nsk_kind kind) {
    return kinds[kind].name;
}

static bool is_among(const char *files, const char *file) {
    char **list = g_strsplit(files, " ", 0);
    bool found = g_strv_contains((const char *const *)list, file);
    g_strfreev(list);
    return found;
}

bool nsk_kinds_need(const bool *wanted, const char *file) {
    bool by_some = false;
    for (int kind = 1; kind < NSK_KINDS; kind++) {
        bool lists = is_among(kinds[kind].files, file);
        by_some = by_some || lists;
        if (lists && wanted[kind]) {
            return true;
        }
    }
    return !by_some;
}

/* Kernels of a core's own go one way for the usual windows, another for any, each for sixteen
 * channels and more, and for fewer; none takes windows of more than 49 taps. */
static const char *depthwise_kind(const nsk_layer *l) {
    bool usual = l->kernel_height == 3 && l->kernel_width == 3 && l->dilate_down == 1 &&
                 l->dilate_across == 1 && l->stride_down == l->stride_across &&
                 l->stride_across <= 2 && l->in.channels == l->out.channels;
    bool few = l->out.channels < 16;
    bool wide = nsk_kernel_area(l) > 49 || l->in.channels != l->out.channels;
    return wide    ? "depthwise-wide"
           : usual ? few ? "depthwise-few" : "depthwise"
           : few   ? "depthwise-any-few"
                   : "depthwise-any";
}

/* Weights in an order of a core's own; or rows of sixteen bytes and fewer, which vectors hold. */
static const char *conv_kind(const nsk_layer *l) {
    const bool direct = nsk_conv_is_direct(l);
    return nsk_weights_are_blocked(l)              ? direct ? "pointwise-blocked" : "conv-blocked"
           : nsk_weights_are_paired(l)             ? direct ? "pointwise-paired" : "conv-paired"
           : nsk_row_bytes(nsk_conv_taps(l)) <= 16 ? direct ? "pointwise-short" : "conv-short"
           : direct                                ? "pointwise"
                                                   : "conv";
}

static const char *dense_kind(const nsk_layer *l) {
    return nsk_row_bytes((int32_t)nsk_tensor_elements(&l->in)) <= 16 ? "dense-short" : "dense";
}

/* The same of packed weights, sixteen outputs at a time. */
static const char *packed_kind(const nsk_layer *l) {
    static const char *const names[][2] = {{"conv", "conv-packed"},
                                           {"pointwise", "pointwise-packed"},
                                           {"conv-short", "conv-short-packed"},
                                           {"pointwise-short", "pointwise-short-packed"},
                                           {"conv-paired", "conv-paired-packed"},
                                           {"pointwise-paired", "pointwise-paired-packed"},
                                           {"conv-blocked", "conv-blocked-packed"},
                                           {"pointwise-blocked", "pointwise-blocked-packed"}};
    nsk_layer conv = *l;
    conv.kind = NSK_KIND_CONV;
    const char *kind = conv_kind(&conv);
    for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
        if (strcmp(names[i][0], kind) == 0) {
            return names[i][1];
        }
    }
    return kind;
}

const char *nsk_cost_kind_of(const nsk_layer *l) {
    return l->kind == NSK_KIND_DEPTHWISE                              ? depthwise_kind(l)
           : l->kind == NSK_KIND_CONV                                 ? conv_kind(l)
           : l->kind == NSK_KIND_CONV_PACKED                          ? packed_kind(l)
           : l->kind == NSK_KIND_DENSE                                ? dense_kind(l)
           : l->kind == NSK_KIND_AVERAGE_POOL && l->out.channels < 16 ? "average-pool-few"
                                                                      : nsk_kind_name(l->kind);
}

const char *nsk_cost_kind(const nsk_model *model, unsigned layer) {
    nsk_layer l;
    nsk_layer_decode(model, layer, &l);
    return nsk_cost_kind_of(&l);
}

const char *nsk_depth_group(const nsk_model *model, unsigned layer) {
    nsk_layer l;
    nsk_layer_decode(model, layer, &l);
    return layer < model->streamed     ? "stack-streamed"
           : nsk_writes_over_input(&l) ? "stack-over"
                                       : "stack";
}

const char *nsk_depth_kind(const nsk_model *model, unsigned layer, char *text) {
    nsk_layer l;
    nsk_layer_decode(model, layer, &l);
    bool conv = l.kind == NSK_KIND_CONV || l.kind == NSK_KIND_CONV_PACKED;
    bool weighs = conv || l.kind == NSK_KIND_DENSE || l.kind == NSK_KIND_DENSE_PACKED ||
                  l.kind == NSK_KIND_DEPTHWISE;
    bool whole = strcmp(nsk_depth_group(model, layer), "stack") == 0;
    int pixels = l.out.width * (whole ? l.out.height : 1);
    bool far = l.kind == NSK_KIND_DEPTHWISE && l.stride_across > 1;
    bool odd = weighs && (l.out.channels % 4 != 0 || (conv && pixels % 4 != 0));
    snprintf(text, NSK_DEPTH_KIND, "%s%s%s", nsk_cost_kind(model, layer), far ? "-far" : "",
             odd ? "-odd" : "");
    return text;
}

/* Groups besides the kinds: those that go another way through a kernel, and what is around layers.
 */
static const struct {
    const char *name;
    nsk_kind kind;     /* whose sources it has, or */
    const char *files; /* its own */
} groups[] = {
    {"pointwise", NSK_KIND_CONV, NULL},
    {"conv-short", NSK_KIND_CONV, NULL},
    {"pointwise-short", NSK_KIND_CONV, NULL},
    {"dense-short", NSK_KIND_DENSE, NULL},
    {"average-pool-few", NSK_KIND_AVERAGE_POOL, NULL},
    {"conv-paired", NSK_KIND_CONV, NULL},
    {"pointwise-paired", NSK_KIND_CONV, NULL},
    {"conv-blocked", NSK_KIND_CONV, NULL},
    {"pointwise-blocked", NSK_KIND_CONV, NULL},
    {"pointwise-packed", NSK_KIND_CONV_PACKED, NULL},
    {"conv-short-packed", NSK_KIND_CONV_PACKED, NULL},
    {"pointwise-short-packed", NSK_KIND_CONV_PACKED, NULL},
    {"conv-paired-packed", NSK_KIND_CONV_PACKED, NULL},
    {"pointwise-paired-packed", NSK_KIND_CONV_PACKED, NULL},
    {"conv-blocked-packed", NSK_KIND_CONV_PACKED, NULL},
    {"pointwise-blocked-packed", NSK_KIND_CONV_PACKED, NULL},
    {"depthwise-few", NSK_KIND_DEPTHWISE, NULL},
    {"depthwise-any", NSK_KIND_DEPTHWISE, NULL},
    {"depthwise-any-few", NSK_KIND_DEPTHWISE, NULL},
    {"depthwise-wide", NSK_KIND_DEPTHWISE, NULL},
    {"prepare", NSK_KINDS, "feed"},
    {"stream", NSK_KINDS, "stream"},
    {"scale", NSK_KINDS, "scale"},
    {"scale-bilinear", NSK_KINDS, "scale taps"},
    {"scale-smooth-bilinear", NSK_KINDS, "scale taps"},
    {"scale-nearest", NSK_KINDS, "scale taps"},
    {"frame-check", NSK_KINDS, "frame_check hash"},
    {"check", NSK_KINDS, "hash"},
};

int nsk_cost_kind_count(void) {
    return NSK_KINDS - 1 + (int)G_N_ELEMENTS(groups);
}

const char *nsk_cost_kind_at(int index) {
    return index < NSK_KINDS - 1 ? kinds[index + 1].name : groups[index - (NSK_KINDS - 1)].name;
}

const char *nsk_cost_files_at(int index) {
    if (index < NSK_KINDS - 1) {
        return kinds[index + 1].files;
    }
    int group = index - (NSK_KINDS - 1);
    return groups[group].files != NULL ? groups[group].files : kinds[groups[group].kind].files;
}
