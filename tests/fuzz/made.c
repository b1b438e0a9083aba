#include "made.h"

#include <string.h>

#include "device/crc.h"
#include "device/scratch.h"
#include "maker.h"

/* ---- layers ---- */

static uint32_t no_more(uint32_t value, uint32_t most) {
    return value < most ? value : most;
}

static void draw_window(maker *m, record *r) {
    draws *d = m->d;
    uint32_t usual = draw_byte(d);
    for (int axis = 0; axis < 2; axis++) {
        r->kernel[axis] = usual < 90 ? 3U : usual < 130 ? 1U : no_more(made_draw_size(d), 255);
        r->stride[axis] = draw_chance(d, 160) ? 1U : no_more(made_draw_size(d), 255);
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
static const uint8_t streamable[] = {NSK_KIND_CONV,         NSK_KIND_DEPTHWISE, NSK_KIND_MAX_POOL,
                                     NSK_KIND_AVERAGE_POOL, NSK_KIND_ADD,       NSK_KIND_MULTIPLY,
                                     NSK_KIND_LUT,          NSK_KIND_MAX,       NSK_KIND_MIN};

/* Kinds that came later stand in for some of the others: the seeds keep their meaning. */
enum { DRAWN_KINDS = NSK_KIND_CONV_TRANSPOSE };

static bool is_of_two(uint32_t kind) {
    return kind == NSK_KIND_ADD || kind == NSK_KIND_MULTIPLY || kind == NSK_KIND_MAX ||
           kind == NSK_KIND_MIN;
}

/* The last one drawn gives a number a class: a dense one, whatever came before, or one of a pixel.
 */
static uint32_t draw_kind(maker *m, uint32_t index) {
    bool last = index + 1 == m->drawn;
    uint32_t kind = index < m->streamed ? streamable[draw(m->d, sizeof streamable)]
                                        : 1U + draw(m->d, DRAWN_KINDS);
    const shape *in = &m->shapes[index];
    bool pixel = in->height * in->width == 1;
    bool keeps = is_of_two(kind) || kind == NSK_KIND_LUT || kind == NSK_KIND_SOFTMAX;
    bool ends = kind == NSK_KIND_DENSE || kind == NSK_KIND_AVERAGE_POOL || (pixel && keeps);
    return last && !ends && draw_chance(m->d, 250) ? NSK_KIND_DENSE : kind;
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

/* Now and then, and where the input is fine, the kind that takes fine tensors; its output may be
 * one. */
static void make_fine(maker *m, uint32_t index, record *r) {
    static const uint8_t kinds[NSK_KINDS] = {[NSK_KIND_CONV] = NSK_KIND_CONV_FINE,
                                             [NSK_KIND_DEPTHWISE] = NSK_KIND_DEPTHWISE_FINE,
                                             [NSK_KIND_LUT] = NSK_KIND_LUT_FINE,
                                             [NSK_KIND_ADD] = NSK_KIND_ADD_FINE,
                                             [NSK_KIND_NORMALISE] = NSK_KIND_NORMALISE_FINE};
    bool wanted = m->fine[r->input] || r->flags % 8 == 6;
    if (!wanted || kinds[r->kind] == 0) {
        return;
    }
    r->kind = kinds[r->kind];
    bool can = r->kind != NSK_KIND_NORMALISE_FINE && index + 1 < m->drawn;
    m->fine[r->output] = can && r->flags % 4 > 1;
    m->element[r->output] = m->fine[r->output] ? 2 : 1;
}

/* Now and then, weights of 4, 5 or 6 bits, as the flags say. */
static void make_packed(record *r) {
    const bool can = r->kind == NSK_KIND_CONV || r->kind == NSK_KIND_DENSE;
    if (!can || r->flags < 12 || r->flags == 14) {
        return;
    }
    r->kind = r->kind == NSK_KIND_CONV ? NSK_KIND_CONV_PACKED : NSK_KIND_DENSE_PACKED;
    r->flags = r->flags == 15 ? 8U + NSK_MOST_BITS : r->flags;
}

static void make_layer(maker *m, uint32_t index) {
    record *r = &m->records[index];
    const record *before = index > 0 ? r - 1 : NULL;
    r->kind = draw_kind(m, index);
    r->flags = draw(m->d, 16);
    if (r->kind == NSK_KIND_MULTIPLY && r->flags > 8 && index >= m->streamed) {
        r->kind = NSK_KIND_MATMUL;
    } else if (r->kind == NSK_KIND_LUT && r->flags > 9) {
        r->kind = NSK_KIND_NORMALISE;
    } else if (r->kind == NSK_KIND_SOFTMAX && r->flags > 8) {
        r->kind = NSK_KIND_NORMALISE_WHOLE;
    }
    r->input = draw_chance(m->d, 40) ? draw(m->d, index + 1) : index;
    r->second = NSK_NO_TENSOR;
    if (is_of_two(r->kind) || r->kind == NSK_KIND_MATMUL) {
        r->second = draw_chance(m->d, 200) ? r->input : draw(m->d, m->drawn + 1);
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
    make_packed(r);
    make_fine(m, index, r);
    m->shapes[r->output] = made_kinds[r->kind](m, r);
}

/* The scores of what the last one drawn gives, which may be wide. What there is to choose is taken
 * from its flags. */
static void make_scores(maker *m) {
    static const uint32_t ways[] = {NSK_FLAG_SHARES, NSK_FLAG_EACH, NSK_FLAG_SHARES, 0};
    const record *before = &m->records[m->drawn - 1];
    record *r = &m->records[m->drawn];
    bool plain = before->low == -128 && before->high == 127;
    bool can = before->kind == NSK_KIND_DENSE || before->kind == NSK_KIND_DENSE_PACKED ||
               before->kind == NSK_KIND_AVERAGE_POOL;
    *r = (record){.kind = NSK_KIND_SCORES,
                  .flags = ways[before->flags % 4],
                  .input = m->drawn,
                  .second = NSK_NO_TENSOR,
                  .output = m->layers,
                  .low = -128,
                  .high = 127};
    r->weights_at = made_take(m, 2 * NSK_SCORES_TABLES * NSK_SCORES_ENTRIES, 4);
    for (uint32_t i = 0; i < NSK_SCORES_TABLES * NSK_SCORES_ENTRIES && !m->full; i++) {
        made_put16(m, r->weights_at + 2 * i, 65535 - i % NSK_SCORES_ENTRIES * 8000);
    }
    const shape *in = &m->shapes[m->drawn];
    m->shapes[m->layers] = (shape){1, 1, in->height * in->width * in->channels};
    m->element[m->layers] = 4;
    m->element[m->drawn] = can && plain && before->flags > 7 && r->flags != 0 ? 2 : 1;
}

static void put_layer(maker *m, uint32_t at, const record *r) {
    const uint32_t bytes[] = {r->kernel[0],     r->kernel[1],     r->stride[0], r->stride[1],
                              r->dilate[0],     r->dilate[1],     r->pad[0],    r->pad[1],
                              (uint32_t)r->low, (uint32_t)r->high};
    made_put8(m, at + NSK_L_KIND, r->kind);
    made_put8(m, at + NSK_L_FLAGS, r->flags);
    made_put16(m, at + NSK_L_INPUT, r->input);
    made_put16(m, at + NSK_L_SECOND, r->second);
    made_put16(m, at + NSK_L_OUTPUT, r->output);
    for (uint32_t i = 0; i < sizeof bytes / sizeof *bytes; i++) {
        made_put8(m, at + NSK_L_KERNEL_HEIGHT + i, bytes[i]);
    }
    made_put16(m, at + NSK_L_COUNT, r->count);
    made_put32(m, at + NSK_L_WEIGHTS_AT, r->weights_at);
    made_put32(m, at + NSK_L_REQUANTISE_AT, r->requantise_at);
    made_put32(m, at + NSK_L_MULTIPLIERS_AT, r->last_at);
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
    uint32_t part = 1U + draw(m->d, m->drawn);
    if (m->shapes[tensor].height > 0) {
        return;
    }
    m->shapes[tensor] = made_draw_shape(m);
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
    made_put32(m, at + NSK_T_PLACE, part->whole > 0 ? part->first : place);
    made_put16(m, at + NSK_T_HEIGHT, s->height);
    made_put16(m, at + NSK_T_WIDTH, s->width);
    made_put16(m, at + NSK_T_CHANNELS, s->channels);
    uint32_t wide = m->element[tensor];
    made_put8(m, at + NSK_T_ZERO, wide < 4 ? draw_byte(m->d) : 0);
    made_put8(m, at + NSK_T_ROWS, part->whole > 0 ? NSK_SLICE : rows);
    if (wide > 1) {
        made_put8(m, at + NSK_T_ZERO, 0);
        made_put8(m, at + NSK_T_ROWS, wide == 2 ? NSK_WIDE_16 : NSK_WIDE_32);
    }
    if (m->fine[tensor]) {
        made_put8(m, at + NSK_T_ZERO, s->channels * 7U);
        made_put8(m, at + NSK_T_ROWS, NSK_FINE + (rows <= NSK_MOST_ROWS ? rows : 0U));
    }
    made_put32(m, at + NSK_T_SCALE, part->whole > 0 ? part->whole : 0x3c000000);
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
        bool scores = t == m->layers;
        uint32_t rows = scores ? 0 : draw_rows(m, t);
        uint32_t each = m->element[t] > 0 ? m->element[t] : 1U;
        uint32_t bytes = (rows > 0 ? rows : s->height) * s->width * s->channels * each;
        m->places[t] = scores ? (end + 3) / 4 * 4 : draw_place(m, t, end, apart);
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
        if (kind != NSK_KIND_CONV && kind != NSK_KIND_DEPTHWISE && kind != NSK_KIND_CONV_FINE &&
            kind != NSK_KIND_CONV_PACKED && kind != NSK_KIND_DENSE_PACKED) {
            continue;
        }
        nsk_layer_decode(&model, i, &layer);
        uint32_t place = draw_chance(m->d, 20) ? draw(m->d, 1024) * 4U : end;
        uint64_t need = place + nsk_layer_scratch(&layer);
        most = need > most && need < MOST_WORKSPACE ? (uint32_t)need : most;
        made_put32(m, layers_at + i * NSK_LAYER_BYTES + NSK_L_SCRATCH_AT, place);
    }
    made_put32(m, NSK_H_WORKSPACE, most);
}

/* ---- the header ---- */

/* Tables of a byte each, or lines. */
static uint32_t take_preparation(maker *m, uint32_t tables) {
    uint32_t channels = m->shapes[0].channels;
    if (tables > 0) {
        return made_take_drawn(m, 256 * tables, 4);
    }
    uint32_t at = made_take(m, NSK_LINE_BYTES * channels, 4);
    for (uint32_t c = 0; c < channels && !m->full; c++) {
        made_put32(m, at + NSK_LINE_BYTES * c, 1U + draw(m->d, 32768));
        made_put32(m, at + NSK_LINE_BYTES * c + 4, (uint32_t)(-65536 * (int32_t)draw(m->d, 128)));
    }
    return at;
}

/* Now and then all convolutions' weights are in an order of a core's own: of what stands there, any
 * numbers can be blocks, and many pairs. The first layer's flags, of which most kinds have none,
 * say so. */
static void put_order(maker *m) {
    static const struct {
        uint32_t version, flag;
    } orders[] = {{NSK_VERSION_ORDERED, NSK_FLAG_PAIRED}, {NSK_VERSION_BLOCKED, NSK_FLAG_BLOCKED}};
    const uint32_t drawn = m->records[0].flags;
    if (drawn != 9 && drawn != 13) {
        return;
    }
    const uint32_t which = drawn == 9 ? 0 : 1;
    made_put16(m, NSK_H_VERSION, orders[which].version);
    for (uint32_t i = 0; i < m->layers; i++) {
        const uint32_t kind = m->records[i].kind;
        if (kind == NSK_KIND_CONV || kind == NSK_KIND_CONV_PACKED) {
            made_put8(m, nsk_load32(m->file + NSK_H_LAYERS_AT) + i * NSK_LAYER_BYTES + NSK_L_FLAGS,
                      m->records[i].flags | orders[which].flag);
        }
    }
}

static void put_header(maker *m, uint32_t classes) {
    const shape *frame = &m->shapes[0];
    bool grey = frame->channels == 1;
    uint32_t tables = draw_chance(m->d, 128) ? 0 : draw_chance(m->d, 128) ? 1 : frame->channels;
    uint32_t prepare_at = take_preparation(m, tables);
    uint32_t labels_at = made_take(m, 4 * classes, 4);
    uint32_t facts_at = made_take(m, 4 * NSK_FACTS, 4);
    uint32_t name_at = made_take(m, 4, 4);
    for (uint32_t i = 0; i < classes && !m->full; i++) {
        made_put32(m, labels_at + 4 * i, name_at);
    }
    for (uint32_t i = 0; i < NSK_FACTS && !m->full; i++) {
        made_put32(m, facts_at + 4 * i, name_at);
    }
    for (uint32_t i = 0; i < m->layers; i++) {
        made_put32(m, nsk_load32(m->file + NSK_H_LAYERS_AT) + i * NSK_LAYER_BYTES + NSK_L_NAME_AT,
                   name_at);
    }
    made_put32(m, name_at, 'n');
    made_put32(m, NSK_H_MAGIC, NSK_MAGIC);
    made_put16(m, NSK_H_VERSION, NSK_VERSION);
    made_put16(m, NSK_H_HEADER_BYTES, NSK_HEADER_BYTES);
    made_put16(m, NSK_H_LAYERS, m->layers);
    made_put16(m, NSK_H_TENSORS, m->tensors);
    made_put16(m, NSK_H_CLASSES, classes);
    made_put16(m, NSK_H_OUTPUT, m->layers);
    made_put16(m, NSK_H_WIDTH, frame->width);
    made_put16(m, NSK_H_HEIGHT, frame->height);
    made_put8(m, NSK_H_CHANNELS, frame->channels);
    made_put8(m, NSK_H_COLOUR, grey ? NSK_COLOUR_GREY : draw(m->d, 2));
    made_put8(m, NSK_H_FIT, draw(m->d, 3));
    made_put8(m, NSK_H_TABLES, tables);
    made_put8(m, NSK_H_RESAMPLE, draw(m->d, NSK_RESAMPLES));
    made_put8(m, NSK_H_STREAMED, m->streamed);
    made_put32(m, NSK_H_PREPARE_AT, prepare_at);
    made_put32(m, NSK_H_LABELS_AT, labels_at);
    made_put32(m, NSK_H_FACTS_AT, facts_at);
    made_put16(m, NSK_H_BAND, m->streamed > 0 ? 1U + draw(m->d, 4) : 0);
    put_order(m);
}

uint32_t made_model(draws *d, uint8_t *file) {
    maker m = {.d = d, .file = file, .used = NSK_HEADER_BYTES};
    memset(file, 0, MADE_ROOM);
    m.drawn = 1U + draw(d, MOST_LAYERS - 1);
    m.layers = m.drawn + 1U;
    m.tensors = m.layers + 1U + (draw_chance(d, 70) ? draw(d, 4) : 0);
    m.streamed = draw_chance(d, 110) ? 1U + draw(d, m.drawn) : 0;
    uint32_t tensors_at = made_take(&m, m.tensors * NSK_TENSOR_BYTES, 4);
    uint32_t layers_at = made_take(&m, m.layers * NSK_LAYER_BYTES, 4);
    m.shapes[0] = (shape){made_draw_size(d), made_draw_size(d), draw_chance(d, 128) ? 3 : 1};
    for (uint32_t i = 0; i < m.drawn && !m.full; i++) {
        make_layer(&m, i);
    }
    make_scores(&m);
    if (m.full) {
        return 0;
    }
    made_put32(&m, NSK_H_TENSORS_AT, tensors_at);
    made_put32(&m, NSK_H_LAYERS_AT, layers_at);
    uint32_t end = put_tensors(&m, tensors_at);
    for (uint32_t i = 0; i < m.layers; i++) {
        put_layer(&m, layers_at + i * NSK_LAYER_BYTES, &m.records[i]);
    }
    put_header(&m, m.shapes[m.drawn].channels);
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
