/* onnx/unknown: operators that are not read, and what to do instead. */
#ifndef NSK_ONNX_UNKNOWN_H
#define NSK_ONNX_UNKNOWN_H

#include "base/base.h"
#include "onnx.pb-c.h"

/* The error of a node whose operator is not known here; returns false. */
bool nsk_onnx_unknown(const Onnx__NodeProto *node, nsk_error *error);

#endif
