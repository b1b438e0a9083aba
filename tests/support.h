/* support: what several suites need: small ONNX models, the kiln line's objects. */
#ifndef NSK_TESTS_SUPPORT_H
#define NSK_TESTS_SUPPORT_H

#include <CUnit/CUnit.h>
#include <glib.h>

#include "base/random.h"
#include "netsuke/quantise.h"
#include "scratch.h"

/* The header of an NPY file of unsigned bytes. */
void scratch_npy_header(GByteArray *file, const int *dims, int rank);

/* Whether a line of the shell ends with status 0 in a folder; prints what it says where not. */
bool runs(const char *folder, const char *line);

/* CU_ASSERT that an error's text holds a part ("": that there is none), and show both where it
 * does not. */
void assert_error(const nsk_error *error, const char *part);

/* ---- a small ONNX model, node by node ---- */

typedef struct onnx_maker onnx_maker;

/* Input "x" of 1 x channels x height x width; 0 leaves an axis open. */
onnx_maker *onnx_new(int opset, int channels, int height, int width);
/* A constant; its numbers come from `r` (normal, divided by the root of about as many as are
 * summed) times `value`, or are all `value` where `r` is NULL. */
void onnx_floats(onnx_maker *maker, const char *name, int rank, const int *dims, random_state *r,
                 float value);
/* A constant of int8 or uint8, one axis. */
void onnx_bytes_constant(onnx_maker *maker, const char *name, bool is_unsigned, int count,
                         const int8_t *numbers);
/* A constant of one int16. */
void onnx_short(onnx_maker *maker, const char *name, int16_t number);
void onnx_integers(onnx_maker *maker, const char *name, int count, const int64_t *numbers);
/* `inputs`, `output` and `attributes` are parted by blanks, where there are several. An attribute
 * is name=iNUMBER, name=fNUMBER, name=sTEXT, name=lN,N,... or, in a function, name=$ITS-ATTRIBUTE.
 * An operator of another domain is "domain.Op". */
void onnx_node(onnx_maker *maker, const char *op, const char *inputs, const char *output,
               const char *attributes);
/* Makes the last `count` nodes the body of a function "domain.Op". */
void onnx_function(onnx_maker *maker, const char *op, const char *inputs, const char *outputs,
                   int count);
/* What an attribute of the function made last is where a call does not say. */
void onnx_default(onnx_maker *maker, const char *attribute);
/* The last node's output is the model's. Writes the file and frees. */
void onnx_finish(onnx_maker *maker, const char *path);
/* The same, as bytes: g_free. */
uint8_t *onnx_bytes(onnx_maker *maker, size_t *size);

/* ---- the demo's own files ---- */

typedef struct kiln {
    nsk_brief *brief;
    nsk_network *network;
    nsk_images *calibration, *held_out;
    nsk_model_file *file;
} kiln;

/* What a model file makes of a frame, one pixel row behind the other; `scores`: one a class. */
void model_scores(const nsk_model_file *file, const uint8_t *frame, int32_t *scores);

/* The demo's network quantised on `images` of its calibration images. */
void kiln_load(kiln *k, int images);
void kiln_free(kiln *k);
/* Freshly drawn pictures of the kiln line, as an array in the folder; labels that the brief has
 * more than the line mean nothing. */
nsk_images *kiln_fresh(const kiln *k, const char *folder, uint64_t seed, int count);

/* A folder of noise pictures: `per_class` in each of the labels' folders. */
void noise_set(const char *folder, const nsk_labels *labels, int per_class, int width, int height);

#endif
