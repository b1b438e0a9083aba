/* Opening a model file: nothing of it is used before everything in it has been checked, so that the
 * kernels need no checks of their own. */
#include "arithmetic.h"
#include "crc.h"
#include "format.h"
#include "layer.h"

enum { MOST_WORKSPACE = 1 << 30, MOST_ELEMENTS = 1 << 26 };

/* `count` items of `each` bytes at `offset`, on a multiple of `alignment`, lie behind the header.
 */
static bool lies_inside(const nsk_model *m, uint32_t offset, uint64_t count, uint32_t each,
                        uint32_t alignment) {
    return offset >= NSK_HEADER_BYTES && offset % alignment == 0 && offset <= m->size &&
           count * each <= m->size - offset;
}

static bool name_lies_inside(const nsk_model *m, uint32_t offset) {
    return offset >= NSK_HEADER_BYTES && offset < m->size; /* the file's last byte is zero */
}

static bool check_tensor(const nsk_model *m, unsigned index) {
    nsk_tensor t = nsk_tensor_at(m, index);
    uint64_t elements = (uint64_t)t.height * t.width * t.channels;
    return elements >= 1 && elements <= MOST_ELEMENTS && t.place + elements <= m->workspace_bytes;
}

static bool multiplier_is_good(const nsk_layer *l, uint32_t k) {
    return nsk_word(l->multipliers, k) >= NSK_MULTIPLIER_LEAST && l->shifts[k] >= NSK_SHIFT_LEAST &&
           l->shifts[k] <= NSK_SHIFT_MOST;
}

static bool same_size(const nsk_tensor *a, const nsk_tensor *b) {
    return a->height == b->height && a->width == b->width && a->channels == b->channels;
}

/* The kernels leave out what a window has outside the picture, so any window is safe; one that
 * cannot be meant is refused all the same. */
static bool axis_is_good(int32_t in, int32_t out, int32_t kernel, int32_t stride, int32_t dilate,
                         int32_t pad) {
    return kernel >= 1 && stride >= 1 && dilate >= 1 && pad <= (kernel - 1) * dilate &&
           (out - 1) * stride - pad < in;
}

static bool window_is_good(const nsk_layer *l) {
    return axis_is_good(l->in.height, l->out.height, l->kernel_height, l->stride_down,
                        l->dilate_down, l->pad_top) &&
           axis_is_good(l->in.width, l->out.width, l->kernel_width, l->stride_across,
                        l->dilate_across, l->pad_left);
}

/* The bias and all |weight| x |input - zero| of an output channel stay within int32, in whatever
 * order they are added. `taps` weights stand `step` apart. */
static bool accumulator_fits(const nsk_layer *l, uint32_t channel, const int8_t *weights,
                             uint32_t taps, uint32_t step) {
    int64_t sum = nsk_word(l->bias, channel);
    sum = sum < 0 ? -sum : sum;
    uint64_t weight_sum = 0;
    for (uint32_t i = 0; i < taps; i++) {
        int32_t w = weights[i * step];
        weight_sum += (uint64_t)(w < 0 ? -w : w);
    }
    return sum + (int64_t)weight_sum * nsk_reach(l->in.zero) <= INT32_MAX;
}

static bool check_weights(const nsk_model *m, const nsk_layer *l, uint64_t taps, bool interleaved) {
    uint32_t channels = l->out.channels;
    if (!lies_inside(m, (uint32_t)(l->weights - m->bytes), taps * channels, 1, 1) ||
        !lies_inside(m, (uint32_t)(l->bias - m->bytes), channels, 4, 4) ||
        !lies_inside(m, (uint32_t)(l->multipliers - m->bytes), channels, 4, 4) ||
        !lies_inside(m, (uint32_t)(l->shifts - m->bytes), channels, 1, 1)) {
        return false;
    }
    const int8_t *weights = (const int8_t *)l->weights;
    for (uint32_t c = 0; c < channels; c++) {
        const int8_t *first = weights + (interleaved ? c : c * (uint32_t)taps);
        uint32_t step = interleaved ? channels : 1;
        if (!multiplier_is_good(l, c) || !accumulator_fits(l, c, first, (uint32_t)taps, step)) {
            return false;
        }
    }
    return true;
}

static uint64_t kernel_area(const nsk_layer *l) {
    return (uint64_t)(l->kernel_height * l->kernel_width);
}

