#include "made.h"

#include <string.h>

#include "device/crc.h"
#include "device/format.h"
#include "device/layer.h"

/* ---- numbers ---- */

uint8_t draw_byte(draws *d) {
    if (d->at < d->end) {
        return *d->at++;
    }
    d->state = d->state * 1664525U + 1013904223U;
    return (uint8_t)(d->state >> 24);
}

static uint32_t draw_16(draws *d) {
    uint32_t low = draw_byte(d);
    return low | (uint32_t)draw_byte(d) << 8;
}

uint32_t draw(draws *d, uint32_t below) {
    return (below <= 256 ? draw_byte(d) : draw_16(d)) % below;
}

bool draw_chance(draws *d, uint32_t of256) {
    return draw_byte(d) < of256;
}

/* Mostly a few, sometimes many. */
static uint32_t draw_size(draws *d) {
    uint32_t way = draw_byte(d);
    return 1U + draw(d, way < 200 ? 6U : way < 240 ? 24U : way < 252 ? 255U : 600U);
}

/* ---- the file ---- */

enum { MOST_LAYERS = 6, MOST_TENSORS = 16 };

typedef struct shape {
    uint32_t height, width, channels;
} shape;

/* A layer's record before it is written. */
typedef struct record {
    uint32_t kind, flags, input, second, output, count;
    uint32_t kernel[2], stride[2], dilate[2], pad[2]; /* down, across */
    int32_t low, high;
    uint32_t weights_at, finish_at, last_at;
} record;

/* Some channels of another tensor; `whole` 0: none. */
typedef struct slice {
    uint32_t whole, first;
} slice;

typedef struct maker {
    draws *d;
    uint8_t *file;
    uint32_t used;
    bool full;
    uint32_t layers, tensors, streamed;
    shape shapes[MOST_TENSORS];
    slice slices[MOST_TENSORS];
    uint32_t places[MOST_TENSORS];
    record records[MOST_LAYERS];
} maker;

static void put8(maker *m, uint32_t at, uint32_t value) {
    m->file[at < MADE_ROOM ? at : MADE_ROOM - 1] = (uint8_t)value;
}

static void put16(maker *m, uint32_t at, uint32_t value) {
    put8(m, at, value);
    put8(m, at + 1, value >> 8);
}

static void put32(maker *m, uint32_t at, uint32_t value) {
    put16(m, at, value);
    put16(m, at + 2, value >> 16);
}

/* Room for so many bytes; past the end, some that are there already. */
static uint32_t take(maker *m, uint32_t bytes, uint32_t align) {
    uint32_t at = (m->used + align - 1) / align * align;
    if (bytes > MADE_ROOM || at + bytes > MADE_ROOM - 64) {
        m->full = true;
        return NSK_HEADER_BYTES;
    }
    m->used = at + bytes;
    return at;
}

static uint32_t take_drawn(maker *m, uint32_t bytes, uint32_t align) {
    uint32_t at = take(m, bytes, align);
    for (uint32_t i = 0; i < bytes && !m->full; i++) {
        put8(m, at + i, draw_byte(m->d));
    }
    return at;
}

/* ---- data of layers ---- */

/* Weights of `outputs` rows, each filled up to `row` bytes by zeroes; small where sums are long. */
static uint32_t take_weights(maker *m, uint32_t outputs, uint32_t taps, uint32_t row) {
    uint32_t at = row <= MADE_ROOM ? take(m, outputs * row, 4) : take(m, MADE_ROOM, 4);
    int share = taps > 2000 ? 64 : taps > 200 ? 8 : 1;
    for (uint32_t i = 0; i < outputs * row && !m->full; i++) {
        int weight = (int8_t)draw_byte(m->d) / share;
        put8(m, at + i, i % row < taps ? (uint32_t)(weight == -128 ? -127 : weight) : 0U);
    }
    return at;
}

/* Factor, shift and bias of each output. */
static uint32_t take_finish(maker *m, uint32_t outputs) {
    uint32_t at = take(m, 4 * outputs, 4);
    for (uint32_t c = 0; c < outputs && !m->full; c++) {
        uint32_t bias = (uint32_t)((int16_t)draw_16(m->d) / 8) << 9;
        put32(m, at + 4 * c, bias | (1U + draw(m->d, 31)) << 4 | (1U + draw(m->d, 15)));
    }
    return at;
}

