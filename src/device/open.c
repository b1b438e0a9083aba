/* Opening a model file: nothing of it is used before everything in it has been checked, so that the
 * kernels need no checks when they run. What a kind of layer needs is checked beside its kernel. */
#include "small.h"

#include "arch.h"
#include "check.h"
#include "crc.h"
#include "format.h"

#if defined(NSK_READS_BLOCKS)
#define NEWEST_VERSION NSK_VERSION_BLOCKED
#else
#define NEWEST_VERSION NSK_VERSION_ORDERED
#endif

enum { MOST_WORKSPACE = 1 << 30, MOST_ELEMENTS = 1 << 26 };

static bool name_lies_inside(const nsk_model *m, uint32_t offset) {
    return offset >= NSK_HEADER_BYTES && offset < m->size; /* the file's last byte is zero */
}

/* A slice lies in the channels of another tensor that has as many pixels and is none itself. */
static bool check_slice(const uint8_t *at, const uint8_t *whole) {
    uint32_t channels = nsk_load16(at + NSK_T_CHANNELS);
    uint32_t room = nsk_load16(whole + NSK_T_CHANNELS);
    return whole[NSK_T_ROWS] < NSK_FINE && channels <= room &&
           nsk_load32(at + NSK_T_PLACE) <= room - channels &&
           nsk_load32(whole + NSK_T_HEIGHT) == nsk_load32(at + NSK_T_HEIGHT); /* and width */
}

static bool check_tensor(const nsk_model *m, unsigned index) {
    const uint8_t *tensors = m->bytes + nsk_load32(m->bytes + NSK_H_TENSORS_AT);
    const uint8_t *at = tensors + (size_t)NSK_TENSOR_BYTES * index;
    uint32_t whole = nsk_load32(at + NSK_T_SCALE);
    if (at[NSK_T_ROWS] == NSK_SLICE &&
        (whole >= m->tensors || !check_slice(at, tensors + (size_t)NSK_TENSOR_BYTES * whole))) {
        return false;
    }
    nsk_tensor t = nsk_tensor_at(m, index);
    uint32_t row = (uint32_t)t.width * t.channels; /* nothing here leaves 32 bits */
    return row >= 1 && t.height >= 1 && row <= (uint32_t)MOST_ELEMENTS / t.height &&
           t.rows <= t.height && (t.rows == t.height || m->streamed > 0) &&
           t.offset % t.element == 0 && t.offset <= m->workspace_bytes &&
           t.rows * row * t.element <= m->workspace_bytes - t.offset;
}

/* Kernels read whole tensors, and only some can write a slice: others go byte by byte. */
static bool slices_are_good(const nsk_layer *l) {
    return !l->in.slice && !l->second.slice &&
           (!l->out.slice || l->out.height * l->out.width == 1 || nsk_kind_writes_slices(l->kind));
}

/* Elements are bytes but where a kind takes fine tensors, and at the network's end: scores are
 * int32; what they are made of may be int16, which dense layers and averages can write, around 0.
 */
static bool elements_are_good(const nsk_layer *l) {
    uint32_t sizes = l->in.element * 0x100U + l->second.element * 0x10U + l->out.element;
    if (nsk_kind_is_fine(l->kind)) {
        return true; /* their own checks look */
    }
    if (l->kind == NSK_KIND_SCORES) {
        return sizes == 0x114 || sizes == 0x224;
    }
    return sizes == 0x111 || (sizes == 0x112 &&
                              (l->kind == NSK_KIND_DENSE || l->kind == NSK_KIND_AVERAGE_POOL ||
                               l->kind == NSK_KIND_DENSE_PACKED) &&
                              l->out.zero == 0);
}

