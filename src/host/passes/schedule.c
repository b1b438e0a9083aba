#include "passes/schedule.h"

#include "device/format.h"
#include "device/stream.h"

/* ---- what a stream holds ---- */

static nsk_link link_of(const nsk_lowered *lowered, int layer) {
    const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, layer);
    bool window = nsk_kind_has_window(l->kind);
    bool pair = !window && l->second != NSK_NONE;
    int64_t reach = window ? (l->window.kernel[0] - 1) * l->window.dilation[0] + 1 : 1;
    nsk_link k = {.in = (uint32_t)l->in,
                  .second = (uint32_t)(pair ? l->second : l->in),
                  .out = (uint32_t)l->out,
                  .stride = window ? (int32_t)l->window.stride[0] : 1,
                  .pad = window ? (int32_t)l->window.pad_before[0] : 0,
                  .reach = (int32_t)reach,
                  .in_height = nsk_lowered_tensor_at(lowered, l->in)->height,
                  .out_height = nsk_lowered_tensor_at(lowered, l->out)->height};
    return k;
}

/* How many layers, from the first, could run row by row. */
static int most_streamed(const nsk_lowered *lowered) {
    bool made[NSK_MOST_STREAMED] = {true};
    int layers = (int)lowered->layers->len;
    for (int i = 0; i < layers; i++) {
        if (!nsk_kind_is_streamed(nsk_lowered_layer_at(lowered, i)->kind)) {
            return i;
        }
        nsk_link k = link_of(lowered, i);
        if (k.in >= NSK_MOST_STREAMED || k.second >= NSK_MOST_STREAMED ||
            k.out >= NSK_MOST_STREAMED || !made[k.in] || !made[k.second] ||
            nsk_lowered_tensor_at(lowered, (int)k.second)->height != k.in_height ||
            nsk_lowered_tensor_at(lowered, (int)k.out)->alias_of != NSK_NONE) {
            return i;
        }
        made[k.out] = true;
    }
    return layers;
}

/* Marks the streamed tensors that must be there whole behind the stream. */
static void mark_whole(const nsk_lowered *lowered, int streamed, bool *whole) {
    int layers = (int)lowered->layers->len;
    whole[nsk_lowered_tensor_root(lowered, lowered->output)] = true;
    for (int i = streamed; i < layers; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        whole[nsk_lowered_tensor_root(lowered, l->in)] = true;
        whole[nsk_lowered_tensor_root(lowered, l->out)] = true;
        if (l->second != NSK_NONE) {
            whole[nsk_lowered_tensor_root(lowered, l->second)] = true;
        }
    }
}

/* Goes through a frame, as src/device/stream.c will, and notes the most rows that each tensor has.
 */
static void count_rows(const nsk_lowered *lowered, int streamed, int band, int *most) {
    int made[NSK_MOST_STREAMED] = {0};
    int first[NSK_MOST_STREAMED] = {0};
    int height = nsk_lowered_tensor_at(lowered, 0)->height;
    for (bool all = true; made[0] < height || !all;) {
        int wanted[NSK_MOST_STREAMED];
        made[0] = all ? MIN(made[0] + band, height) : made[0];
        all = true;
        for (int i = 0; i < streamed; i++) {
            nsk_link k = link_of(lowered, i);
            int there = MIN(made[k.in], made[k.second]);
            made[k.out] = nsk_link_turn(&k, there, made[k.out], band, height, &all);
        }
        for (int t = 0; t < NSK_MOST_STREAMED; t++) {
            most[t] = MAX(most[t], made[t] - first[t]);
            wanted[t] = made[t];
        }
        for (int i = 0; i < streamed; i++) {
            nsk_link k = link_of(lowered, i);
            int from = nsk_link_wants(&k, made[k.out]);
            wanted[k.in] = MIN(wanted[k.in], from);
            wanted[k.second] = MIN(wanted[k.second], from);
        }
        for (int t = 0; t < NSK_MOST_STREAMED; t++) {
            first[t] = MAX(first[t], wanted[t]);
        }
    }
}