/* `count` multipliers of 31 bits at last_at, their shifts at weights_at. */
static void take_multipliers(maker *m, record *r, uint32_t count) {
    r->last_at = take(m, 4 * count, 4);
    r->weights_at = take(m, count, 1);
    for (uint32_t i = 0; i < count && !m->full; i++) {
        put32(m, r->last_at + 4 * i, 1U << 30 | draw_16(m->d) << 14 | draw_16(m->d) >> 2);
        put8(m, r->weights_at + i, 1U + draw(m->d, 62));
    }
}

/* ---- a function a kind: from the input's shape to the output's, and its data ---- */

static shape input_of(const maker *m, const record *r) {
    return m->shapes[r->input];
}

static uint32_t window_size(maker *m, const record *r, int axis, uint32_t in) {
    uint32_t reach = (r->kernel[axis] - 1) * r->dilate[axis] + 1;
    uint32_t room = in + 2 * r->pad[axis];
    bool usual = draw_chance(m->d, 200) && room >= reach;
    uint32_t most = (in + r->pad[axis] - 1) / r->stride[axis] + 1;
    uint32_t size = usual ? (room - reach) / r->stride[axis] + 1 : most;
    size = size < most ? size : most;
    return size > 1 && draw_chance(m->d, 8) ? size - 1 : size; /* leaves something out */
}

static shape window_shape(maker *m, const record *r, uint32_t channels) {
    shape in = input_of(m, r);
    shape out = {window_size(m, r, 0, in.height), window_size(m, r, 1, in.width), channels};
    return out;
}

/* Groups that divide both sides. */
static void draw_groups(maker *m, record *r, uint32_t *outputs) {
    uint32_t inputs = input_of(m, r).channels;
    uint32_t groups = draw_chance(m->d, 60) ? 1U + draw(m->d, 4) : 1U;
    r->count = inputs % groups == 0 ? groups : 1U;
    *outputs = (*outputs + r->count - 1) / r->count * r->count;
}

static shape make_conv(maker *m, record *r) {
    uint32_t outputs = draw_size(m->d);
    draw_groups(m, r, &outputs);
    if (input_of(m, r).channels > 258 &&
        draw_chance(m->d, 100)) { /* more taps than any convolution may have */
        r->kernel[0] = r->kernel[1] = 255;
        r->dilate[0] = r->dilate[1] = 1;
        r->pad[0] = r->pad[1] = 127;
    }
    uint32_t taps = r->kernel[0] * r->kernel[1] * (input_of(m, r).channels / r->count);
    bool absurd = taps > NSK_MOST_TAPS;
    r->weights_at = absurd ? m->used : take_weights(m, outputs, taps, (taps + 3) / 4 * 4);
    r->finish_at = take_finish(m, outputs);
    return window_shape(m, r, outputs);
}

static shape make_transposed(maker *m, record *r) {
    uint32_t outputs = draw_size(m->d);
    draw_groups(m, r, &outputs);
    uint32_t taps = r->kernel[0] * r->kernel[1] * (input_of(m, r).channels / r->count);
    r->weights_at = take_weights(m, outputs, taps, taps);
    r->finish_at = take_finish(m, outputs);
    shape out = {1U + draw(m->d, 20), 1U + draw(m->d, 20), outputs};
    return out;
}

static shape make_depthwise(maker *m, record *r) {
    uint32_t times = draw_chance(m->d, 60) ? 1U + draw(m->d, 3) : 1U;
    uint32_t outputs = input_of(m, r).channels * times;
    uint32_t taps = r->kernel[0] * r->kernel[1];
    r->weights_at = take_weights(m, taps, outputs, outputs);
    r->finish_at = take_finish(m, outputs);
    return window_shape(m, r, outputs);
}

static shape make_dense(maker *m, record *r) {
    shape in = input_of(m, r);
    shape out = {1, 1, draw_size(m->d)};
    uint32_t taps = in.height * in.width * in.channels;
    r->weights_at = take_weights(m, out.channels, taps, (taps + 3) / 4 * 4);
    r->finish_at = take_finish(m, out.channels);
    return out;
}

static shape make_max_pool(maker *m, record *r) {
    return window_shape(m, r, input_of(m, r).channels);
}

