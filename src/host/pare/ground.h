/* pare/ground: what a network is pared for. */
#ifndef NSK_PARE_GROUND_H
#define NSK_PARE_GROUND_H

#include "netsuke/pare.h"

typedef struct nsk_pare_ground {
    const nsk_network *network; /* as it was: its facts travel along */
    const nsk_images *calibration;
    const nsk_recipe *recipe;
    const nsk_board *board;
    const nsk_product *product;
    const nsk_limits *limits;
    nsk_error *error;
} nsk_pare_ground;

#endif
