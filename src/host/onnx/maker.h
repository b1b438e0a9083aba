/* onnx/maker: builds an ONNX file node by node and writes it. Everything is copied. */
#ifndef NSK_ONNX_MAKER_H
#define NSK_ONNX_MAKER_H

#include "base/base.h"
#include "onnx.pb-c.h"

typedef struct nsk_onnx_maker nsk_onnx_maker;

nsk_onnx_maker *nsk_onnx_maker_new(const char *graph_name, const char *producer, int64_t opset);
void nsk_onnx_maker_free(nsk_onnx_maker *maker);

/* The graph's input and output, of floats; an axis of 0 is the batch, left open. */
void nsk_onnx_put_input(nsk_onnx_maker *maker, const char *name, int rank, const int64_t *dims);
void nsk_onnx_put_output(nsk_onnx_maker *maker, const char *name, int rank, const int64_t *dims);

/* A constant of that element type (ONNX__TENSOR_PROTO__DATA_TYPE__...), its elements little-endian
 * in `size` bytes. */
void nsk_onnx_put_constant(nsk_onnx_maker *maker, const char *name, int type, int rank,
                           const int64_t *dims, const void *elements, size_t size);
void nsk_onnx_put_floats(nsk_onnx_maker *maker, const char *name, int rank, const int64_t *dims,
                         const float *numbers);
void nsk_onnx_put_integers(nsk_onnx_maker *maker, const char *name, int64_t count,
                           const int64_t *numbers);

/* A node; inputs and attributes follow. A name that is NULL stands for an input left out. */
Onnx__NodeProto *nsk_onnx_put_node(nsk_onnx_maker *maker, const char *op, const char *name,
                                   const char *output);
void nsk_onnx_add_input(nsk_onnx_maker *maker, Onnx__NodeProto *node, const char *name);
void nsk_onnx_add_int(nsk_onnx_maker *maker, Onnx__NodeProto *node, const char *name,
                      int64_t value);
void nsk_onnx_add_float(nsk_onnx_maker *maker, Onnx__NodeProto *node, const char *name,
                        double value);
void nsk_onnx_add_text(nsk_onnx_maker *maker, Onnx__NodeProto *node, const char *name,
                       const char *value);
void nsk_onnx_add_ints(nsk_onnx_maker *maker, Onnx__NodeProto *node, const char *name, size_t count,
                       const int64_t *values);

/* An entry of the model's metadata. */
void nsk_onnx_put_fact(nsk_onnx_maker *maker, const char *key, const char *value);

bool nsk_onnx_maker_write(nsk_onnx_maker *maker, const char *path, nsk_error *error);
/* The same bytes. g_free. */
uint8_t *nsk_onnx_maker_bytes(nsk_onnx_maker *maker, size_t *size);

#endif