static shape make_average_pool(maker *m, record *r) {
    shape in = input_of(m, r);
    if (draw_chance(m->d, 100) && in.height < 256 && in.width < 256) { /* of the whole picture */
        r->kernel[0] = in.height;
        r->kernel[1] = in.width;
        r->dilate[0] = r->dilate[1] = 1;
        r->pad[0] = r->pad[1] = 0;
    }
    bool counted = (r->flags & NSK_FLAG_COUNTED) != 0;
    take_multipliers(m, r, counted ? r->kernel[0] * r->kernel[1] : 1);
    return window_shape(m, r, in.channels);
}

static shape make_sum(maker *m, record *r) {
    r->last_at = take(m, 8, 4);
    put32(m, r->last_at, draw_16(m->d) * (draw_chance(m->d, 128) ? 1U : UINT32_MAX));
    put32(m, r->last_at + 4, draw_16(m->d));
    r->weights_at = take(m, 1, 1);
    put8(m, r->weights_at, 1U + draw(m->d, 30));
    return input_of(m, r);
}

static shape make_multiply(maker *m, record *r) {
    take_multipliers(m, r, 1);
    return input_of(m, r);
}

static shape make_table(maker *m, record *r) {
    r->weights_at = take_drawn(m, 256, 1);
    return input_of(m, r);
}

static shape make_softmax(maker *m, record *r) {
    r->weights_at = take_drawn(m, 4 * NSK_SOFTMAX_ENTRIES, 2);
    put16(m, r->weights_at, 65535);
    put16(m, r->weights_at + 2 * NSK_SOFTMAX_ENTRIES, 65535);
    return input_of(m, r);
}

static shape draw_shape(maker *m) {
    shape s = {draw_size(m->d), draw_size(m->d), draw_size(m->d)};
    return s;
}

static shape make_constant(maker *m, record *r) {
    shape out = draw_shape(m);
    if (draw_chance(m->d, 40)) {
        out = (shape){1, 1, 1U + draw(m->d, 600)};
    }
    r->weights_at = take_drawn(m, out.height * out.width * out.channels, 1);
    return out;
}

static shape make_resize(maker *m, record *r) {
    shape in = input_of(m, r);
    shape out = {1U + draw(m->d, 16), 1U + draw(m->d, 16), in.channels};
    r->weights_at = take(m, NSK_BLEND_BYTES * (out.height + out.width), 2);
    for (uint32_t i = 0; i < out.height + out.width && !m->full; i++) {
        uint32_t at = r->weights_at + NSK_BLEND_BYTES * i;
        uint32_t size = i < out.height ? in.height : in.width;
        put16(m, at + NSK_B_FIRST, draw(m->d, size));
        put16(m, at + NSK_B_SECOND, draw(m->d, size));
        put16(m, at + NSK_B_PART, draw(m->d, 2049));
    }
    return out;
}

/* A loop of a move; one that goes backwards starts at its other end. */
static void put_loop(maker *m, const record *r, uint32_t loop, uint32_t count,
                     const uint32_t steps[2]) {
    put32(m, r->last_at + 4 * (NSK_M_LOOPS + 3 * loop), count);
    for (uint32_t side = 0; side < 2; side++) {
        bool backwards = draw_chance(m->d, 30);
        uint32_t origin = r->last_at + 4 * (NSK_M_IN_ORIGIN + side);
        uint32_t step = backwards ? 0U - steps[side] : steps[side];
        step = draw_chance(m->d, 1) ? 1U << 30 : step;
        put32(m, r->last_at + 4 * (NSK_M_LOOPS + 3 * loop + 1 + side), step);
        if (backwards && !m->full) {
            put32(m, origin, nsk_load32(m->file + origin) + steps[side] * (count - 1));
        }
    }
}

static shape make_move(maker *m, record *r) {
    shape in = input_of(m, r);
    shape out = draw_shape(m);
    const uint32_t room[2] = {in.height * in.width * in.channels,
                              out.height * out.width * out.channels};
    uint32_t steps[2] = {1, 1};
    r->count = 1U + draw(m->d, NSK_MOST_LOOPS);
    r->last_at = take(m, 4 * (NSK_M_LOOPS + 3 * r->count), 4);
    r->weights_at = take_drawn(m, 256, 1);
    put32(m, r->last_at, draw_byte(m->d));
    for (uint32_t k = 0; k < r->count; k++) {
        uint32_t count = 1U + draw(m->d, 6);
        bool fits = steps[0] * count <= room[0] && steps[1] * count <= room[1];
        count = fits ? count : 1;
        put_loop(m, r, k, count, steps);
        steps[0] *= count;
        steps[1] *= count;
    }
    return out;
}

