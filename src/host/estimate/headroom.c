/* Which limit binds first, and what would give it back: reckoned, not guessed. */
#include <math.h>
#include <stdlib.h>
#include <string.h>

#include "device/format.h"
#include "device/scratch.h"
#include "device/work.h"
#include "estimate/cost_kind.h"
#include "estimate/costs.h"
#include "netsuke/headroom.h"

/* A network of other shapes. */
typedef struct reshaped {
    const nsk_model *model;
    nsk_tensor *tensor; /* with sizes of their own; of places only what tells them apart */
    nsk_layer *layer;
    uint64_t weights, bound; /* bytes */
} reshaped;

static void reshaped_clear(reshaped *r) {
    g_free(r->tensor);
    g_free(r->layer);
}

/* An even number, so that products come in pairs; 3 channels of a frame are not asked for. */
static uint16_t narrowed(int channels, double part) {
    return (uint16_t)MAX(2.0, 2.0 * floor(channels * part / 2.0 + 0.5));
}

/* The layer whose outputs become the classes: its width is not free. */
static int last_weights(const nsk_model *model) {
    for (int i = model->layers - 1; i >= 0; i--) {
        nsk_kind kind = nsk_kind_unpacked(nsk_layer_kind(model, (unsigned)i));
        if (kind == NSK_KIND_CONV || kind == NSK_KIND_DENSE || kind == NSK_KIND_CONV_FINE) {
            return i;
        }
    }
    return -1;
}

/* Rows or columns of outputs; the padding stays what it was. */
static int outputs(int in, int was_in, int was_out, int kernel, int stride, int dilate) {
    int reach = (kernel - 1) * dilate + 1;
    int pad = MAX((was_out - 1) * stride + reach - was_in, 0);
    return in + pad < reach ? 0 : (in + pad - reach) / stride + 1;
}

/* A window; one that covered the whole picture covers the new one. */
static bool reshape_window(nsk_layer *l, const nsk_tensor *in) {
    if (l->kernel_height == l->in.height && l->kernel_width == l->in.width) {
        l->kernel_height = in->height;
        l->kernel_width = in->width;
        return true; /* one output, as before */
    }
    int down = outputs(in->height, l->in.height, l->out.height, l->kernel_height, l->stride_down,
                       l->dilate_down);
    int across = outputs(in->width, l->in.width, l->out.width, l->kernel_width, l->stride_across,
                         l->dilate_across);
    l->out.height = (uint16_t)down;
    l->out.width = (uint16_t)across;
    return down > 0 && across > 0;
}

static bool reshape_layer(nsk_layer *l, const nsk_tensor *in, double part, bool is_last) {
    bool channels_follow = true; /* the input's */
    bool good = true;
    switch (l->kind) {
    case NSK_KIND_CONV:
    case NSK_KIND_CONV_PACKED:
    case NSK_KIND_CONV_FINE:
        good = reshape_window(l, in) && l->count == 1;
        l->out.channels = is_last ? l->out.channels : narrowed(l->out.channels, part);
        channels_follow = false;
        break;
    case NSK_KIND_DENSE:
    case NSK_KIND_DENSE_PACKED:
        l->out.channels = is_last ? l->out.channels : narrowed(l->out.channels, part);
        channels_follow = false;
        break;
    case NSK_KIND_DEPTHWISE:
    case NSK_KIND_DEPTHWISE_FINE:
        good = reshape_window(l, in) && l->in.channels == l->out.channels;
        break;
    case NSK_KIND_MAX_POOL:
    case NSK_KIND_AVERAGE_POOL:
        good = reshape_window(l, in);
        break;
    case NSK_KIND_ADD:
    case NSK_KIND_ADD_FINE:
    case NSK_KIND_LUT_FINE:
    case NSK_KIND_MULTIPLY:
    case NSK_KIND_MAX:
    case NSK_KIND_MIN:
    case NSK_KIND_LUT:
    case NSK_KIND_SOFTMAX:
    case NSK_KIND_SCORES:
        l->out.height = in->height;
        l->out.width = in->width;
        break;
    default: /* tensors in orders of their own */
        return false;
    }
    if (channels_follow) {
        l->out.channels = in->channels;
    }
    l->out.pixel_stride = l->out.channels * l->out.element;
    return good;
}

