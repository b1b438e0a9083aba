/* Streamed layers: the same numbers as layer by layer, whatever the network, the band and the rows
 * that come at a time; and what cannot be streamed is refused. */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "base/random.h"
#include "device/crc.h"
#include "device/format.h"
#include "device/scratch.h"
#include "device/stream.h"
#include "emulator.h"
#include "grid.h"
#include "lower/lower.h"
#include "train/export.h"

/* ---- random networks ---- */

static int add_tensor(nsk_lowered *net, int height, int width, int channels) {
    const nsk_lowered_tensor t = {.height = height,
                                  .width = width,
                                  .channels = channels,
                                  .shares = NSK_NONE,
                                  .alias_of = NSK_NONE};
    g_array_append_val(net->tensors, t);
    return (int)net->tensors->len - 1;
}

static void draw_weights(nsk_lowered_layer *l, int taps, int channels, random_state *r) {
    l->taps = taps;
    l->weights = g_new(float, (gsize)(taps * channels));
    l->bias = g_new(float, channels);
    for (int i = 0; i < taps * channels; i++) {
        l->weights[i] = (float)(random_normal(r) / sqrt(taps));
    }
    for (int c = 0; c < channels; c++) {
        l->bias[c] = (float)random_between(r, -0.3, 0.3);
    }
}

/* A window on an axis of so many pixels; returns the outputs. */
static int draw_axis(nsk_window_attributes *w, int axis, int size, random_state *r) {
    int kernel = 1 + random_below(r, 4);
    int dilation = 1 + random_below(r, 2);
    while ((kernel - 1) * dilation + 1 > size) {
        kernel--;
    }
    int reach = (kernel - 1) * dilation + 1;
    int stride = 1 + random_below(r, 3);
    int before = random_below(r, reach);
    int after = random_below(r, reach);
    w->kernel[axis] = kernel;
    w->dilation[axis] = dilation;
    w->stride[axis] = stride;
    w->pad_before[axis] = before;
    w->pad_after[axis] = after;
    int outputs = (size + before + after - reach) / stride + 1;
    while ((outputs - 1) * stride - before >= size) {
        outputs--;
    }
    return outputs;
}

static void add_window(nsk_lowered *net, nsk_lowered_layer *l, random_state *r) {
    const nsk_lowered_tensor in = *nsk_lowered_tensor_at(net, l->in);
    int height = draw_axis(&l->window, 0, in.height, r);
    int width = draw_axis(&l->window, 1, in.width, r);
    int area = (int)(l->window.kernel[0] * l->window.kernel[1]);
    int channels = l->kind == NSK_KIND_CONV ? 1 + random_below(r, 9) : in.channels;
    l->window.groups = 1;
    if (l->kind == NSK_KIND_CONV) {
        draw_weights(l, area * in.channels, channels, r);
    } else if (l->kind == NSK_KIND_DEPTHWISE) {
        draw_weights(l, area, channels, r);
    }
    l->out = add_tensor(net, height, width, channels);
}

/* Two earlier tensors of one size, or none. */
static bool find_pair(const nsk_lowered *net, random_state *r, int *a, int *b) {
    int count = (int)net->tensors->len;
    *a = random_below(r, count);
    *b = random_below(r, count);
    const nsk_lowered_tensor *x = nsk_lowered_tensor_at(net, *a);
    const nsk_lowered_tensor *y = nsk_lowered_tensor_at(net, *b);
    return *a != *b && x->height == y->height && x->width == y->width && x->channels == y->channels;
}