static shape (*const makers[NSK_KINDS])(maker *,
                                        record *) = {[NSK_CONV] = make_conv,
                                                     [NSK_DEPTHWISE] = make_depthwise,
                                                     [NSK_DENSE] = make_dense,
                                                     [NSK_MAX_POOL] = make_max_pool,
                                                     [NSK_ADD] = make_sum,
                                                     [NSK_AVERAGE_POOL] = make_average_pool,
                                                     [NSK_MULTIPLY] = make_multiply,
                                                     [NSK_TABLE] = make_table,
                                                     [NSK_SOFTMAX] = make_softmax,
                                                     [NSK_LARGER] = make_sum,
                                                     [NSK_SMALLER] = make_sum,
                                                     [NSK_MOVE] = make_move,
                                                     [NSK_CONSTANT] = make_constant,
                                                     [NSK_RESIZE] = make_resize,
                                                     [NSK_TRANSPOSED] = make_transposed};

/* ---- layers ---- */

static uint32_t no_more(uint32_t value, uint32_t most) {
    return value < most ? value : most;
}

static void draw_window(maker *m, record *r) {
    draws *d = m->d;
    uint32_t usual = draw_byte(d);
    for (int axis = 0; axis < 2; axis++) {
        r->kernel[axis] = usual < 90 ? 3U : usual < 130 ? 1U : no_more(draw_size(d), 255);
        r->stride[axis] = draw_chance(d, 160) ? 1U : no_more(draw_size(d), 255);
        r->dilate[axis] = draw_chance(d, 180) ? 1U : 1U + draw(d, draw_chance(d, 200) ? 4 : 255);
        uint32_t reach = (r->kernel[axis] - 1) * r->dilate[axis];
        bool half = draw_chance(d, 128); /* as many as usual */
        r->pad[axis] = half ? no_more(reach / 2, 255) : draw(d, no_more(reach, 255) + 1);
    }
    if (draw_chance(d, 160)) {
        r->stride[1] = r->stride[0];
        r->dilate[1] = r->dilate[0];
    }
}

static void draw_clamp(maker *m, record *r) {
    int32_t a = (int8_t)draw_byte(m->d);
    int32_t b = (int8_t)draw_byte(m->d);
    bool plain = draw_chance(m->d, 128);
    r->low = plain ? -128 : a < b ? a : b;
    r->high = plain ? 127 : a < b ? b : a;
}

/* Which kinds can run while a frame comes in. */
static const uint8_t streamable[] = {NSK_CONV,         NSK_DEPTHWISE, NSK_MAX_POOL,
                                     NSK_AVERAGE_POOL, NSK_ADD,       NSK_MULTIPLY,
                                     NSK_TABLE,        NSK_LARGER,    NSK_SMALLER};

static bool is_of_two(uint32_t kind) {
    return kind == NSK_ADD || kind == NSK_MULTIPLY || kind == NSK_LARGER || kind == NSK_SMALLER;
}

/* The last layer gives a number a class: a dense one, whatever came before, or one of a pixel. */
static uint32_t draw_kind(maker *m, uint32_t index) {
    bool last = index + 1 == m->layers;
    uint32_t kind = index < m->streamed ? streamable[draw(m->d, sizeof streamable)]
                                        : 1U + draw(m->d, NSK_KINDS - 1);
    const shape *in = &m->shapes[index];
    bool pixel = in->height * in->width == 1;
    bool keeps = is_of_two(kind) || kind == NSK_TABLE || kind == NSK_SOFTMAX;
    bool ends = kind == NSK_DENSE || kind == NSK_AVERAGE_POOL || (pixel && keeps);
    return last && !ends && draw_chance(m->d, 250) ? NSK_DENSE : kind;
}

/* Two pictures of one size become parts of a third, which is read instead; now and then they are
 * in each other's way. */
static uint32_t join(maker *m, uint32_t left, uint32_t right) {
    const shape *a = &m->shapes[left];
    const shape *b = &m->shapes[right];
    uint32_t whole = m->layers + 1U + draw(m->d, 3);
    bool can = left > 0 && whole < m->tensors && m->shapes[whole].height == 0 &&
               m->slices[left].whole == 0 && a->height == b->height && a->width == b->width;
    if (!can || draw_chance(m->d, 60)) {
        return right;
    }
    m->shapes[whole] = (shape){a->height, a->width, a->channels + b->channels};
    m->slices[left].whole = m->slices[right].whole = whole;
    m->slices[right].first = a->channels - (draw_chance(m->d, 30) ? 1 : 0);
    return whole;
}