static bool check_conv(const nsk_model *m, const nsk_layer *l) {
    return l->count >= 1 && l->in.channels % l->count == 0 && l->out.channels % l->count == 0 &&
           window_is_good(l) &&
           check_weights(m, l, kernel_area(l) * (l->in.channels / l->count), false);
}

static bool check_depthwise(const nsk_model *m, const nsk_layer *l) {
    return l->out.channels % l->in.channels == 0 && window_is_good(l) &&
           check_weights(m, l, kernel_area(l), true);
}

static bool check_dense(const nsk_model *m, const nsk_layer *l) {
    return l->out.height == 1 && l->out.width == 1 &&
           check_weights(m, l, nsk_tensor_bytes(&l->in), false);
}

static bool check_max_pool(const nsk_model *m, const nsk_layer *l) {
    (void)m;
    return l->in.channels == l->out.channels && window_is_good(l);
}

static bool check_multipliers(const nsk_model *m, const nsk_layer *l, uint32_t multipliers,
                              uint32_t shifts) {
    return lies_inside(m, (uint32_t)(l->multipliers - m->bytes), multipliers, 4, 4) &&
           lies_inside(m, (uint32_t)(l->shifts - m->bytes), shifts, 1, 1);
}

static bool check_average_pool(const nsk_model *m, const nsk_layer *l) {
    bool counted = (l->flags & NSK_FLAG_COUNTED) != 0;
    uint32_t multipliers = counted ? (uint32_t)kernel_area(l) : 1U;
    if (!check_max_pool(m, l) || !check_multipliers(m, l, multipliers, multipliers)) {
        return false;
    }
    for (uint32_t k = 0; k < multipliers; k++) {
        if (!multiplier_is_good(l, k)) {
            return false;
        }
    }
    return true;
}

static bool check_pair(const nsk_layer *l) {
    bool one_pixel = l->second.height == 1 && l->second.width == 1 &&
                     (l->second.channels == l->in.channels || l->second.channels == 1);
    return l->has_second && same_size(&l->in, &l->out) &&
           (same_size(&l->in, &l->second) || one_pixel);
}

static bool check_add(const nsk_model *m, const nsk_layer *l) {
    if (!check_pair(l) || !check_multipliers(m, l, 2, 1) || l->shifts[0] < 1 || l->shifts[0] > 30) {
        return false;
    }
    int64_t most = (int64_t)1 << (l->shifts[0] - 1);
    const nsk_tensor *const inputs[] = {&l->in, &l->second};
    for (uint32_t k = 0; k < 2; k++) {
        int64_t factor = nsk_word(l->multipliers, k);
        most += (factor < 0 ? -factor : factor) * nsk_reach(inputs[k]->zero);
    }
    return most <= INT32_MAX;
}

static bool check_multiply(const nsk_model *m, const nsk_layer *l) {
    return check_pair(l) && check_multipliers(m, l, 1, 1) && multiplier_is_good(l, 0);
}

static bool check_table(const nsk_model *m, const nsk_layer *l) {
    return same_size(&l->in, &l->out) &&
           lies_inside(m, (uint32_t)(l->weights - m->bytes), 256, 1, 1);
}

static bool check_softmax(const nsk_model *m, const nsk_layer *l) {
    return same_size(&l->in, &l->out) && l->count >= 1 && l->count <= 256 &&
           lies_inside(m, (uint32_t)(l->weights - m->bytes), l->count, 2, 2) &&
           nsk_load16(l->weights) > 0;
}

/* All elements that the loops reach lie inside of both tensors. */
static bool check_move(const nsk_model *m, const nsk_layer *l) {
    if (l->count < 1 || l->count > NSK_MOST_LOOPS ||
        !lies_inside(m, (uint32_t)(l->multipliers - m->bytes), NSK_M_LOOPS + 3U * l->count, 4, 4) ||
        ((l->flags & NSK_FLAG_TABLE) != 0 &&
         !lies_inside(m, (uint32_t)(l->weights - m->bytes), 256, 1, 1))) {
        return false;
    }
    int64_t size[2] = {nsk_tensor_bytes(&l->in), nsk_tensor_bytes(&l->out)};
    int64_t copies = 1;
    int64_t least[2];
    int64_t most[2];
    for (uint32_t side = 0; side < 2; side++) {
        least[side] = most[side] = nsk_word(l->multipliers, NSK_M_IN_ORIGIN + side);
    }
    for (uint32_t i = 0; i < l->count; i++) {
        const uint8_t *loop = l->multipliers + 4U * (NSK_M_LOOPS + 3U * i);
        int64_t count = nsk_word(loop, 0);
        if (count < 1 || count > MOST_ELEMENTS || (copies *= count) > MOST_ELEMENTS) {
            return false;
        }
        for (uint32_t side = 0; side < 2; side++) {
            int64_t step = nsk_word(loop, 1U + side);
            if (step < -MOST_ELEMENTS || step > MOST_ELEMENTS) {
                return false; /* so that what the kernel computes stays within 32 bits */
            }
            *(step < 0 ? &least[side] : &most[side]) += step * (count - 1);
        }
    }
    return least[0] >= 0 && most[0] < size[0] && least[1] >= 0 && most[1] < size[1];
}