static void add_layer(nsk_lowered *net, random_state *r) {
    static const nsk_kind kinds[] = {NSK_KIND_CONV,      NSK_KIND_CONV,     NSK_KIND_DEPTHWISE,
                                     NSK_KIND_DEPTHWISE, NSK_KIND_MAX_POOL, NSK_KIND_AVERAGE_POOL,
                                     NSK_KIND_LUT};
    static const nsk_kind pairs[] = {NSK_KIND_ADD, NSK_KIND_MULTIPLY, NSK_KIND_MAX, NSK_KIND_MIN};
    int last = (int)net->tensors->len - 1;
    nsk_lowered_layer l = {.kind = kinds[random_below(r, G_N_ELEMENTS(kinds))],
                           .name = "layer",
                           .in = random_below(r, 4) > 0 ? last : random_below(r, last + 1),
                           .second = NSK_NONE,
                           .sign = {1, 1},
                           .low = -1.5,
                           .high = INFINITY};
    int a;
    int b;
    if (random_below(r, 2) == 0 && find_pair(net, r, &a, &b)) {
        l.kind = pairs[random_below(r, G_N_ELEMENTS(pairs))];
        l.in = a;
        l.second = b;
    }
    if (nsk_kind_has_window(l.kind)) {
        add_window(net, &l, r);
    } else {
        const nsk_lowered_tensor in = *nsk_lowered_tensor_at(net, l.in);
        l.out = add_tensor(net, in.height, in.width, in.channels);
    }
    g_array_append_val(net->layers, l);
    /* cppcheck-suppress memleak; the array holds what the layer points to */
}

static void add_head(nsk_lowered *net, random_state *r) {
    int last = (int)net->tensors->len - 1;
    const nsk_lowered_tensor in = *nsk_lowered_tensor_at(net, last);
    nsk_lowered_layer dense = {.kind = NSK_KIND_DENSE,
                               .name = "dense",
                               .in = last,
                               .second = NSK_NONE,
                               .low = -INFINITY,
                               .high = INFINITY};
    draw_weights(&dense, in.height * in.width * in.channels, 2, r);
    dense.out = add_tensor(net, 1, 1, 2);
    g_array_append_val(net->layers, dense);
    nsk_lowered_layer scores = {.kind = NSK_KIND_SCORES,
                                .name = "scores",
                                .in = dense.out,
                                .second = NSK_NONE,
                                .shares = true,
                                .low = -INFINITY,
                                .high = INFINITY};
    nsk_lowered_tensor_at(net, dense.out)->element = NSK_ELEMENT_16;
    scores.out = add_tensor(net, 1, 1, 2);
    nsk_lowered_tensor_at(net, scores.out)->element = NSK_ELEMENT_32;
    g_array_append_val(net->layers, scores);
    net->output = scores.out;
}

static nsk_kind finer(nsk_kind kind) {
    static const nsk_kind kinds[NSK_KINDS] = {[NSK_KIND_CONV] = NSK_KIND_CONV_FINE,
                                              [NSK_KIND_DEPTHWISE] = NSK_KIND_DEPTHWISE_FINE,
                                              [NSK_KIND_LUT] = NSK_KIND_LUT_FINE,
                                              [NSK_KIND_ADD] = NSK_KIND_ADD_FINE};
    return nsk_kind_is_fine(kind) ? kind : kinds[kind];
}

/* A tensor gets 16 bits, where all that touch it can. */
static void make_fine(const nsk_lowered *net, int tensor) {
    for (int pass = 0; pass < 2; pass++) {
        for (guint i = 0; i < net->layers->len; i++) {
            nsk_lowered_layer *l = nsk_lowered_layer_at(net, (int)i);
            bool touches = l->in == tensor || l->second == tensor || l->out == tensor;
            if (touches && finer(l->kind) == 0) {
                return;
            }
            l->kind = touches && pass == 1 ? finer(l->kind) : l->kind;
        }
    }
    nsk_lowered_tensor_at(net, tensor)->element = NSK_ELEMENT_16;
    nsk_lowered_tensor_at(net, tensor)->fine = true;
}

static nsk_lowered *draw_network(random_state *r) {
    nsk_error error = {.text = ""};
    nsk_lowered *net = g_new0(nsk_lowered, 1);
    net->tensors = g_array_new(FALSE, TRUE, sizeof(nsk_lowered_tensor));
    net->layers = g_array_new(FALSE, TRUE, sizeof(nsk_lowered_layer));
    add_tensor(net, 3 + random_below(r, 22), 3 + random_below(r, 10), 3);
    for (int layers = 1 + random_below(r, 8); layers > 0; layers--) {
        add_layer(net, r);
    }
    add_head(net, r);
    for (int t = (int)net->tensors->len - 3; t > 0 && random_below(r, 2) == 0; t--) {
        make_fine(net, t);
    }
    CU_ASSERT(nsk_lowered_fit_scratch(net, &error));
    return net;
}

