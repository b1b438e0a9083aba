/* modelfile/check: do a network, a model file and an image set speak of the same thing? */
#ifndef NSK_MODELFILE_CHECK_H
#define NSK_MODELFILE_CHECK_H

#include "graph/graph.h"
#include "netsuke/quantise.h"

/* Same picture size and channels, as many labels as outputs. */
bool nsk_network_takes(const nsk_network *network, const nsk_images *images, nsk_error *error);
/* The same, and the same labels in the same order, colour order and preparation of bytes. */
bool nsk_model_takes(const nsk_model *model, const nsk_images *images, nsk_error *error);
/* Opens a model file that is to run on those images beside the network, which may be NULL. */
bool nsk_model_open_for(const nsk_network *network, const nsk_model_file *file,
                        const nsk_images *images, nsk_model *model, nsk_error *error);

#endif
