/* modelfile/write: the bytes of a model file. */
#ifndef NSK_MODELFILE_WRITE_H
#define NSK_MODELFILE_WRITE_H

#include "lowered/integer.h"
#include "netsuke/quantise.h"
#include "passes/schedule.h"

typedef struct nsk_model_parts {
    const char *facts[NSK_FACTS];
    const nsk_labels *labels;
    const nsk_input *input;
    const nsk_graph *graph; /* what its own first nodes do to the input */
    const nsk_lowered *lowered;
    const nsk_scale *scales;         /* one a tensor */
    const nsk_integer_layer *layers; /* one a layer */
    const nsk_schedule *schedule;
    const nsk_model *like; /* one of the same layers that is open, or NULL */
} nsk_model_parts;

/* Writes and opens it, so that what comes back has passed every check of the device's. Where only
 * the weights are others than in `like`, those checks are not made again: a model that is learned
 * from thousands of times would be looked through as often, byte by byte where layers join. */
nsk_model_file *nsk_model_write(const nsk_model_parts *parts, nsk_error *error);

#endif
