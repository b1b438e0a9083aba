/* netsuke/probe.h: what every layer makes of one image, in float and in integers. */
#ifndef NETSUKE_PROBE_H
#define NETSUKE_PROBE_H

#include "netsuke/quantise.h"

#ifdef __cplusplus
extern "C" {
#endif

/* One layer's output, height x width x channels, channels fastest, as the device has it. */
typedef struct nsk_probe {
    const char *name; /* of the layer, as outline and drift list it */
    int height, width, channels;
    float scale; /* value = scale x (level - zero) */
    int zero;
    int32_t *levels; /* the integer model's */
    float *by_float; /* the float network's; NULL where it has no tensor of this form there */
    double low[2], high[2]; /* of the values: float (infinite where there are none), integer */
    double sqnr_db; /* signal over error of this picture, 10 log10, both as a function takes them
                     * where that alone reads them; INFINITY where none differs */
} nsk_probe;

typedef struct nsk_probing {
    int layers;
    nsk_probe *layer;
    nsk_model_file *file; /* the names stand in it */
} nsk_probing;

/* Runs both on a frame (width x height x channels bytes in the input's order). The model must have
 * been made from this network, equalised as the recipe said, and keep whole tensors: not streamed.
 */
nsk_probing *nsk_probe_frame(const nsk_network *network, const nsk_model_file *file,
                             const nsk_labels *labels, const nsk_input *input, const uint8_t *frame,
                             nsk_error *error);
void nsk_probing_free(nsk_probing *probing);

/* The layer of that name, or NULL and an error that says which was probably meant. */
const nsk_probe *nsk_probe_named(const nsk_probing *probing, const char *name, nsk_error *error);

/* Writes an NPY file (version 1.0) of binary32, 2 x height x width x channels: the float network's
 * values, then the integer model's; where the first are not there, 1 x ... of the second. */
bool nsk_probe_write(const nsk_probe *probe, const char *path, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