static void make_layer(maker *m, uint32_t index) {
    record *r = &m->records[index];
    const record *before = index > 0 ? r - 1 : NULL;
    r->kind = draw_kind(m, index);
    r->flags = draw(m->d, 16);
    r->input = draw_chance(m->d, 40) ? draw(m->d, index + 1) : index;
    r->second = NSK_NO_TENSOR;
    if (is_of_two(r->kind)) {
        r->second = draw_chance(m->d, 200) ? r->input : draw(m->d, m->layers + 1);
    }
    r->output = index + 1;
    r->count = 1;
    draw_window(m, r);
    draw_clamp(m, r);
    if (before != NULL && draw_chance(m->d, 60)) { /* beside the one before */
        *r = (record){.kind = r->kind,
                      .flags = r->flags,
                      .input = before->input,
                      .count = 1,
                      .second = r->second,
                      .output = index + 1,
                      .low = r->low,
                      .high = r->high};
        memcpy(r->kernel, before->kernel, 4 * sizeof r->kernel);
    } else if (before != NULL && r->input == index) {
        r->input = join(m, index - 1, index);
    }
    m->shapes[r->output] = makers[r->kind](m, r);
}

static void put_layer(maker *m, uint32_t at, const record *r) {
    const uint32_t bytes[] = {r->kernel[0],     r->kernel[1],     r->stride[0], r->stride[1],
                              r->dilate[0],     r->dilate[1],     r->pad[0],    r->pad[1],
                              (uint32_t)r->low, (uint32_t)r->high};
    put8(m, at + NSK_L_KIND, r->kind);
    put8(m, at + NSK_L_FLAGS, r->flags);
    put16(m, at + NSK_L_INPUT, r->input);
    put16(m, at + NSK_L_SECOND, r->second);
    put16(m, at + NSK_L_OUTPUT, r->output);
    for (uint32_t i = 0; i < sizeof bytes / sizeof *bytes; i++) {
        put8(m, at + NSK_L_KERNEL_HEIGHT + i, bytes[i]);
    }
    put16(m, at + NSK_L_COUNT, r->count);
    put32(m, at + NSK_L_WEIGHTS_AT, r->weights_at);
    put32(m, at + NSK_L_FINISH_AT, r->finish_at);
    put32(m, at + NSK_L_MULTIPLIERS_AT, r->last_at);
}

/* ---- the plan ---- */

/* Where a tensor begins, `end` being the end of those before: behind them; before what its layer
 * reads, so that it may be written over; or where something else may be, too. */
static uint32_t draw_place(maker *m, uint32_t tensor, uint32_t end, bool apart) {
    uint32_t way = apart ? 255 : draw_byte(m->d);
    if (way < 60 && tensor > 0 && tensor <= m->layers) {
        uint32_t before = draw(m->d, 64) * 4U;
        uint32_t input = m->places[m->records[tensor - 1].input];
        return input > before ? input - before : 0;
    }
    return way < 128 && end > 8 ? draw(m->d, no_more(end, 65536)) / 4 * 4 : (end + 3) / 4 * 4;
}

/* Rows that a tensor between streamed layers holds; 0: all. */
static uint32_t draw_rows(maker *m, uint32_t tensor) {
    uint32_t height = m->shapes[tensor].height;
    bool between = m->streamed > 0 && tensor <= m->streamed && height < 255;
    if (!between || draw_chance(m->d, 90)) {
        return 0;
    }
    return draw_chance(m->d, 100) ? 1U + draw(m->d, height) : (height + 1) / 2;
}

/* A tensor that no layer made: the whole of some slice, or nobody's. */
static void draw_other(maker *m, uint32_t tensor) {
    uint32_t part = 1U + draw(m->d, m->layers);
    if (m->shapes[tensor].height > 0) {
        return;
    }
    m->shapes[tensor] = draw_shape(m);
    if (m->slices[part].whole == 0) {
        uint32_t more = draw(m->d, 4);
        m->shapes[tensor] = m->shapes[part];
        m->shapes[tensor].channels += more;
        m->slices[part] = (slice){tensor, draw(m->d, more + 1)};
    }
}

