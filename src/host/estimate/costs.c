#include "estimate/costs.h"

#include <math.h>
#include <string.h>

#include "brief/settings.h"
#include "device/layer.h"
#include "estimate/cost_kind.h"

struct nsk_costs {
    nsk_settings *settings;
    char *path;
};

static const nsk_setting_name known[] = {
    {"table", "core", NULL},
    {"table", "kernels", NULL},
    {"table", "compiler", NULL},
    {"table", "emulator", NULL},
    {"table", "instructions", NULL},
    {"table", "cycles", NULL},
    {"table", "pipeline", NULL},
    {"code", "*", NULL},
    {"stack", "*", NULL},
    {"stack-streamed", "*", NULL},
    {"stack-over", "*", NULL},
    {"stack-loop", "whole", NULL},
    {"stack-loop", "streamed", NULL},
    {"stack-loop", "alone", NULL},
};

const char *const nsk_cost_terms[NSK_COST_TERMS] = {
    "call", "row",   "byte",  "output", "mac",      "product", "pixel", "run",
    "edge", "copy",  "alone", "single", "fill",     "block",   "quad",  "four",
    "odd",  "twice", "pad",   "over",   "unpacked", "upper"};

/* Those above, and for each kind of kernel the terms and what is known of the fit. */
static GArray *known_names(void) {
    static const char *const of_fit[] = {"cycles-each",  "branches-each", "spread",
                                         "worst-misfit", "pipeline-fast", "pipeline-slow"};
    GArray *names = g_array_new(TRUE, TRUE, sizeof(nsk_setting_name));
    g_array_append_vals(names, known, G_N_ELEMENTS(known));
    for (int k = 0; k < nsk_cost_kind_count(); k++) {
        for (size_t i = 0; i < NSK_COST_TERMS + G_N_ELEMENTS(of_fit); i++) {
            const char *key = i < NSK_COST_TERMS ? nsk_cost_terms[i] : of_fit[i - NSK_COST_TERMS];
            const nsk_setting_name name = {nsk_cost_kind_at(k), key, NULL};
            g_array_append_val(names, name);
        }
    }
    return names;
}

void nsk_cost_terms_of(const nsk_work *w, double *terms) {
    const uint64_t numbers[NSK_COST_TERMS] = {
        w->calls, w->rows,   w->moved, w->outputs, w->macs,     w->products, w->pixels, w->runs,
        w->edges, w->copies, w->alone, w->single,  w->fill,     w->blocks,   w->quads,  w->fours,
        w->odd,   w->twice,  w->pads,  w->over,    w->unpacked, w->upper};
    for (int i = 0; i < NSK_COST_TERMS; i++) {
        terms[i] = (double)numbers[i];
    }
}

