/* link/kept: what a board has said of frames, kept in a file, so that a link that broke need not
 * begin anew. */
#ifndef NSK_LINK_KEPT_H
#define NSK_LINK_KEPT_H

#include "netsuke/on_board.h"

typedef struct nsk_kept nsk_kept;

/* Reads what the folder has of that model on that core: lines that are no whole ones are passed
 * over.
 */
nsk_kept *nsk_kept_open(const char *folder, const nsk_model *model, const char *core,
                        nsk_error *error);
/* Such a file's text by itself, of which nothing is written. */
nsk_kept *nsk_kept_parse(const char *text, size_t size, const nsk_model *model);
void nsk_kept_close(nsk_kept *kept);

/* What was said of a frame: scores, and, where `layers` is not NULL, ticks and stack of each layer
 * and the preparation. False where that is not known. */
bool nsk_kept_find(nsk_kept *kept, const uint8_t *frame, int32_t *scores, nsk_link_layer *layers);
/* Adds it, at once. */
bool nsk_kept_add(nsk_kept *kept, const uint8_t *frame, const int32_t *scores,
                  const nsk_link_layer *layers, nsk_error *error);
/* Frames that were found. */
long nsk_kept_found(const nsk_kept *kept);

#endif
