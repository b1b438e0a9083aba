/* onnx/facts: what a file's metadata says of the model. */
#ifndef NSK_ONNX_FACTS_H
#define NSK_ONNX_FACTS_H

#include "base/base.h"
#include "onnx.pb-c.h"

/* Fills each fact that the file gives; the others stay NULL. g_free. */
void nsk_onnx_facts(const Onnx__ModelProto *model, char **facts);

#endif
