/* analysis/vet_ways: the preparations that a network may have been trained with, to be tried. */
#ifndef NSK_ANALYSIS_VET_WAYS_H
#define NSK_ANALYSIS_VET_WAYS_H

#include "base/base.h"
#include "netsuke/vet.h"

/* How bytes become numbers. */
typedef struct nsk_vet_scaling {
    nsk_colour order; /* of mean and deviation; NSK_COLOUR_GREY: whatever the input's is */
    double top;
    double mean[3], deviation[3];
} nsk_vet_scaling;

/* The ways to try, GArray of nsk_alternative, each once; the first is the brief's own. `raw_input`:
 * the network takes bytes, which leaves no scaling to try. `measured` is the images' own mean and
 * deviation. */
GArray *nsk_vet_ways_of(bool raw_input, const nsk_input *brief, const nsk_vet_scaling *measured);
/* Adds each fit, and rows for columns, with everything else as it is in `from`. */
void nsk_vet_add_placements(GArray *ways, const nsk_alternative *from);

bool nsk_vet_same_way(const nsk_alternative *a, const nsk_alternative *b);
/* In the brief's own words, what differs. g_free. */
char *nsk_vet_describe(const nsk_alternative *way, const nsk_input *brief);
/* How many lines of the brief it changes. */
int nsk_vet_keys_changed(const nsk_alternative *way, const nsk_input *brief);

#endif
