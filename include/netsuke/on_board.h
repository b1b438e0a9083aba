/* netsuke/on_board.h: a board at the other end of a link (docs/link.md), and frames run on it. */
#ifndef NETSUKE_ON_BOARD_H
#define NETSUKE_ON_BOARD_H

#include "netsuke/emit.h"
#include "netsuke/link.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct nsk_on_board nsk_on_board;

/* What a board says of itself. */
typedef struct nsk_board_self {
    char core[32];
    uint32_t version;   /* of the link's messages */
    double clock, tick; /* Hz: of the core; of what it counts time by */
    uint32_t kinds;     /* of layer in its build: a bit each, by nsk_kind */
    double memory;      /* bytes of RAM that nothing uses; 0: not known */
    uint32_t longest;   /* message that it takes, bytes */
    bool measures_stack;
    uint32_t checksum; /* of the model that it runs */
    double model_bytes, workspace_bytes;
    uint32_t slot_bytes;   /* that a model in a slot may have; 0: it has no slots */
    uint32_t starts, runs; /* slots, from 0; NSK_SLOTS: what its firmware has built in */
    uint32_t link_memory;  /* bytes that all of this takes and may take */
    uint32_t camera_width, camera_height; /* pixels; 0: it has none */
    bool keeps_picture;                   /* of its camera, so that it can be had */
} nsk_board_self;

/* Opens a link, by its name, and asks who is there. "/dev/ttyACM0@921600": a serial line and its
 * speed; "tcp:HOST:PORT": a socket; "emulate:CORE": a hand-over, built for one of the cores that
 * are emulated, in its emulator; "sim": the device half in this process. The last two run the
 * network that is given, its name and its model; the others want none. */
nsk_on_board *nsk_on_board_open(const char *link, const nsk_handed_network *network,
                                nsk_error *error);
void nsk_on_board_close(nsk_on_board *board);

const nsk_board_self *nsk_on_board_self(const nsk_on_board *board);

/* Does it run this model, in its core's order? Else an error that says what to do. */
bool nsk_on_board_runs(const nsk_on_board *board, const nsk_model_file *model, nsk_error *error);

/* Runs a frame: model->width x height x channels bytes. What is lost or damaged on the way is asked
 * for again. Writes the scores, and, where `layers` is not NULL, one more entry than the model has
 * layers: what each took, the preparation last. `sums`: the checksums in it go over so many
 * elements of each output. */
bool nsk_on_board_run(nsk_on_board *board, const nsk_model *model, const uint8_t *frame,
                      uint32_t sums, int32_t *scores, nsk_link_layer *layers, nsk_error *error);

/* ---- another model ---- */

/* Writes the model, in its core's order, into the board's spare slot, and has it run there, until
 * it is kept or the board begins anew. What the board cannot run is refused before a byte is
 * written. Power may fail anywhere: the board starts with what it had. */
bool nsk_on_board_give(nsk_on_board *board, const nsk_model_file *model, nsk_progress progress,
                       void *context, nsk_error *error);
/* The model that was given is the one that starts from now on. Or no: what starts runs again. */
bool nsk_on_board_keep(nsk_on_board *board, nsk_error *error);
bool nsk_on_board_back(nsk_on_board *board, nsk_error *error);

/* ---- its camera ---- */

/* What its rule decides by from now on; its memory is cleared. */
bool nsk_on_board_rule(nsk_on_board *board, const nsk_rule *rule, int classes, nsk_error *error);

/* What came of a picture. */
typedef struct nsk_look {
    nsk_row came;                /* else nothing below but the rule is told */
    int line, decided, standing; /* NSK_UNSURE, NSK_NOTHING or a line: nsk_answered; what it is
                                  * that was decided on last */
    double ticks;                /* of preparation and layers */
} nsk_look;
/* Has the board look through its camera. Writes scores, and the picture, camera_width x
 * camera_height x channels bytes, where it is kept and `picture` is not NULL. */
bool nsk_on_board_look(nsk_on_board *board, const nsk_model *model, nsk_look *look, int32_t *scores,
                       uint8_t *picture, nsk_error *error);

/* So many requests were sent in all; so many of them had no answer and were sent again. */
void nsk_on_board_counts(const nsk_on_board *board, long *requests, long *repeated);

/* ---- held against this machine ---- */

/* Where a frame's scores on the board are not this machine's. */
typedef struct nsk_difference {
    int score; /* class whose score differs; of it, the host's and the board's */
    int32_t scores[2];
    int layer;                 /* in which it begins; -1: in none that can be looked at */
    int row, column, channel;  /* of the first element of its output that differs */
    int levels[2];             /* there: the host's; the board's, where it has 8 bits */
    bool has_place, has_level; /* whether those are known: the link may have broken before */
} nsk_difference;

/* Looks into a frame of which the board said other scores: `scores`. It is run there again and
 * again, some twenty times. Where the link breaks, what was found until then stays. */
void nsk_difference_find(nsk_on_board *board, const nsk_model *model, const uint8_t *frame,
                         const int32_t *scores, nsk_difference *difference, nsk_error *error);
/* In words: "'chip' has 12 here and 13 on the board; it begins in layer 'conv3', row 0, ...".
 * nsk_string_free. */
char *nsk_difference_text(const nsk_difference *difference, const nsk_model *model);

/* From now on the model runs on the board wherever nsk_model_file.elsewhere is looked at; each
 * score is held against this machine's, which computes it, too. Board and file outlive that. */
bool nsk_on_board_take(nsk_on_board *board, nsk_model_file *model, nsk_error *error);
/* What the board says of frames that it agrees on is kept in a file of that folder, and is not
 * asked again: by nsk_on_board_take's model, and by nsk_trial_run. So a link that broke goes on.
 * Another firmware may say something else: then another folder. */
bool nsk_on_board_remember(nsk_on_board *board, const nsk_model_file *model, const char *folder,
                           nsk_error *error);
/* How many frames were not asked for. */
long nsk_on_board_remembered(const nsk_on_board *board);
/* How many frames were run so, and how many had other scores; of the first one of those, `first`
 * says what is to be said: nsk_string_free; NULL where there is none. */
void nsk_on_board_taken(const nsk_on_board *board, long *frames, long *differ, char **first);

typedef struct nsk_trial {
    int frames, differ;        /* run; whose scores are not the host's */
    int first;                 /* frame that differs, or -1 */
    nsk_difference difference; /* of it */
    int layers;
    double *ticks;   /* of each layer, and of the preparation: the median over frames */
    double *stack;   /* the same: the deepest */
    double total[3]; /* ticks of a frame: least, median, most */
    double deepest;  /* stack, bytes */
    long requests, repeated;
    bool broken; /* the link, before all frames were run */
} nsk_trial;

/* Runs `frames` of the images, spread over the set, on the board and here. A frame that differs is
 * looked into. Where the link breaks, `broken` and `error` say so, and what was measured until then
 * comes back. NULL where the board runs another model. */
nsk_trial *nsk_trial_run(nsk_on_board *board, const nsk_model_file *model, const nsk_images *images,
                         int frames, nsk_progress progress, void *context, nsk_error *error);
void nsk_trial_free(nsk_trial *trial);

#ifdef __cplusplus
}
#endif
#endif
