#include "modelfile/write.h"

#include <math.h>
#include <string.h>

#include "device/crc.h"
#include "device/format.h"
#include "device/layer.h"
#include "float/forward.h"
#include "modelfile/file.h"
#include "modelfile/pack.h"

typedef struct writer {
    GByteArray *bytes;
    const nsk_model_parts *parts;
} writer;

static void put16(uint8_t *at, uint32_t value) {
    at[0] = (uint8_t)value;
    at[1] = (uint8_t)(value >> 8);
}

static void put32(uint8_t *at, uint32_t value) {
    put16(at, value);
    put16(at + 2, value >> 16);
}

static uint32_t append(writer *w, const void *data, size_t size, size_t alignment) {
    static const uint8_t zeroes[4] = {0};
    g_byte_array_append(w->bytes, zeroes,
                        (guint)((alignment - w->bytes->len % alignment) % alignment));
    uint32_t at = w->bytes->len;
    g_byte_array_append(w->bytes, data, (guint)size);
    return at;
}

static uint32_t append_words(writer *w, const int32_t *words, size_t count) {
    uint8_t *bytes = g_malloc(4 * count);
    for (size_t i = 0; i < count; i++) {
        put32(bytes + 4 * i, (uint32_t)words[i]);
    }
    uint32_t at = append(w, bytes, 4 * count, 4);
    g_free(bytes);
    return at;
}

static uint32_t append_text(writer *w, const char *text) {
    return append(w, text, strlen(text) + 1, 1);
}

/* Scratches stand behind all tensors that the device knows of. */
static uint32_t tensor_count(const nsk_lowered *lowered) {
    uint32_t count = lowered->tensors->len;
    for (int i = 0; i < (int)lowered->layers->len; i++) {
        count -= nsk_lowered_has_scratch(nsk_lowered_layer_at(lowered, i));
    }
    return count;
}

static uint8_t *layer_record(const writer *w, int layer) {
    return w->bytes->data + NSK_HEADER_BYTES + NSK_TENSOR_BYTES * tensor_count(w->parts->lowered) +
           (size_t)NSK_LAYER_BYTES * (size_t)layer;
}

static void put_tensors(const writer *w) {
    for (int i = 0; i < (int)tensor_count(w->parts->lowered); i++) {
        const nsk_lowered_tensor *t = nsk_lowered_tensor_at(w->parts->lowered, i);
        uint8_t *at = w->bytes->data + NSK_HEADER_BYTES + (size_t)NSK_TENSOR_BYTES * (size_t)i;
        uint32_t scale_bits;
        memcpy(&scale_bits, &w->parts->scales[i].scale, sizeof scale_bits);
        put16(at + NSK_T_HEIGHT, (uint32_t)t->height);
        put16(at + NSK_T_WIDTH, (uint32_t)t->width);
        put16(at + NSK_T_CHANNELS, (uint32_t)t->channels);
        if (t->slice) {
            put32(at + NSK_T_PLACE, (uint32_t)t->first_channel);
            at[NSK_T_ROWS] = NSK_SLICE;
            put32(at + NSK_T_SCALE, (uint32_t)t->alias_of);
            continue;
        }
        put32(at + NSK_T_PLACE, w->parts->schedule->places[i]);
        at[NSK_T_ZERO] = (uint8_t)w->parts->scales[i].zero;
        int rows = w->parts->schedule->rows[i];
        static const uint8_t said[] = {0, NSK_WIDE_16, NSK_WIDE_32};
        rows = rows < t->height ? rows : 0;
        at[NSK_T_ROWS] = (uint8_t)(t->fine ? NSK_FINE + rows : rows > 0 ? rows : said[t->element]);
        put32(at + NSK_T_SCALE, scale_bits);
    }
}

static uint32_t layer_count_field(const nsk_lowered_layer *l) {
    bool groups = l->kind == NSK_KIND_CONV || l->kind == NSK_KIND_CONV_TRANSPOSE ||
                  l->kind == NSK_KIND_CONV_FINE || l->kind == NSK_KIND_NORMALISE ||
                  l->kind == NSK_KIND_NORMALISE_WHOLE || l->kind == NSK_KIND_NORMALISE_FINE;
    return groups ? (uint32_t)l->window.groups : l->kind == NSK_KIND_COPY ? (uint32_t)l->loops : 0U;
}