static uint64_t weights_of(const nsk_layer *l) {
    uint64_t each = 0;
    if (l->kind == NSK_KIND_CONV_PACKED || l->kind == NSK_KIND_DENSE_PACKED) {
        uint64_t row = l->kind == NSK_KIND_CONV_PACKED ? (uint32_t)nsk_row_bytes(nsk_conv_taps(l))
                                                       : nsk_dense_row(l);
        each = row * (l->flags & NSK_FLAG_BITS) / 8U + 4U;
    } else if (l->kind == NSK_KIND_CONV || l->kind == NSK_KIND_CONV_FINE) {
        each = (uint64_t)nsk_row_bytes(nsk_conv_taps(l)) + 4U;
    } else if (l->kind == NSK_KIND_DENSE) {
        each = (uint64_t)nsk_row_bytes((int32_t)nsk_tensor_bytes(&l->in)) + 4U;
    } else if (l->kind == NSK_KIND_DEPTHWISE || l->kind == NSK_KIND_DEPTHWISE_FINE) {
        each = nsk_kernel_area(l) + 4U;
    }
    return each * l->out.channels;
}

/* Most bytes alive at one layer. */
static uint64_t alive(const reshaped *r) {
    const nsk_model *m = r->model;
    int *last = g_new0(int, m->tensors);
    uint64_t most = 0;
    for (unsigned i = 0; i < m->layers; i++) {
        unsigned t[3];
        nsk_layer_tensors(m, i, t);
        for (int k = 0; k < 3; k++) {
            if (t[k] < m->tensors) {
                last[t[k]] = (int)i;
            }
        }
    }
    bool *there = g_new0(bool, m->tensors);
    there[m->input] = true;
    for (unsigned i = 0; i < m->layers; i++) {
        uint64_t now = nsk_layer_scratch(&r->layer[i]);
        there[nsk_layer_output(m, i)] = true;
        for (unsigned t = 0; t < m->tensors; t++) {
            now += there[t] ? nsk_tensor_bytes(&r->tensor[t]) : 0U;
            there[t] = there[t] && last[t] > (int)i;
        }
        most = MAX(most, now);
    }
    g_free(there);
    g_free(last);
    return most;
}

/* False where the network has layers whose shapes cannot be scaled. */
static bool reshape(reshaped *r, const nsk_model *model, int width, int height, double part) {
    int last = last_weights(model);
    r->model = model;
    r->tensor = g_new0(nsk_tensor, model->tensors);
    r->layer = g_new0(nsk_layer, model->layers);
    for (unsigned t = 0; t < model->tensors; t++) {
        r->tensor[t] = nsk_tensor_at(model, t);
    }
    r->tensor[model->input].width = (uint16_t)width;
    r->tensor[model->input].height = (uint16_t)height;
    for (int i = 0; i < model->layers; i++) {
        nsk_layer *l = &r->layer[i];
        unsigned t[3];
        nsk_layer_decode(model, (unsigned)i, l);
        nsk_layer_tensors(model, (unsigned)i, t);
        if (!reshape_layer(l, &r->tensor[t[0]], part, i == last)) {
            return false;
        }
        l->in = r->tensor[t[0]];
        l->in.pixel_stride = l->in.channels * l->in.element;
        l->in.rows = l->in.height;
        l->out.rows = l->out.height;
        r->tensor[t[2]] = l->out;
        r->weights += weights_of(l);
    }
    r->bound = alive(r);
    return true;
}

/* Cycles of the layers and of preparation. */
static bool cycles_of(const reshaped *r, const nsk_costs *costs, const nsk_board *board,
                      double *cycles, nsk_error *error) {
    const nsk_tensor *frame = &r->tensor[r->model->input];
    const nsk_work prepare = {
        .calls = 1, .rows = frame->height, .outputs = nsk_tensor_elements(frame)};
    nsk_kernel_cost cost;
    if (!nsk_costs_kernel(costs, "prepare", &cost, error)) {
        return false;
    }
    *cycles = nsk_kernel_cost_of(&cost, &prepare, board->wait_states).cycles;
    for (int i = 0; i < r->model->layers; i++) {
        const nsk_work work = nsk_work_of(&r->layer[i]);
        if (!nsk_costs_kernel(costs, nsk_cost_kind_of(&r->layer[i]), &cost, error)) {
            return false;
        }
        *cycles += nsk_kernel_cost_of(&cost, &work, board->wait_states).cycles;
    }
    return true;
}