/* ---- the same numbers ---- */

/* The scores, into `scores`; rows given a few at a time where there is a random state. The
 * workspace is no byte larger than the model says. */
static void run(const nsk_model_file *file, random_state *r, int32_t *scores) {
    nsk_model model;
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, file->bytes, file->size), NSK_STATUS_OK);
    size_t row = (size_t)model.width * model.channels;
    uint8_t *frame = g_malloc(row * model.height);
    uint8_t *workspace = malloc(model.workspace_bytes);
    memset(workspace, 0x5a, model.workspace_bytes);
    for (size_t i = 0; i < row * model.height; i++) {
        frame[i] = (uint8_t)(i * 67U % 241U);
    }
    nsk_feed feed;
    nsk_start(&feed, &model, workspace, NULL);
    unsigned left = model.height;
    for (unsigned y = 0; left > 0; y = model.height - left) {
        unsigned count = r != NULL ? 1U + (unsigned)random_below(r, 5) : left;
        left = nsk_feed_rows(&feed, frame + y * row, row, count);
    }
    nsk_run(&model, workspace, NULL);
    memcpy(scores, nsk_scores(&model, workspace), model.classes * sizeof *scores);
    free(workspace);
    g_free(frame);
}

/* Of one frame, on the emulated Cortex-M4. */
static double count_instructions(const nsk_model_file *file) {
    static const uint8_t frame[96 * 96 * 3];
    nsk_error error = {.text = ""};
    nsk_model model;
    emulated_run counted;
    double sum = 0.0;
    char *folder = scratch_new();
    char *model_path = scratch_path(folder, "m.nsk");
    char *frame_path = scratch_path(folder, "f.bin");
    nsk_open(&model, file->bytes, file->size);
    CU_ASSERT(nsk_model_file_write(file, model_path, &error));
    scratch_write(frame_path, frame, (size_t)model.width * model.height * model.channels);
    CU_ASSERT(emulate(emulated_core_named("cortex-m4"), NSK_BARE_METAL "/cortex-m4/replay.elf",
                      model_path, frame_path, NULL, &counted, &error));
    assert_error(&error, "");
    sum = counted.prepare;
    for (int i = 0; i < counted.layers; i++) {
        sum += counted.layer[i];
    }
    emulated_run_clear(&counted);
    g_free(model_path);
    g_free(frame_path);
    scratch_remove(folder);
    return sum;
}

static void compare_ways(const nsk_lowered *net, random_state *r, int *streamed_layers) {
    nsk_error error = {.text = ""};
    nsk_schedule *plain = nsk_schedule_of(net, 0, 1);
    for (guint i = 0; i < net->tensors->len; i++) { /* nothing on top of anything */
        nsk_buffer *b = &plain->buffers[i];
        *b = (nsk_buffer){.bytes = b->bytes, .last = 1};
    }
    nsk_schedule_place(net, plain);
    nsk_model_file *whole = grid_write(net, plain, &error);
    nsk_schedule_free(plain);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(whole);
    int32_t expected[2];
    run(whole, NULL, expected);
    nsk_model_file_free(whole);
    for (int streamed = 0; streamed < (int)net->layers->len; streamed++) {
        nsk_schedule *s = nsk_schedule_of(net, streamed, 1 + random_below(r, 6));
        if (s == NULL) {
            break;
        }
        nsk_schedule_place(net, s);
        nsk_model_file *file = grid_write(net, s, &error);
        nsk_schedule_free(s);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(file);
        int32_t scores[2];
        run(file, r, scores);
        CU_ASSERT_EQUAL(memcmp(scores, expected, sizeof scores), 0);
        nsk_model_file_free(file);
        (*streamed_layers)++;
    }
}

static void random_networks_compute_the_same(void) {
    random_state r = {91};
    int ways = 0;
    for (int round = 0; round < 400; round++) {
        nsk_lowered *net = draw_network(&r);
        compare_ways(net, &r, &ways);
        nsk_lowered_free(net);
    }
    CU_ASSERT(ways > 1500);
}