static bool check_constant(const nsk_model *m, const nsk_layer *l) {
    return lies_inside(m, (uint32_t)(l->weights - m->bytes), nsk_tensor_bytes(&l->out), 1, 1);
}

static bool check_resize(const nsk_model *m, const nsk_layer *l) {
    uint32_t rows = l->out.height;
    uint32_t all = rows + l->out.width;
    if (l->in.channels != l->out.channels ||
        !lies_inside(m, (uint32_t)(l->weights - m->bytes), all, NSK_BLEND_BYTES, 2)) {
        return false;
    }
    for (uint32_t i = 0; i < all; i++) {
        const uint8_t *at = l->weights + NSK_BLEND_BYTES * i;
        uint32_t size = i < rows ? l->in.height : l->in.width;
        if (nsk_load16(at + NSK_B_FIRST) >= size || nsk_load16(at + NSK_B_SECOND) >= size ||
            nsk_load16(at + NSK_B_PART) > NSK_BLEND_ONE) {
            return false;
        }
    }
    return true;
}

/* Any pad is safe: taps that no input meets are left out. */
static bool check_transposed(const nsk_model *m, const nsk_layer *l) {
    return l->count >= 1 && l->in.channels % l->count == 0 && l->out.channels % l->count == 0 &&
           l->kernel_height >= 1 && l->kernel_width >= 1 && l->stride_down >= 1 &&
           l->stride_across >= 1 && l->dilate_down >= 1 && l->dilate_across >= 1 &&
           check_weights(m, l, kernel_area(l) * (l->in.channels / l->count), false);
}

