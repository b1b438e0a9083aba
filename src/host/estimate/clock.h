/* clock: what a real board's timer says of a model, and a cost table that has learned from it. */
#ifndef NSK_ESTIMATE_CLOCK_H
#define NSK_ESTIMATE_CLOCK_H

#include "estimate/costs.h"
#include "netsuke/device.h"

/* One network's part of a log: ticks of each layer, of preparation. Negative: the log has none. */
typedef struct nsk_clocked {
    int layers;
    double *layer;
    double prepare;
} nsk_clocked;

/* Reads what the timing build prints (the head of self_test.c): the first network of the log whose
 * layers are those of the model, by number and name. Other lines pass. */
bool nsk_clocked_read(const char *path, const nsk_model *model, nsk_clocked *clocked,
                      nsk_error *error);
bool nsk_clocked_parse(const char *text, const char *path, const nsk_model *model,
                       nsk_clocked *clocked, nsk_error *error);
void nsk_clocked_clear(nsk_clocked *clocked);

#endif
