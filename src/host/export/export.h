/* export/export: the integer model as standard ONNX, with QuantizeLinear and DequantizeLinear
 * around every operator (levels of int16 where the model has them), so that other tools can compute
 * it. */
#ifndef NSK_EXPORT_EXPORT_H
#define NSK_EXPORT_EXPORT_H

#include "lowered/integer.h"

/* The bytes of a file of operator set 21; g_free, NULL where it cannot be. `scales`: one a tensor
 * of `lowered`. With NULL for both, the float network as it is. */
uint8_t *nsk_onnx_export(const nsk_network *network, const nsk_lowered *lowered,
                         const nsk_scale *scales, size_t *size, nsk_error *error);

#endif