static uint8_t flags_of(const nsk_lowered_layer *l, const nsk_integer_layer *r) {
    switch (l->kind) {
    case NSK_KIND_AVERAGE_POOL:
        return r->multiplier_count > 1 ? NSK_FLAG_COUNTED : 0;
    case NSK_KIND_MAX_POOL:
        return l->least ? NSK_FLAG_LEAST : 0;
    case NSK_KIND_SCORES:
        return (uint8_t)((l->shares ? NSK_FLAG_SHARES : 0) | (l->each ? NSK_FLAG_EACH : 0));
    case NSK_KIND_NORMALISE:
    case NSK_KIND_NORMALISE_FINE:
    case NSK_KIND_NORMALISE_WHOLE:
        return l->centred ? NSK_FLAG_CENTRED : 0;
    case NSK_KIND_COPY:
        return (uint8_t)((l->fills ? NSK_FLAG_FILL : 0) | (r->table != NULL ? NSK_FLAG_TABLE : 0));
    default:
        return (uint8_t)l->bits;
    }
}

static void put_layer(const writer *w, int index) {
    const nsk_lowered_layer *l = nsk_lowered_layer_at(w->parts->lowered, index);
    const nsk_integer_layer *r = &w->parts->layers[index];
    uint8_t *at = layer_record(w, index);
    at[NSK_L_KIND] = (uint8_t)nsk_lowered_device_kind(l);
    at[NSK_L_FLAGS] = flags_of(l, r);
    put16(at + NSK_L_INPUT, (uint32_t)l->in);
    bool pair = l->second != NSK_NONE && !nsk_lowered_has_scratch(l);
    put16(at + NSK_L_SECOND, pair ? (uint32_t)l->second : NSK_NO_TENSOR);
    if (nsk_lowered_has_scratch(l)) {
        put32(at + NSK_L_SCRATCH_AT, w->parts->schedule->places[l->second]);
    }
    put16(at + NSK_L_OUTPUT, (uint32_t)l->out);
    for (int axis = 0; axis < 2; axis++) {
        at[NSK_L_KERNEL_HEIGHT + axis] = (uint8_t)l->window.kernel[axis];
        at[NSK_L_STRIDE_DOWN + axis] = (uint8_t)l->window.stride[axis];
        at[NSK_L_DILATE_DOWN + axis] = (uint8_t)l->window.dilation[axis];
        at[NSK_L_PAD_TOP + axis] = (uint8_t)l->window.pad_before[axis];
    }
    at[NSK_L_LOW] = (uint8_t)r->low;
    at[NSK_L_HIGH] = (uint8_t)r->high;
    put16(at + NSK_L_COUNT, layer_count_field(l));
}

/* The arrays of all layers, the widest elements first so that nothing is lost to alignment. */
static void append_words_of_layers(writer *w) {
    for (int i = 0; i < (int)w->parts->lowered->layers->len; i++) {
        const nsk_integer_layer *r = &w->parts->layers[i];
        if (r->requantise != NULL) {
            uint32_t at = append_words(w, r->requantise, (size_t)r->channels);
            put32(layer_record(w, i) + NSK_L_REQUANTISE_AT, at);
        }
        if (r->moves != NULL) {
            uint32_t at = append_words(w, r->moves, (size_t)r->move_count);
            put32(layer_record(w, i) + NSK_L_MULTIPLIERS_AT, at);
        }
        int32_t *words = g_new(int32_t, r->multiplier_count + 2);
        int count = r->multiplier_count;
        for (int k = 0; k < count; k++) {
            words[k] = r->multipliers[k].multiplier;
        }
        if (r->factor_shift > 0) {
            memcpy(words, r->factors, sizeof r->factors);
            count = 2;
        }
        if (count > 0) {
            uint32_t at = append_words(w, words, (size_t)count);
            put32(layer_record(w, i) + NSK_L_MULTIPLIERS_AT, at);
        }
        g_free(words);
    }
}

static uint32_t append_weights(writer *w, const nsk_integer_layer *r, int bits) {
    if (bits == 0) {
        return append(w, r->weights, r->weight_bytes, 4);
    }
    size_t size = nsk_packed_bytes(r->weight_bytes, bits);
    uint8_t *packed = g_malloc(size);
    nsk_pack_weights(r->weights, r->weight_bytes, bits, packed);
    uint32_t at = append(w, packed, size, 4);
    g_free(packed);
    return at;
}

