/* onnx/operators: which ONNX operators are read, and how their attributes are. */
#ifndef NSK_ONNX_OPERATORS_H
#define NSK_ONNX_OPERATORS_H

#include "graph/graph.h"
#include "onnx.pb-c.h"

typedef struct nsk_onnx_source {
    const Onnx__NodeProto *node;
    int64_t opset;
    nsk_error *error;
} nsk_onnx_source;

typedef struct nsk_onnx_operator {
    nsk_op op;
    int least, most; /* inputs; the first `least` must be there */
    bool (*read)(const nsk_onnx_source *source, nsk_attributes *attributes); /* NULL: none */
} nsk_onnx_operator;

/* NULL where the operator is not supported. */
const nsk_onnx_operator *nsk_onnx_operator_find(const char *name);

/* "Add, AveragePool, ...": g_free. */
char *nsk_onnx_operator_list(void);

/* The attribute of that name and type, or NULL. */
const Onnx__AttributeProto *nsk_onnx_attribute(const Onnx__NodeProto *node, const char *name,
                                               Onnx__AttributeProto__AttributeType type);

#endif
