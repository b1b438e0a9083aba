/* train/export: writes a trained net as ONNX, batch normalisation unfolded. */
#ifndef NSK_TRAIN_EXPORT_H
#define NSK_TRAIN_EXPORT_H

#include "base/base.h"
#include "train/net.h"

/* Opset 13 (14 where hard swish needs it, 17 to 20 for layer normalisation, tokens, Gelu), batch
 * left open, input `image` as N x C x H x W, output `probabilities` after Softmax.
 */
bool nsk_train_export(const nsk_train_net *net, const char *name, const char *path,
                      nsk_error *error);

#endif
