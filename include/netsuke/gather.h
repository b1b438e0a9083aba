/* netsuke/gather.h: pictures of a camera, taken into a set: a folder a label. Nothing is
 * overwritten, nothing deleted; each step stands in a journal and can be taken back. */
#ifndef NETSUKE_GATHER_H
#define NETSUKE_GATHER_H

#include "netsuke/brief.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct nsk_gathering nsk_gathering;

/* Makes the folder, where it is not there, and counts the pictures that its labels' folders hold.
 * The labels must outlive it. */
nsk_gathering *nsk_gathering_open(const char *folder, const nsk_labels *labels, nsk_error *error);
void nsk_gathering_close(nsk_gathering *gathering);

/* Writes a picture, rows of red, green and blue, as "LABEL/TIME-ANSWER-PERCENT.png": when it was
 * taken (UTC), what the network says of it and how sure it is. */
bool nsk_gathering_take(nsk_gathering *gathering, const uint8_t *rgb, int width, int height,
                        int label, const char *answer, double probability, nsk_error *error);
/* Moves pictures, named as below the folder ("chip/a.png"), into a label's folder, or out of the
 * set into ".set-aside", which no set looks into: one step. Where one of them cannot be moved,
 * those before it have been. */
enum { NSK_SET_ASIDE = -2, NSK_NO_LABEL = -1 };
bool nsk_gathering_move(nsk_gathering *gathering, const char *const *names, int count, int label,
                        nsk_error *error);
/* Takes the last step back: pictures that were taken go into ".set-aside", those that were moved to
 * where they were. An error where none is left of the steps since it was opened. */
bool nsk_gathering_back(nsk_gathering *gathering, nsk_error *error);

/* What the last call did, a picture each; `from` is "" for one that was taken. Until the next one.
 */
typedef struct nsk_moved {
    char *from, *to;
} nsk_moved;
int nsk_gathering_did(const nsk_gathering *gathering, const nsk_moved **moved);
/* The label of a picture by its name: NSK_SET_ASIDE, or NSK_NO_LABEL where it stands in no label's
 * folder. */
int nsk_gathering_label(const nsk_gathering *gathering, const char *name);

/* Pictures of a label now; steps that can be taken back; the last picture, "LABEL/NAME.png", or ""
 * where there is none: until the next step. */
int nsk_gathering_count(const nsk_gathering *gathering, int label);
int nsk_gathering_steps(const nsk_gathering *gathering);
const char *nsk_gathering_last(const nsk_gathering *gathering);

#ifdef __cplusplus
}
#endif
#endif