static int *rows_of(const nsk_lowered *lowered, int streamed, int band) {
    int tensors = (int)lowered->tensors->len;
    int *rows = g_new(int, tensors);
    int most[NSK_MOST_STREAMED] = {0};
    bool *whole = g_new0(bool, tensors);
    mark_whole(lowered, streamed, whole);
    count_rows(lowered, streamed, band, most);
    for (int i = 0; i < tensors; i++) {
        int height = nsk_lowered_tensor_at(lowered, i)->height;
        bool part = streamed > 0 && i < NSK_MOST_STREAMED && !whole[i] && most[i] > 0 &&
                    most[i] <= NSK_MOST_ROWS;
        rows[i] = part ? MIN(most[i], height) : height;
    }
    g_free(whole);
    return rows;
}

/* ---- where it stands ---- */

static void keep_alive(const nsk_lowered *lowered, nsk_buffer *buffers, int tensor, int step) {
    nsk_buffer *b = &buffers[nsk_lowered_tensor_root(lowered, tensor)];
    b->first = MIN(b->first, step);
    b->last = MAX(b->last, step);
}

/* A tensor lives from the first layer that writes it to the last that reads it; the input from
 * before the first layer, the output to behind the last; those of streamed layers as long as the
 * stream runs. Another shape of a tensor is no buffer of its own. */
static void set_lives(const nsk_lowered *lowered, int streamed, nsk_buffer *buffers) {
    int layers = (int)lowered->layers->len;
    keep_alive(lowered, buffers, 0, 0);
    for (int i = 0; i < layers; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        const int tensors[] = {l->in, l->out};
        for (int t = 0; t < 2; t++) {
            keep_alive(lowered, buffers, tensors[t], i < streamed ? 0 : i + 1);
            keep_alive(lowered, buffers, tensors[t], i < streamed ? streamed : i + 1);
        }
        if (l->second != NSK_NONE) {
            keep_alive(lowered, buffers, l->second, i + 1);
        }
    }
    keep_alive(lowered, buffers, lowered->output, layers + 1);
}

/* ---- written over what it is made from ---- */

/* How far before its input's start a layer's output must begin, so that no row of it reaches what
 * later rows, or the same one, still read; all of its bytes where it cannot be written over it. */
static uint32_t lead_of(const nsk_lowered *lowered, int layer) {
    const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, layer);
    const nsk_lowered_tensor *in = nsk_lowered_tensor_at(lowered, l->in);
    const nsk_lowered_tensor *out = nsk_lowered_tensor_at(lowered, l->out);
    int64_t in_row = nsk_lowered_row_bytes(in);
    int64_t out_row = nsk_lowered_row_bytes(out);
    bool window = nsk_kind_has_window(l->kind);
    bool grows = out_row > in_row; /* two bytes of one: no element has room in its own place */
    if (!nsk_kind_is_streamed(l->kind) || (!window && grows)) {
        return (uint32_t)(out_row * out->height);
    }
    if (!window) {
        return 0; /* element by element */
    }
    nsk_link k = link_of(lowered, layer);
    int64_t lead = 0;
    for (int y = 0; y < out->height; y++) {
        lead = MAX(lead, (y + 1) * out_row - (int64_t)nsk_link_wants(&k, y) * in_row);
    }
    return (uint32_t)lead;
}

static nsk_buffer *output_of(const nsk_lowered *lowered, const nsk_schedule *s, int layer) {
    return &s->buffers[nsk_lowered_tensor_root(lowered, nsk_lowered_layer_at(lowered, layer)->out)];
}

/* Lets outputs be written over inputs that die in the same step. */
static void set_overlaps(const nsk_lowered *lowered, const nsk_schedule *s) {
    for (int i = s->streamed; i < (int)lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(lowered, i);
        nsk_buffer *out = output_of(lowered, s, i);
        const nsk_buffer *in = &s->buffers[nsk_lowered_tensor_root(lowered, l->in)];
        uint32_t lead = lead_of(lowered, i);
        bool slice = nsk_lowered_tensor_at(lowered, l->out)->slice;
        if (!slice && out != in && in->last == i + 1 && out->first == i + 1 && lead < out->bytes) {
            out->over = in;
            out->lead = lead;
        }
    }
}

/* Takes it back where it does not lower the bound: row by row costs cycles. */
static void keep_overlaps_that_count(const nsk_lowered *lowered, const nsk_schedule *s) {
    int tensors = (int)lowered->tensors->len;
    uint32_t bound = nsk_plan_lower_bound(s->buffers, tensors);
    for (int i = s->streamed; i < (int)lowered->layers->len; i++) {
        nsk_buffer *out = output_of(lowered, s, i);
        const nsk_buffer *over = out->over;
        if (over != NULL && nsk_kind_has_window(nsk_lowered_layer_at(lowered, i)->kind)) {
            out->over = NULL;
            out->over = nsk_plan_lower_bound(s->buffers, tensors) > bound ? over : NULL;
        }
    }
}

