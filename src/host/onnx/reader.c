#include "onnx/reader.h"

#include "onnx/tensor.h"

int nsk_reader_find(const nsk_reader *r, const char *name) {
    return GPOINTER_TO_INT(g_hash_table_lookup(r->by_name, name)) - 1;
}

int nsk_reader_define(nsk_reader *r, const char *name, const char *what) {
    if (name == NULL || *name == '\0' || !g_utf8_validate(name, -1, NULL)) {
        nsk_fail(r->error, "%s has no proper name; the file is damaged", what);
        return NSK_NONE;
    }
    if (nsk_reader_find(r, name) != NSK_NONE) {
        nsk_fail(r->error, "'%s' is defined twice; the file is damaged", name);
        return NSK_NONE;
    }
    int value = nsk_graph_add_value(r->graph, name);
    g_hash_table_insert(r->by_name, nsk_graph_value(r->graph, value)->name,
                        GINT_TO_POINTER(value + 1));
    return value;
}

bool nsk_reader_load(nsk_reader *r, const Onnx__TensorProto *t, int index) {
    nsk_value *value = nsk_graph_value(r->graph, index);
    return nsk_onnx_tensor_load(t, r->options->folder, value, r->error) &&
           nsk_onnx_is_finite(value, r->error);
}
