/* netsuke/headroom.h: which limit binds, and what would give it back. */
#ifndef NETSUKE_HEADROOM_H
#define NETSUKE_HEADROOM_H

#include "netsuke/budget.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Something that could be changed, and what the budget would be then. */
typedef struct nsk_way_out {
    char *what;                 /* "input of 32 x 32" */
    double flash, ram, seconds; /* the whole budget's */
    bool trains; /* the network has to be trained again, so that its accuracy is open */
    bool fits;   /* flash, RAM and latency hold */
} nsk_way_out;

typedef struct nsk_headroom {
    int tightest; /* NSK_LIMIT_FLASH, ...: the limit of which most is used */
    double clock; /* Hz at which the limit of latency is just met */
    int count;    /* of ways: the one that gives most of the tightest limit back comes first */
    nsk_way_out *way;
    const char *silent; /* why smaller inputs and narrower networks are not among them; or NULL */
} nsk_headroom;

/* `streamed`: the same network's model with its first layers streamed, or NULL. Smaller and
 * narrower networks are reckoned from the layers' shapes; their workspace, as the bound for it
 * grows. */
nsk_headroom *nsk_headroom_make(const nsk_model_file *model, const nsk_model_file *streamed,
                                const nsk_board *board, const nsk_product *product,
                                const nsk_limits *limits, nsk_error *error);
void nsk_headroom_free(nsk_headroom *headroom);

#ifdef __cplusplus
}
#endif
#endif