static void put_tensor(maker *m, uint32_t at, uint32_t tensor, uint32_t place, uint32_t rows) {
    const shape *s = &m->shapes[tensor];
    const slice *part = &m->slices[tensor];
    put32(m, at + NSK_T_PLACE, part->whole > 0 ? part->first : place);
    put16(m, at + NSK_T_HEIGHT, s->height);
    put16(m, at + NSK_T_WIDTH, s->width);
    put16(m, at + NSK_T_CHANNELS, s->channels);
    put8(m, at + NSK_T_ZERO, draw_byte(m->d));
    put8(m, at + NSK_T_ROWS, part->whole > 0 ? NSK_SLICE : rows);
    put32(m, at + NSK_T_SCALE, part->whole > 0 ? part->whole : 0x3c000000);
}

/* Returns the end of all tensors. */
static uint32_t put_tensors(maker *m, uint32_t tensors_at) {
    bool apart = draw_chance(m->d, 140);
    uint32_t end = apart ? 0 : draw(m->d, 64) * 4U;
    for (uint32_t t = m->layers + 1; t < m->tensors; t++) {
        draw_other(m, t);
    }
    for (uint32_t t = 0; t < m->tensors; t++) {
        const shape *s = &m->shapes[t];
        uint32_t rows = draw_rows(m, t);
        uint32_t bytes = (rows > 0 ? rows : s->height) * s->width * s->channels;
        m->places[t] = draw_place(m, t, end, apart);
        end = m->places[t] + bytes > end ? m->places[t] + bytes : end;
        put_tensor(m, tensors_at + t * NSK_TENSOR_BYTES, t, m->places[t], rows);
    }
    return (end + 3) / 4 * 4;
}

/* Each scratch behind the tensors, exactly as large as is asked for; now and then among them. */
static void put_scratches(maker *m, uint32_t layers_at, uint32_t end) {
    enum { MOST_WORKSPACE = 1 << 21 };
    nsk_model model = {.bytes = m->file,
                       .size = m->used,
                       .tensors = (uint16_t)m->tensors,
                       .layers = (uint16_t)m->layers};
    uint32_t most = end;
    for (uint32_t i = 0; i < m->layers; i++) {
        nsk_layer layer;
        uint32_t kind = m->records[i].kind;
        if (kind != NSK_CONV && kind != NSK_DEPTHWISE) {
            continue;
        }
        nsk_layer_decode(&model, i, &layer);
        uint32_t place = draw_chance(m->d, 20) ? draw(m->d, 1024) * 4U : end;
        uint64_t need = place + nsk_layer_scratch(&layer);
        most = need > most && need < MOST_WORKSPACE ? (uint32_t)need : most;
        put32(m, layers_at + i * NSK_LAYER_BYTES + NSK_L_SCRATCH_AT, place);
    }
    put32(m, NSK_H_WORKSPACE, most);
}

/* ---- the header ---- */

/* Tables of a byte each, or lines. */
static uint32_t take_preparation(maker *m, uint32_t tables) {
    uint32_t channels = m->shapes[0].channels;
    if (tables > 0) {
        return take_drawn(m, 256 * tables, 4);
    }
    uint32_t at = take(m, NSK_LINE_BYTES * channels, 4);
    for (uint32_t c = 0; c < channels && !m->full; c++) {
        put32(m, at + NSK_LINE_BYTES * c, 1U + draw(m->d, 32768));
        put32(m, at + NSK_LINE_BYTES * c + 4, 0U - (draw(m->d, 128) << 16));
    }
    return at;
}

