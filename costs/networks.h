/* networks: whole networks of many forms, none of them in the grid, to try estimates on. */
#ifndef NSK_COSTS_NETWORKS_H
#define NSK_COSTS_NETWORKS_H

#include "base/base.h"
#include "netsuke/quantise.h"

/* A network in words, parted by blanks: first its input, SIZExCHANNELS, then its layers:
 *
 *     cK/S:N  convolution K x K at stride S to N channels    dK/S  depthwise convolution
 *     mK/S    largest of K x K                                aK/S  their mean
 *     g       mean of the picture                             f:N   dense, to N
 *     t       a table                                         +N    add what stands N layers before
 *     s       scores of two, a softmax: the last
 */
typedef struct cost_network {
    const char *name, *layers;
} cost_network;
extern const cost_network cost_networks[];
extern const int cost_network_count;

/* With weights of noise. */
nsk_model_file *cost_network_model(const cost_network *network, nsk_error *error);

#endif
