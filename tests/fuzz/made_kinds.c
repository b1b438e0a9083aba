/* What each kind of layer has, drawn. */
#include "maker.h"

/* ---- data of layers ---- */

/* Weights of `outputs` rows, each filled up to `row` bytes by zeroes; small where sums are long. */
static uint32_t take_weights(maker *m, uint32_t outputs, uint32_t taps, uint32_t row) {
    uint32_t at = row <= MADE_ROOM ? made_take(m, outputs * row, 4) : made_take(m, MADE_ROOM, 4);
    int share = taps > 2000 ? 64 : taps > 200 ? 8 : 1;
    for (uint32_t i = 0; i < outputs * row && !m->full; i++) {
        int weight = (int8_t)draw_byte(m->d) / share;
        made_put8(m, at + i, i % row < taps ? (uint32_t)(weight == -128 ? -127 : weight) : 0U);
    }
    return at;
}

/* Factor, shift and bias of each output. */
static uint32_t take_requantise(maker *m, uint32_t outputs) {
    uint32_t at = made_take(m, 4 * outputs, 4);
    for (uint32_t c = 0; c < outputs && !m->full; c++) {
        int32_t bias = (int16_t)made_draw_16(m->d) / 8 * 512;
        made_put32(m, at + 4 * c,
                   (uint32_t)bias | (1U + draw(m->d, 31)) << 4 | (1U + draw(m->d, 15)));
    }
    return at;
}

