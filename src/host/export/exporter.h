/* export/exporter: an ONNX file that is being made, and what all of its layers are made with. */
#ifndef NSK_EXPORT_EXPORTER_H
#define NSK_EXPORT_EXPORTER_H

#include "lowered/integer.h"
#include "onnx/maker.h"

typedef struct nsk_exporter {
    const nsk_graph *graph;
    const nsk_lowered *lowered; /* NULL: the float network is written */
    const nsk_scale *scales;    /* NULL then, too */
    nsk_onnx_maker *maker;
    char **names; /* of each value, as its readers see it; NULL: not written yet */
    int fresh;    /* for names that need a number */
    nsk_error *error;
} nsk_exporter;

const nsk_value *nsk_export_input(const nsk_exporter *e, const nsk_node *node, int input);

/* A new constant as the node's next input: `count` along an axis, or one number where `one`. */
void nsk_export_scale(nsk_exporter *e, Onnx__NodeProto *n, int64_t count, const float *scales,
                      bool one);
void nsk_export_zeroes(nsk_exporter *e, Onnx__NodeProto *n, int64_t count, const int8_t *zeroes);
void nsk_export_integers(nsk_exporter *e, Onnx__NodeProto *n, int64_t count,
                         const int64_t *numbers);

/* The tensor whose scale a value has, or NSK_NONE for one that only looks at another. */
int nsk_export_tensor(const nsk_exporter *e, int value);
/* Rounds `from` to levels, of int16 where `wide`, and takes it back; returns the name of what comes
 * out. g_free. */
char *nsk_export_pair(nsk_exporter *e, const char *from, nsk_scale s, bool wide);

/* A value's name as its readers see it; a constant is written when it is first asked for. */
const char *nsk_export_name_of(nsk_exporter *e, int value);
/* A node that reads the graph's node's first input. */
Onnx__NodeProto *nsk_export_start(nsk_exporter *e, const nsk_node *node, const char *op,
                                  const char *output);
void nsk_export_window(nsk_exporter *e, Onnx__NodeProto *n, const nsk_node *node);

/* A convolution or product with constant weights: weights.c. */
bool nsk_export_weighted(nsk_exporter *e, const nsk_node *node, const char *output);

/* A normalisation, written out: normalise.c. */
bool nsk_export_normalise(nsk_exporter *e, const nsk_node *node, const char *output);

#endif
