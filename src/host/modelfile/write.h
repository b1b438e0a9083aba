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
} nsk_model_parts;

/* Writes and opens it, so that what comes back has passed every check of the device's. */
nsk_model_file *nsk_model_write(const nsk_model_parts *parts, nsk_error *error);

#endif