const char *nsk_costs_of_core(const char *core) {
    static const char *const alike[][2] = {
        {"cortex-m0plus", "cortex-m0"}, /* ARMv6-M; a taken branch takes a cycle less */
        {"cortex-m0+", "cortex-m0"},    {"cortex-m1", "cortex-m0"},
        {"cortex-m23", "cortex-m0"}, /* ARMv8-M baseline, of which the kernels use what v6-M has */
        {"cortex-m4f", "cortex-m4"},    {"cortex-m35p", "cortex-m33"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(alike); i++) {
        if (strcmp(core, alike[i][0]) == 0) {
            return alike[i][1];
        }
    }
    return core;
}

nsk_costs *nsk_costs_read(const char *path, nsk_error *error) {
    if (path == NULL) {
        nsk_fail(error, "no cost table came along for this board's core; name one as 'file' under "
                        "[costs]");
        return NULL;
    }
    GArray *names = known_names();
    nsk_settings *settings =
        nsk_settings_read(path, (const nsk_setting_name *)(void *)names->data, error);
    g_array_free(names, TRUE);
    if (settings == NULL) {
        return NULL;
    }
    nsk_costs *costs = g_new0(nsk_costs, 1);
    costs->settings = settings;
    costs->path = g_strdup(path);
    if (nsk_settings_need(settings, "table", "core", error) == NULL) {
        nsk_costs_free(costs);
        return NULL;
    }
    return costs;
}

void nsk_costs_free(nsk_costs *costs) {
    if (costs != NULL) {
        nsk_settings_free(costs->settings);
        g_free(costs->path);
        g_free(costs);
    }
}

const char *nsk_costs_core(const nsk_costs *costs) {
    return nsk_settings_text(costs->settings, "table", "core");
}

const char *nsk_costs_source(const nsk_costs *costs, const char *key) {
    const char *text = nsk_settings_text(costs->settings, "table", key);
    return text != NULL ? text : "";
}

static bool read_number(const nsk_costs *costs, const char *kind, const char *key, double *to,
                        nsk_error *error) {
    return nsk_settings_need(costs->settings, kind, key, error) != NULL &&
           nsk_settings_number(costs->settings, kind, key, NSK_UNIT_NUMBER, 0, 1e9, to, error);
}

static bool read_if_there(const nsk_costs *costs, const char *kind, const char *key, double *to,
                          nsk_error *error) {
    return nsk_settings_number(costs->settings, kind, key, NSK_UNIT_NUMBER, 0, 1e9, to, error);
}

bool nsk_costs_have(const nsk_costs *costs, const char *kind) {
    return nsk_settings_keys(costs->settings, kind) != NULL;
}

bool nsk_costs_kernel(const nsk_costs *costs, const char *kind, nsk_kernel_cost *cost,
                      nsk_error *error) {
    bool good = nsk_costs_have(costs, kind) ||
                nsk_fail(error, "%s: nothing on [%s]; `make costs` writes a whole table",
                         costs->path, kind);
    for (int t = 0; t < NSK_COST_TERMS && good; t++) {
        cost->term[t] = 0.0;
        good = read_if_there(costs, kind, nsk_cost_terms[t], &cost->term[t], error);
    }
    cost->fast_each = cost->slow_each = 0.0;
    good = good && read_if_there(costs, kind, "pipeline-fast", &cost->fast_each, error) &&
           read_if_there(costs, kind, "pipeline-slow", &cost->slow_each, error);
    return good && read_number(costs, kind, "cycles-each", &cost->cycles_each, error) &&
           read_number(costs, kind, "branches-each", &cost->branches_each, error) &&
           read_number(costs, kind, "spread", &cost->spread, error) &&
           read_number(costs, kind, "worst-misfit", &cost->worst_misfit, error);
}

void nsk_needs_add(nsk_needs *needs, const nsk_model *model) {
    for (unsigned i = 0; i < model->layers; i++) {
        needs->kinds[nsk_layer_kind(model, i)] = true;
    }
    needs->streams = needs->streams || model->streamed > 0;
}

void nsk_needs_all(nsk_needs *needs) {
    for (int kind = 1; kind < NSK_KINDS; kind++) {
        needs->kinds[kind] = true;
    }
    needs->streams = true;
}

bool nsk_device_file_is_needed(const char *file, const nsk_needs *needs) {
    if (strcmp(file, "stream") == 0) {
        return needs->streams;
    }
    return strcmp(file, "work") != 0 && /* for estimates, not for the device */
           nsk_kinds_need(needs->kinds, file);
}

/* The key of a kernel of one architecture's own: its folder, a dot, its file. */
static const char *file_of(const char *key) {
    const char *dot = strchr(key, '.');
    return dot != NULL ? dot + 1 : key;
}

/* Files of src/device/firmware. */
static bool is_firmware(const char *key) {
    return g_str_has_prefix(key, "firmware.");
}

/* Which files: what the model needs; of the product's loop; of that, a sensor's formats, too. */
typedef enum code_part { OF_MODEL, OF_LOOP, OF_LOOP_AND_SENSOR } code_part;

static bool is_part(const char *key, code_part part, const nsk_needs *needs) {
    if (!is_firmware(key)) {
        return part == OF_MODEL && nsk_device_file_is_needed(file_of(key), needs);
    }
    return part != OF_MODEL && (part == OF_LOOP_AND_SENSOR || strcmp(key, "firmware.sensor") != 0);
}

/* The table's sizes of those files. */
static bool sum_code(const nsk_costs *costs, const nsk_model *model, code_part part, double *bytes,
                     nsk_error *error) {
    nsk_needs needs = {.streams = false};
    nsk_needs_add(&needs, model);
    const char *const *keys = nsk_settings_keys(costs->settings, "code");
    *bytes = 0.0;
    for (; keys != NULL && *keys != NULL; keys++) {
        double one = 0.0;
        if (!nsk_settings_number(costs->settings, "code", *keys, NSK_UNIT_BYTES, 0, 1e9, &one,
                                 error)) {
            return false;
        }
        *bytes += is_part(*keys, part, &needs) ? one : 0.0;
    }
    return *bytes > 0.0 ||
           nsk_fail(error, "%s: no sizes %sunder [code]; `make costs` writes a whole table",
                    costs->path, part != OF_MODEL ? "of firmware." : "");
}

bool nsk_costs_code(const nsk_costs *costs, const nsk_model *model, double *bytes,
                    nsk_error *error) {
    return sum_code(costs, model, OF_MODEL, bytes, error);
}

/* A depth that was not seen is taken for that of the same kind, odd or not, near or far. */
static const char *seen_depth(const nsk_costs *costs, const char *group, const char *kind,
                              char *other) {
    const bool far = strstr(kind, "-far") != NULL;
    const bool odd = strstr(kind, "-odd") != NULL;
    const int length = (int)(far   ? strstr(kind, "-far") - kind
                             : odd ? strstr(kind, "-odd") - kind
                                   : (ptrdiff_t)strlen(kind));
    for (int way = 0; way < 4; way++) {
        const bool as_far = far != (way >= 2);
        const bool as_odd = odd != (way % 2 == 1);
        g_snprintf(other, NSK_DEPTH_KIND, "%.*s%s%s", length, kind, as_far ? "-far" : "",
                   as_odd ? "-odd" : "");
        if (nsk_settings_text(costs->settings, group, other) != NULL) {
            return other;
        }
    }
    return kind;
}

static bool deepen(const nsk_costs *costs, const char *group, const char *kind, double *bytes,
                   nsk_error *error) {
    double one = 0.0;
    char other[NSK_DEPTH_KIND];
    kind = seen_depth(costs, group, kind, other);
    if (nsk_settings_need(costs->settings, group, kind, error) == NULL ||
        !nsk_settings_number(costs->settings, group, kind, NSK_UNIT_BYTES, 0, 1e9, &one, error)) {
        return false;
    }
    *bytes = fmax(*bytes, one);
    return true;
}

bool nsk_costs_stack(const nsk_costs *costs, const nsk_model *model, double *bytes,
                     nsk_error *error) {
    *bytes = 0.0;
    bool good = deepen(costs, "stack", "prepare", bytes, error);
    for (unsigned i = 0; i < model->layers && good; i++) {
        char kind[NSK_DEPTH_KIND];
        good =
            deepen(costs, nsk_depth_group(model, i), nsk_depth_kind(model, i, kind), bytes, error);
    }
    return good;
}

/* Layers below the loop, or what the loop does besides, whichever is deeper. */
static bool deepen_by_loop(const nsk_costs *costs, bool streamed, double *stack, nsk_error *error) {
    const char *key = streamed ? "streamed" : "whole";
    double loop = 0.0;
    double alone = 0.0;
    bool good = nsk_settings_need(costs->settings, "stack-loop", key, error) != NULL &&
                nsk_settings_need(costs->settings, "stack-loop", "alone", error) != NULL &&
                nsk_settings_number(costs->settings, "stack-loop", key, NSK_UNIT_BYTES, 0, 1e9,
                                    &loop, error) &&
                nsk_settings_number(costs->settings, "stack-loop", "alone", NSK_UNIT_BYTES, 0, 1e9,
                                    &alone, error);
    *stack = fmax(*stack + loop, alone);
    return good;
}

bool nsk_costs_firmware(const nsk_costs *costs, const nsk_model *model, bool senses, double *code,
                        double *stack, nsk_error *error) {
    return sum_code(costs, model, senses ? OF_LOOP_AND_SENSOR : OF_LOOP, code, error) &&
           deepen_by_loop(costs, model->streamed > 0, stack, error);
}

bool nsk_costs_deepest(const nsk_costs *costs, double *bytes, nsk_error *error) {
    static const char *const groups[] = {"stack", "stack-streamed", "stack-over"};
    *bytes = 0.0;
    bool good = true;
    for (size_t g = 0; g < G_N_ELEMENTS(groups); g++) {
        const char *const *keys = nsk_settings_keys(costs->settings, groups[g]);
        for (; keys != NULL && *keys != NULL && good; keys++) {
            good = deepen(costs, groups[g], *keys, bytes, error);
        }
    }
    good = good && (*bytes > 0.0 || nsk_fail(error, "%s: no depths under [stack]", costs->path));
    return good && deepen_by_loop(costs, true, bytes, error); /* its deeper way */
}

const char *nsk_scaling_group(const nsk_model *model) {
    static const char *const groups[NSK_RESAMPLES] = {[NSK_RESAMPLE_AREA] = "scale",
                                                      [NSK_RESAMPLE_BILINEAR] = "scale-bilinear",
                                                      [NSK_RESAMPLE_BILINEAR_SMOOTH] =
                                                          "scale-smooth-bilinear",
                                                      [NSK_RESAMPLE_NEAREST] = "scale-nearest"};
    return groups[model->resample];
}

/* Taps along an axis: how often a pixel of the picture has a part in one of the frame's. */
static uint64_t taps_along(nsk_resample way, uint64_t from, uint64_t to) {
    uint64_t a = from;
    uint64_t b = to;
    while (b > 0) { /* the greatest common divisor */
        uint64_t rest = a % b;
        a = b;
        b = rest;
    }
    way = way == NSK_RESAMPLE_BILINEAR_SMOOTH && from == to ? NSK_RESAMPLE_AREA : way;
    switch (way) {
    case NSK_RESAMPLE_NEAREST:
        return to;
    case NSK_RESAMPLE_BILINEAR:
        return 2U * to;
    case NSK_RESAMPLE_BILINEAR_SMOOTH:
        return 2U * from;
    default:
        return from + to - a;
    }
}

nsk_work nsk_scaling_work(const nsk_model *model, unsigned width, unsigned height) {
    const uint64_t channels = model->channels;
    const uint64_t down = taps_along(model->resample, height, model->height);
    const uint64_t across = taps_along(model->resample, width, model->width);
    const uint64_t taken = MIN(down, height); /* rows of the picture; the others say nothing */
    return (nsk_work){.calls = 1,
                      .rows = height,
                      .moved = (uint64_t)width * taken * channels,
                      .outputs = (uint64_t)model->width * model->height * channels,
                      .pixels = (uint64_t)model->width * taken,
                      .runs = across * taken,
                      .macs = across * taken * channels,
                      .products = down * model->width * channels};
}

nsk_work nsk_frame_check_work(const nsk_model *model, unsigned width, unsigned height) {
    const uint64_t row = (uint64_t)width * model->channels;
    return (nsk_work){
        .calls = 1, .rows = height, .moved = row / 4U * 4U * height, .odd = row % 4U * height};
}

void nsk_costs_copy_sizes(const nsk_costs *costs, GString *to) {
    static const char *const groups[] = {"stack", "stack-streamed", "stack-over", "stack-loop",
                                         "code"};
    for (size_t g = 0; g < G_N_ELEMENTS(groups); g++) {
        const char *const *keys = nsk_settings_keys(costs->settings, groups[g]);
        g_string_append_printf(to, "\n[%s]\n", groups[g]);
        for (; keys != NULL && *keys != NULL; keys++) {
            g_string_append_printf(to, "%s = %s\n", *keys,
                                   nsk_settings_text(costs->settings, groups[g], *keys));
        }
    }
}

nsk_layer_cost nsk_kernel_cost_of(const nsk_kernel_cost *cost, const nsk_work *work,
                                  double wait_states) {
    nsk_layer_cost result = {0};
    double terms[NSK_COST_TERMS];
    nsk_cost_terms_of(work, terms);
    for (int t = 0; t < NSK_COST_TERMS; t++) {
        result.instructions += cost->term[t] * terms[t];
    }
    const double waits = cost->branches_each * wait_states;
    result.cycles = result.instructions * (cost->cycles_each + waits);
    if (cost->slow_each > 0.0) {
        result.fast = result.instructions * (cost->fast_each + waits);
        result.slow = result.instructions * (cost->slow_each + waits);
    }
    return result;
}