static void append_bytes_of_layers(writer *w) {
    for (int i = 0; i < (int)w->parts->lowered->layers->len; i++) {
        const nsk_lowered_layer *l = nsk_lowered_layer_at(w->parts->lowered, i);
        const nsk_integer_layer *r = &w->parts->layers[i];
        if (r->table != NULL) {
            bool pairs = l->kind == NSK_KIND_SOFTMAX || l->kind == NSK_KIND_SCORES ||
                         l->kind == NSK_KIND_RESIZE || l->kind == NSK_KIND_NORMALISE ||
                         l->kind == NSK_KIND_NORMALISE_WHOLE ||
                         l->kind == NSK_KIND_NORMALISE_FINE || l->kind == NSK_KIND_LUT_FINE;
            size_t each = pairs ? 2 : 1;
            uint32_t at = append(w, r->table, (size_t)r->table_count * each, each);
            put32(layer_record(w, i) + NSK_L_WEIGHTS_AT, at);
        }
        if (r->weights != NULL) {
            uint32_t at = append_weights(w, r, l->bits);
            put32(layer_record(w, i) + NSK_L_WEIGHTS_AT, at);
        }
        int count = r->factor_shift > 0 ? 1 : r->multiplier_count;
        uint8_t *shifts = g_malloc0((gsize)count + 1);
        for (int k = 0; k < r->multiplier_count; k++) {
            shifts[k] = r->multipliers[k].shift;
        }
        shifts[0] = r->factor_shift > 0 ? (uint8_t)r->factor_shift : shifts[0];
        if (count > 0) {
            uint32_t at = append(w, shifts, (size_t)count, 1);
            put32(layer_record(w, i) + NSK_L_SHIFTS_AT, at);
        }
        g_free(shifts);
    }
}

/* Whether a line of that slope gives all 256 levels exactly; which one. */
static bool find_line(const int8_t *table, double slope, int32_t *line) {
    enum { ONE = 1 << NSK_LINE_BITS };
    line[NSK_P_SLOPE] = (int32_t)CLAMP(floor(slope * ONE + 0.5), -ONE * 256.0, ONE * 256.0);
    int64_t least = G_MININT64;
    int64_t most = G_MAXINT64;
    for (int b = 0; b < 256; b++) {
        int64_t from = (int64_t)table[b] * ONE - (int64_t)b * line[NSK_P_SLOPE];
        least = MAX(least, from);
        most = MIN(most, from + ONE - 1);
    }
    line[NSK_P_START] = (int32_t)((least + most) / 2);
    return least <= most;
}

static double exact_level(const writer *w, size_t channel, int byte) {
    return nsk_prepared(w->parts->graph, w->parts->input, channel, byte) /
           (double)w->parts->scales[0].scale;
}

/* From camera byte to input level: a line for each channel, or tables, one for all channels where
 * they agree. */
static void append_preparation(writer *w) {
    size_t channels = w->parts->input->colour == NSK_COLOUR_GREY ? 1 : 3;
    int8_t tables[3][256];
    int32_t lines[3][2];
    bool all_same = true;
    bool all_lines = true;
    for (size_t c = 0; c < channels; c++) {
        for (int b = 0; b < 256; b++) {
            double level = floor(exact_level(w, c, b) + 0.5) + w->parts->scales[0].zero;
            tables[c][b] = (int8_t)CLAMP(level, -128.0, 127.0);
        }
        double slope = (exact_level(w, c, 255) - exact_level(w, c, 0)) / 255.0;
        double ends = (tables[c][255] - tables[c][0]) / 255.0; /* where the last one is clamped */
        all_same = all_same && memcmp(tables[0], tables[c], 256) == 0;
        all_lines =
            (find_line(tables[c], slope, lines[c]) || find_line(tables[c], ends, lines[c])) &&
            all_lines;
    }
    size_t count = all_lines ? 0 : all_same ? 1 : channels;
    uint32_t at =
        all_lines ? append_words(w, &lines[0][0], 2 * channels) : append(w, tables, 256 * count, 1);
    put32(w->bytes->data + NSK_H_PREPARE_AT, at);
    w->bytes->data[NSK_H_TABLES] = (uint8_t)count;
}