static nsk_status check_layer(const nsk_model *m, unsigned index) {
    const uint8_t *at = m->bytes + nsk_load32(m->bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES * index;
    uint32_t second = nsk_load16(at + NSK_L_SECOND);
    if (nsk_load16(at + NSK_L_INPUT) >= m->tensors || nsk_load16(at + NSK_L_OUTPUT) >= m->tensors ||
        (second != NSK_NO_TENSOR && second >= m->tensors) || at[NSK_L_KIND] < 1 ||
        at[NSK_L_KIND] >= NSK_KINDS || !name_lies_inside(m, nsk_load32(at + NSK_L_NAME_AT))) {
        return NSK_STATUS_INCONSISTENT;
    }
    nsk_layer l;
    nsk_layer_decode(m, index, &l);
    const nsk_operation *operation = nsk_operations[l.kind];
    if (operation == NULL) {
        return NSK_STATUS_KIND_MISSING;
    }
    return l.low <= l.high && slices_are_good(&l) && elements_are_good(&l) &&
                   operation->check(m, &l)
               ? NSK_STATUS_OK
               : NSK_STATUS_INCONSISTENT;
}

static bool is_level(int32_t number) {
    const int32_t most = INT32_C(128) << NSK_LINE_BITS;
    return number >= -most && number < most;
}

/* Both ends of every line are levels, and so is all between them. A
 * slope that passes is a level too, and nothing leaves 32 bits. */
static bool check_lines(const nsk_model *m, const uint8_t *lines) {
    bool good = nsk_lies_inside(m, lines, (uint32_t)NSK_LINE_BYTES * m->channels, 4);
    for (uint32_t c = 0; c < m->channels && good; c++, lines += NSK_LINE_BYTES) {
        int32_t start = nsk_word(lines, NSK_P_START);
        int32_t slope = nsk_word(lines, NSK_P_SLOPE);
        good = is_level(start) && is_level(slope) && is_level(start + 255 * slope);
    }
    return good;
}

static bool check_frame(const nsk_model *m) {
    uint32_t tables = m->bytes[NSK_H_TABLES];
    const uint8_t *prepare = m->bytes + nsk_load32(m->bytes + NSK_H_PREPARE_AT);
    if ((m->channels != 1 && m->channels != 3) || (tables > 1 && tables != m->channels) ||
        (unsigned)m->colour > NSK_COLOUR_GREY || (unsigned)m->fit > NSK_FIT_PAD ||
        (unsigned)m->resample >= NSK_RESAMPLES ||
        (m->colour == NSK_COLOUR_GREY) != (m->channels == 1) || m->input >= m->tensors ||
        m->output >= m->tensors) {
        return false;
    }
    nsk_tensor in = nsk_tensor_at(m, m->input);
    nsk_tensor out = nsk_tensor_at(m, m->output);
    return in.height == m->height && in.width == m->width && in.channels == m->channels &&
           in.element == 1 && out.height == 1 && out.width == 1 && out.channels == m->classes &&
           out.element == 4 &&
           (tables > 0 ? nsk_lies_inside(m, prepare, 256 * tables, 1) : check_lines(m, prepare));
}

static bool check_texts(const nsk_model *m, uint32_t list, uint32_t count) {
    bool good = nsk_lies_inside(m, m->bytes + list, 4 * count, 4);
    for (uint32_t i = 0; i < count && good; i++) {
        good = name_lies_inside(m, (uint32_t)nsk_word(m->bytes + list, i));
    }
    return good;
}

static bool check_names(const nsk_model *m) {
    uint32_t labels = nsk_load32(m->bytes + NSK_H_LABELS_AT);
    return m->bytes[m->size - 1] == 0 && check_texts(m, labels, m->classes) &&
           check_texts(m, nsk_load32(m->bytes + NSK_H_FACTS_AT), NSK_FACTS);
}

static nsk_status check_all(const nsk_model *m) {
    uint32_t tensors = nsk_load32(m->bytes + NSK_H_TENSORS_AT);
    uint32_t layers = nsk_load32(m->bytes + NSK_H_LAYERS_AT);
    if (m->layers < 1 || m->classes < 1 || m->workspace_bytes > MOST_WORKSPACE ||
        !nsk_lies_inside(m, m->bytes + tensors, (uint32_t)NSK_TENSOR_BYTES * m->tensors, 4) ||
        !nsk_lies_inside(m, m->bytes + layers, (uint32_t)NSK_LAYER_BYTES * m->layers, 4)) {
        return NSK_STATUS_INCONSISTENT;
    }
    for (unsigned i = 0; i < m->tensors; i++) {
        if (!check_tensor(m, i)) {
            return NSK_STATUS_INCONSISTENT;
        }
    }
    if (!check_frame(m) || !check_names(m)) {
        return NSK_STATUS_INCONSISTENT;
    }
    for (unsigned i = 0; i < m->layers; i++) {
        nsk_status status = check_layer(m, i);
        if (status != NSK_STATUS_OK) {
            return status;
        }
    }
    if (m->streamed > 0 && nsk_streaming_of_build == NULL) {
        return NSK_STATUS_KIND_MISSING;
    }
    bool good = m->streamed == 0 || nsk_streaming_of_build->check(m);
#if defined(NSK_CHECK_PLANS)
    good = good && nsk_overlaps_are_good(m);
#endif
    return good ? NSK_STATUS_OK : NSK_STATUS_INCONSISTENT;
}

static void read_header(nsk_model *m) {
    const uint8_t *at = m->bytes;
    m->checksum = nsk_load32(at + NSK_H_CRC);
    m->workspace_bytes = nsk_load32(at + NSK_H_WORKSPACE);
    m->layers = (uint16_t)nsk_load16(at + NSK_H_LAYERS);
    m->tensors = (uint16_t)nsk_load16(at + NSK_H_TENSORS);
    m->classes = (uint16_t)nsk_load16(at + NSK_H_CLASSES);
    m->input = (uint16_t)nsk_load16(at + NSK_H_INPUT);
    m->output = (uint16_t)nsk_load16(at + NSK_H_OUTPUT);
    m->width = (uint16_t)nsk_load16(at + NSK_H_WIDTH);
    m->height = (uint16_t)nsk_load16(at + NSK_H_HEIGHT);
    m->channels = at[NSK_H_CHANNELS];
    m->streamed = at[NSK_H_STREAMED];
    m->band = (uint16_t)nsk_load16(at + NSK_H_BAND);
    m->colour = (nsk_colour)at[NSK_H_COLOUR];
    m->fit = (nsk_fit)at[NSK_H_FIT];
    m->resample = (nsk_resample)at[NSK_H_RESAMPLE];
}

nsk_status nsk_open(nsk_model *m, const void *bytes, size_t size) {
    if ((uintptr_t)bytes % NSK_ALIGNMENT != 0) {
        return NSK_STATUS_MISALIGNED;
    }
    m->bytes = (const uint8_t *)bytes;
    if (size < NSK_HEADER_BYTES) {
        return size >= 4 && nsk_load32(m->bytes) != NSK_MAGIC ? NSK_STATUS_NOT_A_MODEL
                                                              : NSK_STATUS_TRUNCATED;
    }
    if (nsk_load32(m->bytes + NSK_H_MAGIC) != NSK_MAGIC) {
        return NSK_STATUS_NOT_A_MODEL;
    }
    const uint32_t version = nsk_load16(m->bytes + NSK_H_VERSION);
    if (version < NSK_VERSION || version > NEWEST_VERSION ||
        nsk_load16(m->bytes + NSK_H_HEADER_BYTES) != NSK_HEADER_BYTES) {
        return NSK_STATUS_OTHER_VERSION;
    }
    m->size = nsk_load32(m->bytes + NSK_H_SIZE);
    if (m->size > size) {
        return NSK_STATUS_TRUNCATED;
    }
    if (m->size <= NSK_HEADER_BYTES) {
        return NSK_STATUS_INCONSISTENT;
    }
    uint32_t crc = nsk_crc32(0, m->bytes, NSK_H_CRC);
    crc = nsk_crc32(crc, m->bytes + NSK_H_WORKSPACE, m->size - NSK_H_WORKSPACE);
    if (crc != nsk_load32(m->bytes + NSK_H_CRC)) {
        return NSK_STATUS_DAMAGED;
    }
    read_header(m);
    return check_all(m);
}
