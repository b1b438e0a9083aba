/* Reading an open model: tensors, layers, names, what a layer costs. */
#include "small.h"

#include "format.h"
#include "layer.h"

/* One behind the other, in the order of nsk_status: a table of pointers would be as long again. */
static const char texts[] = "good\0"
                            "not at a multiple of four\0"
                            "cut short\0"
                            "not a model file\0"
                            "of another version\0"
                            "damaged: its checksum is wrong\0"
                            "inconsistent in itself\0"
                            "in need of a layer that is left out\0"
                            "larger than the workspace\0"
                            "larger than its pictures\0"
                            "without memory\0"
                            "unknown";

const char *nsk_status_text(nsk_status status) {
    const char *text = texts;
    for (unsigned before = 0; before < (unsigned)status && before < NSK_STATUSES; before++) {
        while (*text++ != '\0') {
        }
    }
    return text;
}

static const uint8_t *tensor_record(const nsk_model *model, unsigned tensor) {
    return model->bytes + nsk_load32(model->bytes + NSK_H_TENSORS_AT) + NSK_TENSOR_BYTES * tensor;
}

void nsk_tensor_decode(const nsk_model *model, unsigned tensor, nsk_tensor *t) {
    const uint8_t *at = tensor_record(model, tensor);
    uint32_t rows = at[NSK_T_ROWS];
    t->offset = nsk_load32(at + NSK_T_PLACE);
    t->height = (uint16_t)nsk_load16(at + NSK_T_HEIGHT);
    t->width = (uint16_t)nsk_load16(at + NSK_T_WIDTH);
    t->channels = (uint16_t)nsk_load16(at + NSK_T_CHANNELS);
    t->pixel_stride = t->channels;
    t->element = 1;
    t->fraction = 0;
    t->slice = rows == NSK_SLICE;
    if (t->slice) {
        at = tensor_record(model, nsk_load32(at + NSK_T_SCALE));
        rows = at[NSK_T_ROWS];
        t->offset += nsk_load32(at + NSK_T_PLACE);
        t->pixel_stride = (int32_t)nsk_load16(at + NSK_T_CHANNELS);
    } else if (rows >= NSK_FINE) {
        const bool fine = rows < NSK_WIDE_16;
        t->element = (uint8_t)(fine ? 2U : 1U << rows % 4U);
        t->fraction = fine ? 8 : 0;
        t->pixel_stride *= t->element;
        rows = fine ? rows - NSK_FINE : 0U;
    }
    t->rows = (uint16_t)(rows != 0 ? rows : t->height);
    t->zero = (int8_t)at[NSK_T_ZERO];
    t->scale_bits = nsk_load32(at + NSK_T_SCALE);
}

nsk_tensor nsk_tensor_at(const nsk_model *model, unsigned tensor) {
    nsk_tensor t;
    nsk_tensor_decode(model, tensor, &t);
    return t;
}

static const uint8_t *layer_record(const nsk_model *model, unsigned layer) {
    return model->bytes + nsk_load32(model->bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES * layer;
}

void nsk_layer_decode(const nsk_model *model, unsigned index, nsk_layer *l) {
    const uint8_t *at = layer_record(model, index);
    uint32_t second = nsk_load16(at + NSK_L_SECOND);
    l->kind = (nsk_kind)at[NSK_L_KIND];
    l->flags = at[NSK_L_FLAGS];
    l->count = nsk_load16(at + NSK_L_COUNT);
    uint32_t first = nsk_load16(at + NSK_L_INPUT);
    l->has_second = second != NSK_NO_TENSOR;
    nsk_tensor_decode(model, first, &l->in);
    nsk_tensor_decode(model, l->has_second ? second : first, &l->second);
    nsk_tensor_decode(model, nsk_load16(at + NSK_L_OUTPUT), &l->out);
    l->kernel_height = at[NSK_L_KERNEL_HEIGHT];
    l->kernel_width = at[NSK_L_KERNEL_WIDTH];
    l->stride_down = at[NSK_L_STRIDE_DOWN];
    l->stride_across = at[NSK_L_STRIDE_ACROSS];
    l->dilate_down = at[NSK_L_DILATE_DOWN];
    l->dilate_across = at[NSK_L_DILATE_ACROSS];
    l->pad_top = at[NSK_L_PAD_TOP];
    l->pad_left = at[NSK_L_PAD_LEFT];
    bool wide = l->out.element > 1 && l->out.fraction == 0;
    l->low = wide ? INT16_MIN : (int8_t)at[NSK_L_LOW];
    l->high = wide ? INT16_MAX : (int8_t)at[NSK_L_HIGH];
    l->weights = model->bytes + nsk_load32(at + NSK_L_WEIGHTS_AT);
    l->requantise = model->bytes + nsk_load32(at + NSK_L_REQUANTISE_AT);
    l->scratch = nsk_load32(at + NSK_L_SCRATCH_AT);
    l->multipliers = model->bytes + nsk_load32(at + NSK_L_MULTIPLIERS_AT);
    l->shifts = model->bytes + nsk_load32(at + NSK_L_SHIFTS_AT);
}

nsk_kind nsk_layer_kind(const nsk_model *model, unsigned layer) {
    return (nsk_kind)layer_record(model, layer)[NSK_L_KIND];
}

unsigned nsk_layer_output(const nsk_model *model, unsigned layer) {
    return nsk_load16(layer_record(model, layer) + NSK_L_OUTPUT);
}

const char *nsk_layer_name(const nsk_model *model, unsigned layer) {
    return (const char *)model->bytes + nsk_load32(layer_record(model, layer) + NSK_L_NAME_AT);
}

const char *nsk_label(const nsk_model *model, unsigned class_index) {
    const uint8_t *offsets = model->bytes + nsk_load32(model->bytes + NSK_H_LABELS_AT);
    return (const char *)model->bytes + (uint32_t)nsk_word(offsets, class_index);
}

const char *nsk_model_fact(const nsk_model *model, nsk_fact fact) {
    const uint8_t *offsets = model->bytes + nsk_load32(model->bytes + NSK_H_FACTS_AT);
    return (const char *)model->bytes + (uint32_t)nsk_word(offsets, (uint32_t)fact);
}

const int32_t *nsk_scores(const nsk_model *model, const void *workspace) {
    return (const int32_t *)workspace + nsk_tensor_at(model, model->output).offset / 4U;
}

unsigned nsk_best(const nsk_model *model, const int32_t *scores) {
    unsigned best = 0;
    for (unsigned c = 1; c < model->classes; c++) {
        best = scores[c] > scores[best] ? c : best;
    }
    return best;
}