/* A list of offsets and the texts that they are of; returns the list's place. */
static uint32_t append_texts(writer *w, const char *const *texts, int count) {
    int32_t *zeroes = g_new0(int32_t, count);
    uint32_t list = append_words(w, zeroes, (size_t)count);
    g_free(zeroes);
    for (int i = 0; i < count; i++) {
        uint32_t at = append_text(w, texts[i]);
        put32(w->bytes->data + list + 4 * i, at);
    }
    return list;
}

static void append_names(writer *w) {
    const nsk_labels *labels = w->parts->labels;
    uint32_t list = append_texts(w, (const char *const *)labels->names, labels->count);
    put32(w->bytes->data + NSK_H_LABELS_AT, list);
    list = append_texts(w, w->parts->facts, NSK_FACTS);
    put32(w->bytes->data + NSK_H_FACTS_AT, list);
    for (int i = 0; i < (int)w->parts->lowered->layers->len; i++) {
        uint32_t at = append_text(w, nsk_lowered_layer_at(w->parts->lowered, i)->name);
        put32(layer_record(w, i) + NSK_L_NAME_AT, at);
    }
}

static void put_header(const writer *w) {
    const nsk_model_parts *p = w->parts;
    const nsk_lowered_tensor *in = nsk_lowered_tensor_at(p->lowered, 0);
    uint8_t *at = w->bytes->data;
    uint32_t tensors = tensor_count(p->lowered);
    put32(at + NSK_H_MAGIC, NSK_MAGIC);
    put16(at + NSK_H_VERSION, NSK_VERSION);
    put16(at + NSK_H_HEADER_BYTES, NSK_HEADER_BYTES);
    put32(at + NSK_H_SIZE, w->bytes->len);
    put32(at + NSK_H_WORKSPACE, p->schedule->workspace);
    put16(at + NSK_H_LAYERS, p->lowered->layers->len);
    put16(at + NSK_H_TENSORS, tensors);
    put16(at + NSK_H_CLASSES, (uint32_t)p->labels->count);
    put16(at + NSK_H_INPUT, 0);
    put16(at + NSK_H_OUTPUT, (uint32_t)p->lowered->output);
    put16(at + NSK_H_WIDTH, (uint32_t)in->width);
    put16(at + NSK_H_HEIGHT, (uint32_t)in->height);
    at[NSK_H_CHANNELS] = (uint8_t)in->channels;
    at[NSK_H_COLOUR] = (uint8_t)p->input->colour;
    at[NSK_H_FIT] = (uint8_t)p->input->fit;
    at[NSK_H_RESAMPLE] = (uint8_t)p->input->resample;
    at[NSK_H_STREAMED] = (uint8_t)p->schedule->streamed;
    put16(at + NSK_H_BAND, p->schedule->streamed > 0 ? (uint32_t)p->schedule->band : 0);
    put32(at + NSK_H_TENSORS_AT, NSK_HEADER_BYTES);
    put32(at + NSK_H_LAYERS_AT, NSK_HEADER_BYTES + NSK_TENSOR_BYTES * tensors);
    put32(at + NSK_H_LEAST, p->schedule->lower_bound);
    uint32_t crc = nsk_crc32(0, at, NSK_H_CRC);
    put32(at + NSK_H_CRC, nsk_crc32(crc, at + NSK_H_WORKSPACE, w->bytes->len - NSK_H_WORKSPACE));
}

nsk_model_file *nsk_model_write(const nsk_model_parts *parts, nsk_error *error) {
    writer w = {g_byte_array_new(), parts};
    size_t records = NSK_HEADER_BYTES + NSK_TENSOR_BYTES * tensor_count(parts->lowered) +
                     NSK_LAYER_BYTES * parts->lowered->layers->len;
    uint8_t *zeroes = g_malloc0(records);
    append(&w, zeroes, records, 1);
    g_free(zeroes);
    put_tensors(&w);
    for (int i = 0; i < (int)parts->lowered->layers->len; i++) {
        put_layer(&w, i);
    }
    append_words_of_layers(&w);
    append_bytes_of_layers(&w);
    append_preparation(&w);
    append_names(&w);
    put_header(&w);
    size_t size = w.bytes->len;
    uint8_t *bytes = g_byte_array_free(w.bytes, FALSE);
    if (parts->like != NULL && parts->like->size == size) {
        nsk_model_file *file = g_new0(nsk_model_file, 1);
        file->bytes = bytes;
        file->size = size;
        return file;
    }
    return nsk_model_file_adopt(bytes, size, error);
}
