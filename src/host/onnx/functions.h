/* onnx/functions: operators that are functions of others. A file may bring its own, and the
 * standard defines some of its operators so; a node that calls one becomes the nodes of its body.
 */
#ifndef NSK_ONNX_FUNCTIONS_H
#define NSK_ONNX_FUNCTIONS_H

#include "base/base.h"
#include "onnx.pb-c.h"

typedef struct nsk_onnx_functions nsk_onnx_functions;

/* Whether the value that the file calls so holds truth values (bool). */
typedef bool nsk_onnx_is_truth(const void *context, const char *name);

/* Those of the model, which must live as long. NULL where one of them is damaged. */
nsk_onnx_functions *nsk_onnx_functions_new(const Onnx__ModelProto *model, nsk_onnx_is_truth *asks,
                                           const void *context, nsk_error *error);
void nsk_onnx_functions_free(nsk_onnx_functions *functions);

/* The function that the node calls, in a file of that operator set; NULL where it calls none. */
const Onnx__FunctionProto *nsk_onnx_function_of(nsk_onnx_functions *functions,
                                                const Onnx__NodeProto *node, int64_t opset);

/* The body's node `index` as the call runs it: its names are the call's own, attributes that refer
 * to the call's are those or their defaults. It lives as long as the functions. */
Onnx__NodeProto *nsk_onnx_function_node(nsk_onnx_functions *functions,
                                        const Onnx__FunctionProto *function,
                                        const Onnx__NodeProto *call, size_t index);

#endif