/* The most bytes alive while one layer of a chain runs, each tensor by itself. */
static uint32_t layer_by_layer(const nsk_model *m) {
    uint32_t most = 0;
    for (unsigned i = 0; i < m->layers; i++) {
        nsk_layer l;
        nsk_layer_decode(m, i, &l);
        uint32_t second =
            l.has_second ? nsk_tensor_bytes(&l.second) : (uint32_t)nsk_layer_scratch(&l);
        most = MAX(most, nsk_tensor_bytes(&l.in) + nsk_tensor_bytes(&l.out) + second);
    }
    return most;
}

/* Whole against streamed as the recipe streams it: the same scores, half of the RAM, and at most a
 * tenth more instructions on a Cortex-M4, with weights in the usual order. */
static void half_the_ram(const nsk_network *network, const nsk_images *images) {
    random_state r = {92};
    nsk_error error = {.text = ""};
    nsk_recipe always;
    nsk_recipe_init(&always);
    always.streaming = NSK_STREAMING_ALWAYS;
    nsk_model_file *files[2] = {nsk_quantise(network, images, NULL, &error),
                                nsk_quantise(network, images, &always, &error)};
    assert_error(&error, "");
    nsk_model whole;
    nsk_model streamed;
    int32_t scores[2][6];
    double instructions[2];
    run(files[0], NULL, scores[0]);
    run(files[1], &r, scores[1]);
    CU_ASSERT_EQUAL(memcmp(scores[0], scores[1], sizeof scores[0]), 0);
    nsk_open(&whole, files[0]->bytes, files[0]->size);
    nsk_open(&streamed, files[1]->bytes, files[1]->size);
    size_t row = (size_t)streamed.width * streamed.channels;
    uint32_t bound = layer_by_layer(&whole);
    CU_ASSERT(streamed.streamed > 0);
    CU_ASSERT(2 * (streamed.workspace_bytes + row) <= bound);
    for (int i = 0; i < 2; i++) {
        instructions[i] = count_instructions(files[i]);
        nsk_model_file_free(files[i]);
    }
    printf("[%u B of %u B, %.1f %% more instructions] ", streamed.workspace_bytes, bound,
           100.0 * (instructions[1] / instructions[0] - 1.0));
    CU_ASSERT(instructions[1] <= 1.1 * instructions[0]);
}

static void the_kiln_line_takes_half_the_ram(void) {
    kiln k;
    kiln_load(&k, 30);
    half_the_ram(k.network, k.calibration);
    kiln_free(&k);
}

