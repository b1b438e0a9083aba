/* netsuke/quantise.h: from a float network to the integer model's file. */
#ifndef NETSUKE_QUANTISE_H
#define NETSUKE_QUANTISE_H

#include "netsuke/images.h"
#include "netsuke/network.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Where a model runs if not here: on a board (on_board.h). Called by one thread at a time. */
typedef struct nsk_elsewhere {
    /* `scores`: those that this machine computes of the frame; it puts its own in their place. */
    bool (*run)(void *context, const uint8_t *frame, int32_t *scores, nsk_error *error);
    void *context;
} nsk_elsewhere;

/* The bytes of a model file, aligned for nsk_open. */
typedef struct nsk_model_file {
    uint8_t *bytes;
    size_t size;
    size_t weight_bytes;          /* weights and biases among them */
    size_t workspace_lower_bound; /* most bytes alive at one step: no plan can need less */
    int fitted; /* calibration images that rounding and biases were fitted on; 0: nothing was */
    const nsk_elsewhere *elsewhere; /* NULL: here. compare, stress, classify, rehearse look at it */
    int moved; /* copies of few calibration images that were looked at besides, moved a little */
} nsk_model_file;

/* Observes the range of every tensor on the calibration images, quantises, proves that no
 * accumulator can overflow, places the tensors in RAM and writes the model into memory. Of fewer
 * than 64 images, ranges are of moved copies, too: by a sixteenth of the size, in four directions.
 * The same inputs give the same bytes on any number of threads. `recipe` may be NULL: the usual
 * one. */
nsk_model_file *nsk_quantise(const nsk_network *network, const nsk_images *calibration,
                             const nsk_recipe *recipe, nsk_error *error);
/* The network as nsk_quantise sees it after evening out its channels: the same function. */
nsk_network *nsk_network_equalised(const nsk_network *network, const nsk_images *calibration,
                                   nsk_error *error);

/* The same integer model as standard ONNX, with QuantizeLinear and DequantizeLinear, for other
 * tools. Its input is what the network's file takes. Read back, it quantises to the same levels. */
bool nsk_quantise_onnx(const nsk_network *network, const nsk_images *calibration,
                       const nsk_recipe *recipe, const char *path, nsk_error *error);
/* Weights in a core's own order come in the usual one, which the host is quick with.
 * nsk_model_file_free. */
nsk_model_file *nsk_model_file_read(const char *path, nsk_error *error);
bool nsk_model_file_write(const nsk_model_file *file, const char *path, nsk_error *error);
/* Writes a C source that holds the model as `const uint8_t NAME[]` and `const size_t NAME_bytes`.
 */
bool nsk_model_file_write_c(const nsk_model_file *file, const char *path, const char *name,
                            nsk_error *error);
void nsk_model_file_free(nsk_model_file *file);
/* The same model as that core's kernels are quickest with: weights in an order of their own, in the
 * same bytes of flash, or in the usual one. Builds for other cores compute the same of it, slowly,
 * or refuse it as of another version (docs/model-file.md says which). nsk_model_file_free. */
nsk_model_file *nsk_model_file_for_core(const nsk_model_file *model, const char *core);

/* Does an open model take such pictures and carry these labels in this order? */
bool nsk_model_is_for(const nsk_model *model, const nsk_labels *labels, const nsk_input *input,
                      nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
