/* onnx/operators: which ONNX operators are read, and how their attributes are. What older operator
 * sets say in attributes becomes the constant input that newer ones have. */
#ifndef NSK_ONNX_OPERATORS_H
#define NSK_ONNX_OPERATORS_H

#include "graph/graph.h"
#include "onnx.pb-c.h"

typedef struct nsk_onnx_source {
    const Onnx__NodeProto *node;
    nsk_graph *graph;
    int64_t opset;
    nsk_error *error;
} nsk_onnx_source;

typedef struct nsk_onnx_operator {
    const char *name;
    nsk_op op;
    int least, most; /* inputs; the first `least` must be there */
    int computed;    /* how many of them may be computed; the others are weights and settings */
    bool (*read)(const nsk_onnx_source *source, nsk_node *node); /* NULL: no attributes */
} nsk_onnx_operator;

/* NULL where the operator is not supported. */
const nsk_onnx_operator *nsk_onnx_operator_find(const char *name);

/* The attribute of that name and type, or NULL. */
const Onnx__AttributeProto *nsk_onnx_attribute(const Onnx__NodeProto *node, const char *name,
                                               Onnx__AttributeProto__AttributeType type);
/* Fails where an attribute that is read anywhere has a type that it never has. */
bool nsk_onnx_attributes_are_typed(const nsk_onnx_source *source);
int64_t nsk_onnx_int(const nsk_onnx_source *source, const char *name, int64_t otherwise);

#endif