/* Depthwise and 1x1 convolutions in turns, on pictures of 96 x 96. */
static void a_larger_network_takes_half_the_ram(void) {
    static const struct {
        int channels, stride;
    } pairs[] = {{16, 1}, {32, 2}, {32, 1}, {64, 2}, {64, 1}, {128, 2}, {128, 1}};
    kiln k;
    nsk_error error = {.text = ""};
    kiln_load(&k, 6);
    nsk_train_net *net = nsk_train_net_new(96, 96, 3);
    nsk_train_add(net, NSK_TRAIN_CONV, 8, 3, 2);
    nsk_train_add(net, NSK_TRAIN_RELU, 0, 1, 1);
    for (size_t i = 0; i < G_N_ELEMENTS(pairs); i++) {
        nsk_train_add(net, NSK_TRAIN_DEPTHWISE, 0, 3, pairs[i].stride);
        nsk_train_add(net, NSK_TRAIN_RELU, 0, 1, 1);
        nsk_train_add(net, NSK_TRAIN_CONV, pairs[i].channels, 1, 1);
        nsk_train_add(net, NSK_TRAIN_RELU, 0, 1, 1);
    }
    nsk_train_add(net, NSK_TRAIN_MEAN_POOL, 0, 1, 1);
    nsk_train_add(net, NSK_TRAIN_DENSE, 6, 1, 1);
    nsk_train_ready(net, 1, 1, 5);
    char *folder = scratch_new();
    char *path = scratch_path(folder, "large.onnx");
    CU_ASSERT(nsk_train_export(net, "large", path, &error));
    nsk_train_net_free(net);
    nsk_input input = k.brief->input;
    input.width = 96;
    input.height = 96;
    nsk_network *network = nsk_network_read(path, &input, NULL, &error);
    nsk_images *images =
        nsk_images_open(k.brief->calibration, &k.brief->labels, &input, 6, false, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(network);
    CU_ASSERT_PTR_NOT_NULL_FATAL(images);
    half_the_ram(network, images);
    nsk_images_free(images);
    nsk_network_free(network);
    g_free(path);
    scratch_remove(folder);
    kiln_free(&k);
}

/* Rows past a frame's end are left, and a feed says how many are to come. */
static void feeds_count_rows(void) {
    kiln k;
    nsk_model model;
    kiln_load(&k, 6);
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, k.file->bytes, k.file->size), NSK_STATUS_OK);
    size_t row = (size_t)model.width * model.channels;
    uint8_t *frame = g_malloc0(row * (model.height + 3U));
    int8_t *workspace = g_malloc(model.workspace_bytes);
    nsk_feed feed;
    nsk_start(&feed, &model, workspace, NULL);
    CU_ASSERT_EQUAL(nsk_feed_rows(&feed, frame, row, 0), model.height);
    CU_ASSERT_EQUAL(nsk_feed_rows(&feed, frame, row, 5), model.height - 5U);
    CU_ASSERT_EQUAL(nsk_feed_rows(&feed, frame + 5 * row, row, model.height - 2U), 0);
    CU_ASSERT_EQUAL(nsk_feed_rows(&feed, frame, row, 7), 0);
    nsk_run(&model, workspace, NULL);
    int32_t scores[6];
    memcpy(scores, nsk_scores(&model, workspace), sizeof scores);
    nsk_prepare(&model, frame, row, workspace);
    nsk_run(&model, workspace, NULL);
    CU_ASSERT_EQUAL(memcmp(scores, nsk_scores(&model, workspace), sizeof scores), 0);
    g_free(workspace);
    g_free(frame);
    kiln_free(&k);
}

/* ---- the plan's checker ---- */

enum { MOST_BYTES = 1 << 20 };

/* What stands in each byte of the workspace: a tensor's row, or nothing. */
typedef struct memory {
    int owner[MOST_BYTES];
    bool good;
} memory;

static int mark_of(int tensor, int row) {
    return tensor * 65536 + row + 1;
}

static void claim(memory *m, const nsk_schedule *s, const nsk_lowered *net, int tensor, int row,
                  int at) {
    const nsk_lowered_tensor *t = nsk_lowered_tensor_at(net, tensor);
    uint32_t bytes = (uint32_t)nsk_lowered_row_bytes(t);
    uint32_t from = s->places[tensor] + (uint32_t)at * bytes;
    m->good = m->good && at < s->rows[tensor] && from + bytes <= s->workspace;
    for (uint32_t i = from; m->good && i < from + bytes; i++) {
        m->owner[i] = mark_of(tensor, row);
    }
}

static void expect(memory *m, const nsk_schedule *s, const nsk_lowered *net, int tensor, int row,
                   int at) {
    const nsk_lowered_tensor *t = nsk_lowered_tensor_at(net, tensor);
    uint32_t bytes = (uint32_t)nsk_lowered_row_bytes(t);
    uint32_t from = s->places[tensor] + (uint32_t)at * bytes;
    for (uint32_t i = from; i < from + bytes; i++) {
        m->good = m->good && m->owner[i] == mark_of(tensor, row);
    }
}

/* Rows [first, made) of a tensor are there. */
typedef struct held {
    int first, made;
} held;

static int root(const nsk_lowered *net, int tensor) {
    return nsk_lowered_tensor_root(net, tensor);
}

/* The input rows that an output row's window spans, within the picture. */
static void needs(const nsk_lowered *net, const nsk_lowered_layer *l, int row, int *from, int *to) {
    bool window = nsk_kind_has_window(l->kind);
    int height = nsk_lowered_tensor_at(net, l->in)->height;
    int64_t first = window ? row * l->window.stride[0] - l->window.pad_before[0] : row;
    int64_t reach = window ? (l->window.kernel[0] - 1) * l->window.dilation[0] : 0;
    *from = (int)CLAMP(first, 0, height);
    *to = (int)MIN(first + reach, height - 1);
}