static bool check_layer(const nsk_model *m, unsigned index) {
    static bool (*const checks[NSK_KINDS])(const nsk_model *, const nsk_layer *) = {
        [NSK_CONV] = check_conv,
        [NSK_DEPTHWISE] = check_depthwise,
        [NSK_DENSE] = check_dense,
        [NSK_MAX_POOL] = check_max_pool,
        [NSK_AVERAGE_POOL] = check_average_pool,
        [NSK_ADD] = check_add,
        [NSK_MULTIPLY] = check_multiply,
        [NSK_TABLE] = check_table,
        [NSK_SOFTMAX] = check_softmax,
        [NSK_LARGER] = check_add,
        [NSK_SMALLER] = check_add,
        [NSK_MOVE] = check_move,
        [NSK_CONSTANT] = check_constant,
        [NSK_RESIZE] = check_resize,
        [NSK_TRANSPOSED] = check_transposed};
    const uint8_t *at = m->bytes + nsk_load32(m->bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES * index;
    uint32_t second = nsk_load16(at + NSK_L_SECOND);
    if (nsk_load16(at + NSK_L_INPUT) >= m->tensors || nsk_load16(at + NSK_L_OUTPUT) >= m->tensors ||
        (second != NSK_NO_TENSOR && second >= m->tensors) || at[NSK_L_KIND] >= NSK_KINDS ||
        checks[at[NSK_L_KIND]] == NULL || !name_lies_inside(m, nsk_load32(at + NSK_L_NAME_AT))) {
        return false;
    }
    nsk_layer l;
    nsk_layer_decode(m, index, &l);
    return l.low <= l.high && checks[l.kind](m, &l);
}

static bool check_frame(const nsk_model *m) {
    uint32_t tables = m->bytes[NSK_H_TABLES];
    if ((m->channels != 1 && m->channels != 3) || (tables != 1 && tables != m->channels) ||
        (unsigned)m->colour > NSK_GREY || (unsigned)m->fit > NSK_PAD ||
        (unsigned)m->resample >= NSK_RESAMPLES || (m->colour == NSK_GREY) != (m->channels == 1) ||
        m->input >= m->tensors || m->output >= m->tensors) {
        return false;
    }
    nsk_tensor in = nsk_tensor_at(m, m->input);
    nsk_tensor out = nsk_tensor_at(m, m->output);
    return in.height == m->height && in.width == m->width && in.channels == m->channels &&
           out.height == 1 && out.width == 1 && out.channels == m->classes &&
           lies_inside(m, nsk_load32(m->bytes + NSK_H_PREPARE_AT), tables, 256, 1);
}

static bool check_texts(const nsk_model *m, uint32_t list, uint32_t count) {
    bool good = lies_inside(m, list, count, 4, 4);
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

static bool check_all(const nsk_model *m) {
    uint32_t tensors = nsk_load32(m->bytes + NSK_H_TENSORS_AT);
    uint32_t layers = nsk_load32(m->bytes + NSK_H_LAYERS_AT);
    if (m->layers < 1 || m->classes < 1 || m->workspace_bytes > MOST_WORKSPACE ||
        !lies_inside(m, tensors, m->tensors, NSK_TENSOR_BYTES, 4) ||
        !lies_inside(m, layers, m->layers, NSK_LAYER_BYTES, 4)) {
        return false;
    }
    for (unsigned i = 0; i < m->tensors; i++) {
        if (!check_tensor(m, i)) {
            return false;
        }
    }
    if (!check_frame(m) || !check_names(m)) {
        return false;
    }
    for (unsigned i = 0; i < m->layers; i++) {
        if (!check_layer(m, i)) {
            return false;
        }
    }
    return true;
}

static void read_header(nsk_model *m) {
    const uint8_t *at = m->bytes;
    m->workspace_bytes = nsk_load32(at + NSK_H_WORKSPACE);
    m->layers = (uint16_t)nsk_load16(at + NSK_H_LAYERS);
    m->tensors = (uint16_t)nsk_load16(at + NSK_H_TENSORS);
    m->classes = (uint16_t)nsk_load16(at + NSK_H_CLASSES);
    m->input = (uint16_t)nsk_load16(at + NSK_H_INPUT);
    m->output = (uint16_t)nsk_load16(at + NSK_H_OUTPUT);
    m->width = (uint16_t)nsk_load16(at + NSK_H_WIDTH);
    m->height = (uint16_t)nsk_load16(at + NSK_H_HEIGHT);
    m->channels = at[NSK_H_CHANNELS];
    m->colour = (nsk_colour)at[NSK_H_COLOUR];
    m->fit = (nsk_fit)at[NSK_H_FIT];
    m->resample = (nsk_resample)at[NSK_H_RESAMPLE];
}

nsk_status nsk_open(nsk_model *m, const void *bytes, size_t size) {
    if ((uintptr_t)bytes % NSK_ALIGNMENT != 0) {
        return NSK_MISALIGNED;
    }
    m->bytes = bytes;
    if (size < NSK_HEADER_BYTES) {
        return size >= 4 && nsk_load32(m->bytes) != NSK_MAGIC ? NSK_NOT_A_MODEL : NSK_TRUNCATED;
    }
    if (nsk_load32(m->bytes + NSK_H_MAGIC) != NSK_MAGIC) {
        return NSK_NOT_A_MODEL;
    }
    if (nsk_load16(m->bytes + NSK_H_VERSION) != NSK_VERSION ||
        nsk_load16(m->bytes + NSK_H_HEADER_BYTES) != NSK_HEADER_BYTES) {
        return NSK_OTHER_VERSION;
    }
    m->size = nsk_load32(m->bytes + NSK_H_SIZE);
    if (m->size > size) {
        return NSK_TRUNCATED;
    }
    if (m->size <= NSK_HEADER_BYTES) {
        return NSK_INCONSISTENT;
    }
    uint32_t crc = nsk_crc32(0, m->bytes, NSK_H_CRC);
    crc = nsk_crc32(crc, m->bytes + NSK_H_WORKSPACE, m->size - NSK_H_WORKSPACE);
    if (crc != nsk_load32(m->bytes + NSK_H_CRC)) {
        return NSK_DAMAGED;
    }
    read_header(m);
    return check_all(m) ? NSK_OK : NSK_INCONSISTENT;
}
