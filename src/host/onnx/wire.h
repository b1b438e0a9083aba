/* onnx/wire: is a file worth parsing? Goes through its messages without making anything of them, as
 * the parser calls itself for each message in a message and makes hundreds of bytes of two. */
#ifndef NSK_ONNX_WIRE_H
#define NSK_ONNX_WIRE_H

#include "base/base.h"

/* Whether the bytes are the messages of an ONNX model, of no absurd depth and number. */
bool nsk_onnx_wire_is_good(const uint8_t *bytes, size_t size, nsk_error *error);

#endif