/* One output row, if all it needs is there; its scratch is written on the way. */
static bool try_row(memory *m, const nsk_schedule *s, const nsk_lowered *net, int layer, held *h) {
    const nsk_lowered_layer *l = nsk_lowered_layer_at(net, layer);
    bool window = nsk_kind_has_window(l->kind);
    int row = h[l->out].made;
    int from;
    int to;
    if (row >= nsk_lowered_tensor_at(net, l->out)->height) {
        return false;
    }
    needs(net, l, row, &from, &to);
    if (to >= h[l->in].made || (!window && l->second != NSK_NONE && to >= h[l->second].made)) {
        return false;
    }
    if (window && l->second != NSK_NONE) {
        for (int y = 0; y < nsk_lowered_tensor_at(net, l->second)->height; y++) {
            claim(m, s, net, l->second, y, y);
        }
    }
    for (int y = from; y <= to; y++) {
        expect(m, s, net, l->in, y, y - h[l->in].first);
        if (!window && l->second != NSK_NONE) {
            expect(m, s, net, l->second, y, y - h[l->second].first);
        }
    }
    claim(m, s, net, l->out, row, row - h[l->out].first);
    h[l->out].made++;
    return true;
}

/* The rows before the first that any streamed layer still needs go, in the tensors that hold a part
 * of theirs. */
static void forget(memory *m, const nsk_schedule *s, const nsk_lowered *net, held *h, int tensors) {
    for (int t = 0; t < tensors; t++) {
        int first = h[t].made;
        for (int i = 0; i < s->streamed; i++) {
            const nsk_lowered_layer *l = nsk_lowered_layer_at(net, i);
            bool reads = l->in == t || (!nsk_kind_has_window(l->kind) && l->second == t);
            int height = nsk_lowered_tensor_at(net, l->out)->height;
            for (int row = h[l->out].made; reads && row < height; row++) {
                int from;
                int to;
                needs(net, l, row, &from, &to);
                first = MIN(first, from);
            }
        }
        if (s->rows[t] < nsk_lowered_tensor_at(net, t)->height && first > h[t].first) {
            h[t].first = first;
            for (int y = first; y < h[t].made; y++) {
                claim(m, s, net, t, y, y - first);
            }
        }
    }
}

/* Rows as they come, every access looked at: nothing that is read has been written over. */
static bool replay_is_clean(const nsk_lowered *net, const nsk_schedule *s) {
    static memory m;
    int tensors = (int)net->tensors->len;
    int layers = (int)net->layers->len;
    held *h = g_new0(held, tensors);
    memset(m.owner, 0, s->workspace * sizeof *m.owner);
    m.good = true;
    for (int y = 0; y < nsk_lowered_tensor_at(net, 0)->height; y++) {
        claim(&m, s, net, 0, y, y - h[0].first);
        h[0].made++;
        bool step = s->streamed > 0 &&
                    ((y + 1) % s->band == 0 || y + 1 == nsk_lowered_tensor_at(net, 0)->height);
        for (bool any = step; any;) {
            any = false;
            for (int i = 0; i < s->streamed; i++) {
                int share =
                    (s->band *
                         nsk_lowered_tensor_at(net, nsk_lowered_layer_at(net, i)->out)->height +
                     nsk_lowered_tensor_at(net, 0)->height - 1) /
                    nsk_lowered_tensor_at(net, 0)->height;
                for (int k = 0; k < share && try_row(&m, s, net, i, h); k++) {
                    any = true;
                }
            }
            forget(&m, s, net, h, tensors);
        }
    }
    for (int i = s->streamed; i < layers; i++) {
        while (try_row(&m, s, net, i, h)) {
        }
    }
    bool all = h[root(net, net->output)].made > 0;
    g_free(h);
    return m.good && all;
}

static void plans_pass_the_replay(void) {
    enum { ROUNDS = 10800 / TESTS_FEWER, PLANS = 10000 / TESTS_FEWER };
    random_state r = {93};
    int clean = 0;
    int plans = 0;
    for (int round = 0; round < ROUNDS; round++) {
        nsk_lowered *net = draw_network(&r);
        int streamed = random_below(&r, (int)net->layers->len - 1); /* but for the scores */
        nsk_schedule *s = nsk_schedule_of(net, streamed, 1 + random_below(&r, 5));
        if (s != NULL) {
            nsk_schedule_place(net, s);
            clean += replay_is_clean(net, s);
            plans++;
        }
        nsk_schedule_free(s);
        nsk_lowered_free(net);
    }
    CU_ASSERT(plans >= PLANS);
    CU_ASSERT_EQUAL(clean, plans);
}

