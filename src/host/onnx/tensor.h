/* onnx/tensor: the elements of an ONNX tensor, whatever their type and wherever they are kept. */
#ifndef NSK_ONNX_TENSOR_H
#define NSK_ONNX_TENSOR_H

#include "graph/graph.h"
#include "onnx.pb-c.h"

/* Fills the value's shape and elements. Numbers of any width become float, integers and truth
 * values int64 (and float beside them). External data is read from a file in `folder` (NULL: there
 * is none); one that leads out of it is refused. */
bool nsk_onnx_tensor_load(const Onnx__TensorProto *tensor, const char *folder, nsk_value *value,
                          nsk_error *error);

/* No NaN, and infinity only by itself. */
bool nsk_onnx_is_finite(const nsk_value *value, nsk_error *error);

/* Whether tensors of that ONNX data type are read, and hold integers. */
bool nsk_onnx_type_is_read(int type, bool *whole);

#endif
