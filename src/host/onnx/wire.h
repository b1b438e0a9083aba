/* onnx/wire: is a file worth parsing? Goes through its messages without making anything of them, as
 * the parser calls itself for each message in a message and makes hundreds of bytes of two. */
#ifndef NSK_ONNX_WIRE_H
#define NSK_ONNX_WIRE_H

#include "base/base.h"
#include "onnx.pb-c.h"

/* Whether the bytes are the messages of an ONNX model, of no absurd depth and number. */
bool nsk_onnx_wire_is_good(const uint8_t *bytes, size_t size, nsk_error *error);
/* The same of another message. */
bool nsk_onnx_wire_fits(const uint8_t *bytes, size_t size, const ProtobufCMessageDescriptor *of,
                        nsk_error *error);

#endif
