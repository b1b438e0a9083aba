#include "analysis/beside.h"

const float *nsk_values_beside(const nsk_graph *graph, const nsk_pass *pass,
                               const nsk_lowered_tensor *t, nsk_planes *planes) {
    if (t->value == NSK_NONE || t->order == NSK_ORDER_OTHER) {
        return NULL;
    }
    const nsk_value *value = nsk_graph_value(graph, t->value);
    const size_t count = (size_t)t->height * (size_t)t->width * (size_t)t->channels;
    if (t->order == NSK_ORDER_OF_ONNX) {
        *planes = (nsk_planes){1, count};
        return nsk_pass_value(pass, t->value);
    }
    nsk_lowered_tensor plain;
    bool fits = nsk_plain_layout(value, &plain) &&
                ((plain.height == t->height && plain.width == t->width) ||
                 (t->height == 1 && t->width == 1)) &&
                nsk_value_count(value) == count;
    if (!fits) {
        return NULL;
    }
    *planes = nsk_plain_planes(value);
    return nsk_pass_value(pass, t->value);
}