/* ---- ways out ---- */

typedef struct search {
    const nsk_model_file *file;
    nsk_model model;
    const nsk_board *board;
    const nsk_costs *costs;
    const nsk_budget *now;
    reshaped same;
    double same_cycles;
    GArray *ways;
} search;

static void add(search *s, char *what, double flash, double ram, double seconds, bool trains) {
    const nsk_budget_limit *l = s->now->limits;
    const nsk_way_out way = {what,
                             flash,
                             ram,
                             seconds,
                             trains,
                             flash <= l[NSK_LIMIT_FLASH].limit && ram <= l[NSK_LIMIT_RAM].limit &&
                                 seconds <= l[NSK_LIMIT_LATENCY].limit};
    g_array_append_val(s->ways, way);
}

/* The budget as it is, with what a reshaped network would change. */
static bool add_reshaped(search *s, char *what, int width, int height, double part,
                         nsk_error *error) {
    reshaped r = {0};
    double cycles;
    bool can = reshape(&r, &s->model, width, height, part);
    bool good = !can || cycles_of(&r, s->costs, s->board, &cycles, error);
    if (can && good) {
        const nsk_budget *b = s->now;
        double frame = b->ram_frame * width / s->model.width *
                       (s->model.streamed > 0 ? 1.0 : (double)height / s->model.height);
        double workspace = b->ram_workspace * (double)r.bound / (double)s->same.bound;
        double layers = cycles / s->same_cycles;
        double around = b->scaling.cycles + b->frame_check.cycles + b->check.cycles;
        add(s, what, b->flash + (double)r.weights - (double)s->same.weights,
            b->ram - b->ram_frame - b->ram_workspace + frame + workspace,
            ((b->cycles - around) * layers + around) / s->board->clock, true);
    } else {
        g_free(what);
    }
    reshaped_clear(&r);
    return good;
}

static bool add_shapes(search *s, nsk_error *error) {
    static const double sizes[] = {5.0 / 6.0, 2.0 / 3.0, 0.5};
    static const double widths[] = {0.75, 0.5, 0.25};
    const nsk_model *m = &s->model;
    for (size_t i = 0; i < G_N_ELEMENTS(sizes); i++) {
        int width = (int)fmax(floor(m->width * sizes[i] / 4.0 + 0.5) * 4.0, 4.0);
        int height = (int)fmax(floor(m->height * sizes[i] / 4.0 + 0.5) * 4.0, 4.0);
        if (width < m->width && height < m->height &&
            !add_reshaped(s, g_strdup_printf("input of %d x %d", width, height), width, height, 1.0,
                          error)) {
            return false;
        }
    }
    for (size_t i = 0; i < G_N_ELEMENTS(widths); i++) {
        if (!add_reshaped(s, g_strdup_printf("%.0f %% of the channels", 100.0 * widths[i]),
                          m->width, m->height, widths[i], error)) {
            return false;
        }
    }
    return true;
}

static void add_clocks(search *s) {
    static const double factors[] = {1.5, 2.0};
    const nsk_budget *b = s->now;
    for (size_t i = 0; i < G_N_ELEMENTS(factors); i++) {
        add(s, g_strdup_printf("a clock of %.4g MHz", factors[i] * s->board->clock / 1e6), b->flash,
            b->ram, b->seconds / factors[i], false);
    }
    if (b->check.cycles > 0.0) {
        double less = b->check.cycles * 0.9 / s->board->clock;
        add(s, g_strdup("the model's checksum on every tenth frame"), b->flash, b->ram,
            b->seconds - less, false);
    }
}

