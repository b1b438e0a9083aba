/* netsuke/live.h: pictures as they come from a camera, and what both networks and the rule make of
 * each of them. */
#ifndef NETSUKE_LIVE_H
#define NETSUKE_LIVE_H

#include "netsuke/film.h"
#include "netsuke/firmware.h"
#include "netsuke/on_board.h"

#ifdef __cplusplus
extern "C" {
#endif

/* What looks, and through what. All of it must outlive the nsk_live. */
typedef struct nsk_live_setup {
    /* "-": Y4M (YUV4MPEG2) on standard input, of which the newest picture counts, and those that
     * came meanwhile are dropped; a file "....y4m", all of whose pictures are looked at; a folder
     * of pictures, by name; a scene, as nsk_film_read has it; "board": the board's own camera. */
    const char *camera;
    const nsk_network *network;
    const nsk_model_file *model; /* its integers run elsewhere, where it says so */
    const nsk_labels *labels;
    const nsk_input *input;
    const nsk_product *product;
    const nsk_decision *decision;
    nsk_on_board *board;     /* for "board"; else NULL */
    const nsk_images *known; /* pictures that light is held against, or NULL */
} nsk_live_setup;

/* Times that are told of a picture, in seconds. */
typedef enum nsk_live_part {
    NSK_LIVE_CAMERA,   /* waiting for it, reading and decoding it */
    NSK_LIVE_PREPARE,  /* bringing it to the network's size and colours */
    NSK_LIVE_FLOAT,    /* the float network, here */
    NSK_LIVE_INTEGERS, /* the integer network: here, or at the end of a link, there and back */
    NSK_LIVE_PARTS
} nsk_live_part;

/* A picture and what came of it; valid until the next one. */
typedef struct nsk_live_frame {
    long number;      /* of the camera's pictures, from 0 */
    long dropped;     /* pictures so far that came while another one was looked at */
    const char *name; /* its file, or "" */
    int truth;        /* its label, where folder or scene say so; else NSK_NOBODY_KNOWS */
    int width, height;
    const uint8_t *rgb;   /* as the camera gives it: rows from the top */
    const uint8_t *frame; /* as the network gets it */
    nsk_fault fault;      /* instead of all that follows, where it is not NSK_FAULT_NONE */
    const float *by_float, *by_integer; /* probabilities */
    int line, decided, standing;        /* of the rule: as nsk_look has them */
    double took[NSK_LIVE_PARTS];
    double ticks; /* of the board's own timer, for the network; 0: none was told */
    double light[NSK_LIGHTS];
    int outside[NSK_LIGHTS]; /* -1 below, 1 above what all but one of a hundred known pictures have
                              */
    bool differs;            /* the board's scores are not those that this machine computes */
} nsk_live_frame;

typedef enum nsk_live_state { NSK_LIVE_THERE, NSK_LIVE_ENDED, NSK_LIVE_FAILED } nsk_live_state;

typedef struct nsk_live nsk_live;
nsk_live *nsk_live_open(const nsk_live_setup *setup, nsk_error *error);
/* Waits for the next picture and looks at it. */
nsk_live_state nsk_live_next(nsk_live *live, nsk_live_frame *frame, nsk_error *error);
/* By another thread: whoever waits in nsk_live_next for a picture that does not come waits no
 * longer. What that call says then means nothing. */
void nsk_live_stop(nsk_live *live);
void nsk_live_close(nsk_live *live);
/* Pictures a second that the camera says it gives; 0: it does not say. How many there are in all;
 * 0: nobody knows. */
double nsk_live_rate(const nsk_live *live);
int nsk_live_count(const nsk_live *live);
/* Between which all but one of a hundred known pictures at either end lie; false where none are
 * known.
 */
bool nsk_live_known(const nsk_live *live, nsk_light light, double *low, double *high);

/* The picture as a page shows it: a JPEG of at most `most` pixels a side, as "data:image/jpeg;..."
 * (RFC 2397). nsk_string_free. */
char *nsk_live_picture(const nsk_live_frame *frame, int most);

#ifdef __cplusplus
}
#endif
#endif