static void put_header(maker *m, uint32_t classes) {
    const shape *frame = &m->shapes[0];
    bool grey = frame->channels == 1;
    uint32_t tables = draw_chance(m->d, 128) ? 0 : draw_chance(m->d, 128) ? 1 : frame->channels;
    uint32_t prepare_at = take_preparation(m, tables);
    uint32_t labels_at = take(m, 4 * classes, 4);
    uint32_t facts_at = take(m, 4 * NSK_FACTS, 4);
    uint32_t name_at = take(m, 4, 4);
    for (uint32_t i = 0; i < classes && !m->full; i++) {
        put32(m, labels_at + 4 * i, name_at);
    }
    for (uint32_t i = 0; i < NSK_FACTS && !m->full; i++) {
        put32(m, facts_at + 4 * i, name_at);
    }
    for (uint32_t i = 0; i < m->layers; i++) {
        put32(m, nsk_load32(m->file + NSK_H_LAYERS_AT) + i * NSK_LAYER_BYTES + NSK_L_NAME_AT,
              name_at);
    }
    put32(m, name_at, 'n');
    put32(m, NSK_H_MAGIC, NSK_MAGIC);
    put16(m, NSK_H_VERSION, NSK_VERSION);
    put16(m, NSK_H_HEADER_BYTES, NSK_HEADER_BYTES);
    put16(m, NSK_H_LAYERS, m->layers);
    put16(m, NSK_H_TENSORS, m->tensors);
    put16(m, NSK_H_CLASSES, classes);
    put16(m, NSK_H_OUTPUT, m->layers);
    put16(m, NSK_H_WIDTH, frame->width);
    put16(m, NSK_H_HEIGHT, frame->height);
    put8(m, NSK_H_CHANNELS, frame->channels);
    put8(m, NSK_H_COLOUR, grey ? NSK_GREY : draw(m->d, 2));
    put8(m, NSK_H_FIT, draw(m->d, 3));
    put8(m, NSK_H_TABLES, tables);
    put8(m, NSK_H_RESAMPLE, draw(m->d, NSK_RESAMPLES));
    put8(m, NSK_H_STREAMED, m->streamed);
    put32(m, NSK_H_PREPARE_AT, prepare_at);
    put32(m, NSK_H_LABELS_AT, labels_at);
    put32(m, NSK_H_FACTS_AT, facts_at);
    put16(m, NSK_H_BAND, m->streamed > 0 ? 1U + draw(m->d, 4) : 0);
}

uint32_t made_model(draws *d, uint8_t *file) {
    maker m = {.d = d, .file = file, .used = NSK_HEADER_BYTES};
    memset(file, 0, MADE_ROOM);
    m.layers = 1U + draw(d, MOST_LAYERS);
    m.tensors = m.layers + 1U + (draw_chance(d, 70) ? draw(d, 4) : 0);
    m.streamed = draw_chance(d, 110) ? 1U + draw(d, m.layers) : 0;
    uint32_t tensors_at = take(&m, m.tensors * NSK_TENSOR_BYTES, 4);
    uint32_t layers_at = take(&m, m.layers * NSK_LAYER_BYTES, 4);
    m.shapes[0] = (shape){draw_size(d), draw_size(d), draw_chance(d, 128) ? 3 : 1};
    for (uint32_t i = 0; i < m.layers && !m.full; i++) {
        make_layer(&m, i);
    }
    if (m.full) {
        return 0;
    }
    put32(&m, NSK_H_TENSORS_AT, tensors_at);
    put32(&m, NSK_H_LAYERS_AT, layers_at);
    uint32_t end = put_tensors(&m, tensors_at);
    for (uint32_t i = 0; i < m.layers; i++) {
        put_layer(&m, layers_at + i * NSK_LAYER_BYTES, &m.records[i]);
    }
    put_header(&m, m.shapes[m.layers].channels);
    if (!m.full) {
        put_scratches(&m, layers_at, end);
    }
    return m.full ? 0 : m.used;
}

void made_twist(draws *d, uint8_t *file, uint32_t size) {
    for (uint32_t left = 1U + draw(d, 4); left > 0; left--) {
        uint32_t records = NSK_HEADER_BYTES + NSK_TENSOR_BYTES * nsk_load16(file + NSK_H_TENSORS) +
                           NSK_LAYER_BYTES * nsk_load16(file + NSK_H_LAYERS);
        uint32_t at = draw(d, draw_chance(d, 200) && records < size ? records : size);
        const uint8_t byte = file[at];
        const uint8_t changed[] = {draw_byte(d),
                                   (uint8_t)(byte + 1),
                                   (uint8_t)(byte - 1),
                                   255,
                                   0,
                                   (uint8_t)(byte ^ 1U << draw(d, 8))};
        file[at] = changed[draw(d, sizeof changed)];
    }
}

void made_seal(uint8_t *file, uint32_t size) {
    for (uint32_t i = 0; i < 4; i++) {
        file[NSK_H_SIZE + i] = (uint8_t)(size >> (8 * i));
    }
    uint32_t crc = nsk_crc32(0, file, NSK_H_CRC);
    crc = nsk_crc32(crc, file + NSK_H_WORKSPACE, size - NSK_H_WORKSPACE);
    for (uint32_t i = 0; i < 4; i++) {
        file[NSK_H_CRC + i] = (uint8_t)(crc >> (8 * i));
    }
}