static bool add_streamed(search *s, const nsk_model_file *streamed, const nsk_product *product,
                         const nsk_limits *limits, nsk_error *error) {
    nsk_model model;
    if (streamed == NULL || s->model.streamed > 0 ||
        nsk_open(&model, streamed->bytes, streamed->size) != NSK_STATUS_OK || model.streamed == 0) {
        return true;
    }
    nsk_budget *b = nsk_budget_make(streamed, s->board, product, limits, error);
    if (b != NULL) {
        add(s,
            g_strdup_printf("%u layer%s streamed", model.streamed, model.streamed == 1 ? "" : "s"),
            b->flash, b->ram, b->seconds, false);
    }
    bool good = b != NULL;
    nsk_budget_free(b);
    return good;
}

static double value_of(const nsk_way_out *way, int limit) {
    return limit == NSK_LIMIT_FLASH ? way->flash : limit == NSK_LIMIT_RAM ? way->ram : way->seconds;
}

/* What takes least of the tightest limit comes first. */
static void rank(GArray *ways, int tightest) {
    for (guint i = 1; i < ways->len; i++) {
        nsk_way_out moved = g_array_index(ways, nsk_way_out, i);
        guint k = i;
        for (; k > 0 && value_of(&g_array_index(ways, nsk_way_out, k - 1), tightest) >
                            value_of(&moved, tightest);
             k--) {
            g_array_index(ways, nsk_way_out, k) = g_array_index(ways, nsk_way_out, k - 1);
        }
        g_array_index(ways, nsk_way_out, k) = moved;
    }
}

static int find_tightest(const nsk_budget *b) {
    int tightest = 0;
    for (int i = 1; i < NSK_BUDGET_LIMITS; i++) {
        const nsk_budget_limit *a = &b->limits[tightest];
        const nsk_budget_limit *l = &b->limits[i];
        tightest = l->value / l->limit > a->value / a->limit ? i : tightest;
    }
    return tightest;
}

nsk_headroom *nsk_headroom_make(const nsk_model_file *file, const nsk_model_file *streamed,
                                const nsk_board *board, const nsk_product *product,
                                const nsk_limits *limits, nsk_error *error) {
    search s = {
        .file = file, .board = board, .ways = g_array_new(FALSE, FALSE, sizeof(nsk_way_out))};
    nsk_budget *now = nsk_budget_make(file, board, product, limits, error);
    nsk_headroom *h = NULL;
    nsk_model_file *handed = NULL; /* weights in the core's order */
    s.now = now;
    s.costs = now != NULL ? nsk_costs_read(board->costs, error) : NULL;
    bool good = s.costs != NULL;
    if (good) {
        h = g_new0(nsk_headroom, 1);
        handed = nsk_model_file_for_core(file, nsk_costs_core(s.costs));
        nsk_open(&s.model, handed->bytes, handed->size);
        bool can = reshape(&s.same, &s.model, s.model.width, s.model.height, 1.0);
        h->silent =
            can ? NULL : "it has layers that move elements, or groups, whose shapes do not follow";
        good = (!can || (cycles_of(&s.same, s.costs, board, &s.same_cycles, error) &&
                         add_shapes(&s, error))) &&
               add_streamed(&s, streamed, product, limits, error);
        add_clocks(&s);
        h->tightest = find_tightest(now);
        h->clock = now->cycles / now->limits[NSK_LIMIT_LATENCY].limit;
        rank(s.ways, h->tightest);
        h->count = (int)s.ways->len;
    }
    reshaped_clear(&s.same);
    nsk_model_file_free(handed);
    nsk_costs_free((nsk_costs *)s.costs);
    nsk_budget_free(now);
    if (h != NULL) {
        h->way = (nsk_way_out *)(void *)g_array_free(s.ways, FALSE);
    } else {
        g_array_free(s.ways, TRUE);
    }
    if (!good) {
        nsk_headroom_free(h);
        return NULL;
    }
    return h;
}

void nsk_headroom_free(nsk_headroom *h) {
    if (h != NULL) {
        for (int i = 0; i < h->count; i++) {
            g_free(h->way[i].what);
        }
        g_free(h->way);
        g_free(h);
    }
}
