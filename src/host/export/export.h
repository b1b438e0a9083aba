/* export/export: the integer model as standard ONNX, with QuantizeLinear and DequantizeLinear
 * around every operator, so that other tools can compute it. */
#ifndef NSK_EXPORT_EXPORT_H
#define NSK_EXPORT_EXPORT_H

#include "lowered/integer.h"

/* Operator set 14. `scales`: one a tensor of `lowered`. */
bool nsk_onnx_export(const nsk_network *network, const nsk_lowered *lowered,
                     const nsk_scale *scales, const char *path, nsk_error *error);

#endif