nsk_schedule *nsk_schedule_of(const nsk_lowered *lowered, int streamed, int band) {
    if (streamed > most_streamed(lowered)) {
        return NULL;
    }
    int tensors = (int)lowered->tensors->len;
    nsk_schedule *s = g_new0(nsk_schedule, 1);
    s->streamed = streamed;
    s->band = band;
    s->rows = rows_of(lowered, streamed, band);
    s->buffers = g_new0(nsk_buffer, tensors);
    s->places = g_new(uint32_t, tensors);
    for (int i = 0; i < tensors; i++) {
        const nsk_lowered_tensor *t = nsk_lowered_tensor_at(lowered, i);
        bool own = t->alias_of == NSK_NONE;
        s->buffers[i].bytes = own ? (uint32_t)(s->rows[i] * nsk_lowered_row_bytes(t)) : 0;
        s->buffers[i].first = (int)lowered->layers->len + 1;
    }
    set_lives(lowered, streamed, s->buffers);
    set_overlaps(lowered, s);
    keep_overlaps_that_count(lowered, s);
    s->lower_bound = nsk_plan_lower_bound(s->buffers, tensors);
    return s;
}

void nsk_schedule_place(const nsk_lowered *lowered, nsk_schedule *s) {
    int tensors = (int)lowered->tensors->len;
    s->workspace = nsk_plan_place(s->buffers, tensors);
    for (int i = 0; i < tensors; i++) {
        s->places[i] = s->buffers[nsk_lowered_tensor_root(lowered, i)].place;
    }
}

void nsk_schedule_free(nsk_schedule *s) {
    if (s != NULL) {
        g_free(s->rows);
        g_free(s->buffers);
        g_free(s->places);
        g_free(s);
    }
}

/* ---- which ---- */

/* What the frame needs besides: all of it, or, fed to a stream, a row. */
static double ram_of(const nsk_lowered *lowered, const nsk_schedule *s) {
    const nsk_lowered_tensor *in = nsk_lowered_tensor_at(lowered, 0);
    double row = (double)in->width * in->channels;
    return s->workspace + (s->streamed > 0 ? row : row * in->height);
}

static int pieces_of(const nsk_lowered *lowered, const nsk_schedule *s) {
    int height = nsk_lowered_tensor_at(lowered, 0)->height;
    return s->streamed * ((height + s->band - 1) / s->band);
}

static bool is_better(const nsk_lowered *lowered, const nsk_schedule *a, const nsk_schedule *b,
                      double ram) {
    double need = ram_of(lowered, a);
    double other = ram_of(lowered, b);
    bool fits = need <= ram;
    if (fits != (other <= ram)) {
        return fits;
    }
    int pieces = pieces_of(lowered, a) - pieces_of(lowered, b);
    return fits ? pieces < 0 || (pieces == 0 && need < other)
                : need < other || (need == other && pieces < 0);
}

nsk_schedule *nsk_schedule_make(const nsk_lowered *lowered, const nsk_recipe *recipe) {
    static const int bands[] = {1, 2, 4, 8, 16};
    bool always = recipe->streaming == NSK_STREAMING_ALWAYS;
    double ram = always ? 0.0 : recipe->ram;
    nsk_schedule *best = nsk_schedule_of(lowered, 0, 1);
    nsk_schedule_place(lowered, best);
    int most = recipe->streaming == NSK_STREAMING_NEVER ? 0 : most_streamed(lowered);
    if (!always && ram_of(lowered, best) <= ram) {
        most = 0;
    }
    for (int streamed = 1; streamed <= most; streamed++) {
        for (size_t b = 0; b < G_N_ELEMENTS(bands); b++) {
            nsk_schedule *s = nsk_schedule_of(lowered, streamed, bands[b]);
            nsk_schedule *worse = s;
            nsk_schedule_place(lowered, s);
            if (is_better(lowered, s, best, ram)) {
                worse = best;
                best = s;
            }
            nsk_schedule_free(worse);
        }
    }
    return best;
}