/* ---- what is refused ---- */

static void impossible_streams_are_refused(void) {
    static const struct {
        int table, field, width; /* table: 0 the header, 1 the second layer's record, 2 the first
                                  * streamed tensor's, 3 the second layer's scratch's */
        uint32_t value;
    } cases[] = {
        {0, NSK_H_BAND, 2, 0},        {0, NSK_H_BAND, 2, 2},
        {0, NSK_H_BAND, 2, 24},       {0, NSK_H_STREAMED, 1, 0},
        {0, NSK_H_STREAMED, 1, 200},  {0, NSK_H_STREAMED, 1, 1},
        {0, NSK_H_STREAMED, 1, 4},    {1, NSK_L_KIND, 1, NSK_KIND_DENSE},
        {1, NSK_L_INPUT, 2, 2},       {1, NSK_L_OUTPUT, 2, 1},
        {1, NSK_L_STRIDE_DOWN, 1, 3}, {2, NSK_T_ROWS, 1, 2},
        {2, NSK_T_ROWS, 1, 255},
    };
    static const grid_shape shape = {NSK_KIND_DEPTHWISE, 24, 8, 8, 3, 1};
    nsk_error error = {.text = ""};
    nsk_model model;
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_model_file *file = grid_model(&shape, GRID_STREAMED, &error);
        uint8_t *b = file->bytes;
        CU_ASSERT_EQUAL(nsk_open(&model, b, file->size), NSK_STATUS_OK);
        uint32_t tensors = nsk_load32(b + NSK_H_TENSORS_AT);
        uint8_t *layer = b + nsk_load32(b + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES;
        uint8_t *const at[] = {b, layer, b + tensors + NSK_TENSOR_BYTES};
        for (int k = 0; k < cases[i].width; k++) {
            at[cases[i].table][cases[i].field + k] = (uint8_t)(cases[i].value >> (8 * k));
        }
        uint32_t crc = nsk_crc32(0, b, NSK_H_CRC);
        crc = nsk_crc32(crc, b + NSK_H_WORKSPACE, file->size - NSK_H_WORKSPACE);
        for (int k = 0; k < 4; k++) {
            b[NSK_H_CRC + k] = (uint8_t)(crc >> (8 * k));
        }
        nsk_status status = nsk_open(&model, b, file->size);
        if (status != NSK_STATUS_INCONSISTENT) {
            fprintf(stderr, "\n    case %zu: status %d\n", i, (int)status);
        }
        CU_ASSERT_EQUAL(status, NSK_STATUS_INCONSISTENT);
        nsk_model_file_free(file);
    }
}

/* However large a band the file says: a layer that would make less than nothing never ends. */
static void a_piece_is_no_more_than_the_output(void) {
    static const nsk_link halved = {.in_height = 24, .out_height = 12};
    static const nsk_link tall = {.in_height = 1, .out_height = 64771};
    CU_ASSERT_EQUAL(nsk_link_piece(&halved, 4, 24), 2);
    CU_ASSERT_EQUAL(nsk_link_piece(&halved, 5, 24), 3);
    CU_ASSERT_EQUAL(nsk_link_piece(&halved, 65535, 24), 12);
    CU_ASSERT_EQUAL(nsk_link_piece(&tall, 65535, 1), 64771);
}

CU_TestInfo stream_tests[] = {
    {"random networks compute the same", random_networks_compute_the_same},
    {"feeds count their rows", feeds_count_rows},
    {"the kiln line takes half the RAM", the_kiln_line_takes_half_the_ram},
    {"a larger network takes half the RAM", a_larger_network_takes_half_the_ram},
    {"plans pass the replay", plans_pass_the_replay},
    {"impossible streams are refused", impossible_streams_are_refused},
    {"a piece is no more than the output", a_piece_is_no_more_than_the_output},
    CU_TEST_INFO_NULL,
};