/* `count` multipliers of 31 bits at last_at, their shifts at weights_at. */
static void take_multipliers(maker *m, record *r, uint32_t count) {
    r->last_at = made_take(m, 4 * count, 4);
    r->weights_at = made_take(m, count, 1);
    for (uint32_t i = 0; i < count && !m->full; i++) {
        made_put32(m, r->last_at + 4 * i,
                   1U << 30 | made_draw_16(m->d) << 14 | made_draw_16(m->d) >> 2);
        made_put8(m, r->weights_at + i, 1U + draw(m->d, 62));
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
    uint32_t outputs = made_draw_size(m->d);
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
    r->requantise_at = take_requantise(m, outputs);
    return window_shape(m, r, outputs);
}

static shape make_transposed(maker *m, record *r) {
    uint32_t outputs = made_draw_size(m->d);
    draw_groups(m, r, &outputs);
    uint32_t taps = r->kernel[0] * r->kernel[1] * (input_of(m, r).channels / r->count);
    r->weights_at = take_weights(m, outputs, taps, taps);
    r->requantise_at = take_requantise(m, outputs);
    shape out = {1U + draw(m->d, 20), 1U + draw(m->d, 20), outputs};
    return out;
}

static shape make_depthwise(maker *m, record *r) {
    uint32_t times = draw_chance(m->d, 60) ? 1U + draw(m->d, 3) : 1U;
    uint32_t outputs = input_of(m, r).channels * times;
    uint32_t taps = r->kernel[0] * r->kernel[1];
    r->weights_at = take_weights(m, taps, outputs, outputs);
    r->requantise_at = take_requantise(m, outputs);
    return window_shape(m, r, outputs);
}

static shape make_dense(maker *m, record *r) {
    shape in = input_of(m, r);
    shape out = {1, 1, made_draw_size(m->d)};
    uint32_t taps = in.height * in.width * in.channels;
    r->weights_at = take_weights(m, out.channels, taps, (taps + 3) / 4 * 4);
    r->requantise_at = take_requantise(m, out.channels);
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
    r->last_at = made_take(m, 8, 4);
    int32_t first = (int32_t)made_draw_16(m->d);
    made_put32(m, r->last_at, (uint32_t)(draw_chance(m->d, 128) ? first : -first));
    made_put32(m, r->last_at + 4, made_draw_16(m->d));
    r->weights_at = made_take(m, 1, 1);
    made_put8(m, r->weights_at, 1U + draw(m->d, 30));
    return input_of(m, r);
}

static shape make_multiply(maker *m, record *r) {
    take_multipliers(m, r, 1);
    return input_of(m, r);
}

/* Of as many rows and channels, now and then. */
static shape make_matmul(maker *m, record *r) {
    shape in = input_of(m, r);
    const shape *second = &m->shapes[r->second < m->tensors ? r->second : r->input];
    take_multipliers(m, r, 1);
    return (shape){in.height, in.width, second->width > 0 ? second->width : 1};
}

static shape make_table(maker *m, record *r) {
    r->weights_at = made_take_drawn(m, 256, 1);
    return input_of(m, r);
}

static shape make_fine_table(maker *m, record *r) {
    r->weights_at = made_take_drawn(m, 2 * 257, 2);
    return input_of(m, r);
}

static shape make_softmax(maker *m, record *r) {
    r->weights_at = made_take_drawn(m, 4 * NSK_SOFTMAX_ENTRIES, 2);
    made_put16(m, r->weights_at, 65535);
    made_put16(m, r->weights_at + 2 * NSK_SOFTMAX_ENTRIES, 65535);
    return input_of(m, r);
}

/* Gains, offsets, what is added to the variance, a shift. */
static shape make_normalise(maker *m, record *r) {
    shape in = input_of(m, r);
    uint32_t groups = draw_chance(m->d, 80) ? 1U + draw(m->d, 6) : 1U;
    r->count = in.channels % groups == 0 ? groups : 1U;
    r->flags = draw_chance(m->d, 180) ? NSK_FLAG_CENTRED : 0U;
    r->weights_at = made_take(m, 2 * in.channels, 4);
    r->requantise_at = made_take(m, 4 * in.channels, 4);
    r->last_at = made_take(m, 4 * NSK_N_WORDS, 4);
    for (uint32_t c = 0; c < in.channels && !m->full; c++) {
        made_put16(m, r->weights_at + 2 * c, made_draw_16(m->d) / 4U);
        made_put32(m, r->requantise_at + 4 * c, made_draw_16(m->d) << 12);
    }
    bool large = draw_chance(m->d, 60);
    made_put32(m, r->last_at + 4 * NSK_N_LEAST, 1U + made_draw_16(m->d));
    made_put32(m, r->last_at + 4 * (NSK_N_LEAST + 1), large ? made_draw_16(m->d) << 14 : 0U);
    made_put32(m, r->last_at + 4 * NSK_N_SHIFT, draw(m->d, 31));
    return in;
}

shape made_draw_shape(maker *m) {
    shape s = {made_draw_size(m->d), made_draw_size(m->d), made_draw_size(m->d)};
    return s;
}

static shape make_constant(maker *m, record *r) {
    shape out = made_draw_shape(m);
    if (draw_chance(m->d, 40)) {
        out = (shape){1, 1, 1U + draw(m->d, 600)};
    }
    r->weights_at = made_take_drawn(m, out.height * out.width * out.channels, 1);
    return out;
}

static shape make_resize(maker *m, record *r) {
    shape in = input_of(m, r);
    shape out = {1U + draw(m->d, 16), 1U + draw(m->d, 16), in.channels};
    r->weights_at = made_take(m, NSK_BLEND_BYTES * (out.height + out.width), 2);
    for (uint32_t i = 0; i < out.height + out.width && !m->full; i++) {
        uint32_t at = r->weights_at + NSK_BLEND_BYTES * i;
        uint32_t size = i < out.height ? in.height : in.width;
        made_put16(m, at + NSK_B_FIRST, draw(m->d, size));
        made_put16(m, at + NSK_B_SECOND, draw(m->d, size));
        made_put16(m, at + NSK_B_PART, draw(m->d, 2049));
    }
    return out;
}

/* A loop of a move; one that goes backwards starts at its other end. */
static void put_loop(maker *m, const record *r, uint32_t loop, uint32_t count,
                     const uint32_t steps[2]) {
    made_put32(m, r->last_at + 4 * (NSK_M_LOOPS + 3 * loop), count);
    for (uint32_t side = 0; side < 2; side++) {
        bool backwards = draw_chance(m->d, 30);
        uint32_t origin = r->last_at + 4 * (NSK_M_IN_ORIGIN + side);
        uint32_t step = (uint32_t)(backwards ? -(int64_t)steps[side] : (int64_t)steps[side]);
        step = draw_chance(m->d, 1) ? 1U << 30 : step;
        made_put32(m, r->last_at + 4 * (NSK_M_LOOPS + 3 * loop + 1 + side), step);
        if (backwards && !m->full) {
            made_put32(m, origin, nsk_load32(m->file + origin) + steps[side] * (count - 1));
        }
    }
}

static shape make_move(maker *m, record *r) {
    shape in = input_of(m, r);
    shape out = made_draw_shape(m);
    const uint32_t room[2] = {in.height * in.width * in.channels,
                              out.height * out.width * out.channels};
    uint32_t steps[2] = {1, 1};
    r->count = 1U + draw(m->d, NSK_MOST_LOOPS);
    r->last_at = made_take(m, 4 * (NSK_M_LOOPS + 3 * r->count), 4);
    r->weights_at = made_take_drawn(m, 256, 1);
    made_put32(m, r->last_at, draw_byte(m->d));
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

shape (*const made_kinds[NSK_KINDS])(maker *,
                                     record *) = {[NSK_KIND_CONV] = make_conv,
                                                  [NSK_KIND_DEPTHWISE] = make_depthwise,
                                                  [NSK_KIND_DENSE] = make_dense,
                                                  [NSK_KIND_MAX_POOL] = make_max_pool,
                                                  [NSK_KIND_ADD] = make_sum,
                                                  [NSK_KIND_AVERAGE_POOL] = make_average_pool,
                                                  [NSK_KIND_MULTIPLY] = make_multiply,
                                                  [NSK_KIND_MATMUL] = make_matmul,
                                                  [NSK_KIND_LUT] = make_table,
                                                  [NSK_KIND_SOFTMAX] = make_softmax,
                                                  [NSK_KIND_MAX] = make_sum,
                                                  [NSK_KIND_MIN] = make_sum,
                                                  [NSK_KIND_COPY] = make_move,
                                                  [NSK_KIND_CONSTANT] = make_constant,
                                                  [NSK_KIND_RESIZE] = make_resize,
                                                  [NSK_KIND_CONV_TRANSPOSE] = make_transposed,
                                                  [NSK_KIND_NORMALISE] = make_normalise,
                                                  [NSK_KIND_NORMALISE_WHOLE] = make_normalise,
                                                  [NSK_KIND_CONV_FINE] = make_conv,
                                                  [NSK_KIND_CONV_PACKED] = make_conv,
                                                  [NSK_KIND_DENSE_PACKED] = make_dense,
                                                  [NSK_KIND_DEPTHWISE_FINE] = make_depthwise,
                                                  [NSK_KIND_LUT_FINE] = make_fine_table,
                                                  [NSK_KIND_ADD_FINE] = make_sum,
                                                  [NSK_KIND_NORMALISE_FINE] = make_normalise};
