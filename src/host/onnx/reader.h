/* onnx/reader: a file on its way into a graph; what the files that read parts of it share. */
#ifndef NSK_ONNX_READER_H
#define NSK_ONNX_READER_H

#include "onnx/functions.h"
#include "onnx/read.h"

typedef struct nsk_reader {
    const Onnx__GraphProto *source;
    nsk_graph *graph;
    GHashTable *by_name; /* value's name to index + 1 */
    int64_t opset;
    const nsk_onnx_options *options;
    GHashTable *left_out; /* names of second outputs, which nothing may read */
    nsk_onnx_functions *functions;
    size_t nodes;       /* read so far, those of functions as often as they are called */
    int depth;          /* of calls */
    GHashTable *chosen; /* names of numbers of classes, to the scores that they are of + 1 */
    nsk_error *error;
} nsk_reader;

/* The value of that name, or NSK_NONE. */
int nsk_reader_find(const nsk_reader *r, const char *name);
/* A new value, or NSK_NONE and an error where the name is taken or missing. */
int nsk_reader_define(nsk_reader *r, const char *name, const char *what);
/* The tensor's elements as that value's. */
bool nsk_reader_load(nsk_reader *r, const Onnx__TensorProto *tensor, int value);

/* The graph's input; or, where tensors are bound to several, all of them as parts of one. */
bool nsk_reader_inputs(nsk_reader *r);

#endif
