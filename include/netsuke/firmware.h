/* netsuke/firmware.h: what a product has around a model: from the camera's picture to a frame,
 * whether a frame and the model are sound, from scores to actions, and the loop that does all of
 * it. Like device.h: integers only, no heap, no global state, memcpy and memset of the C library.
 */
#ifndef NETSUKE_FIRMWARE_H
#define NETSUKE_FIRMWARE_H

#include "netsuke/device.h"
#include "netsuke/sensor.h"

#ifdef __cplusplus
extern "C" {
#endif

/* ---- from the camera's picture to a frame ---- */

/* Brings pictures of one size, as large as the model's frames or larger, to that of the frames, a
 * row at a time, by the model's own nsk_fit and nsk_resample. Every byte is the exact weighted
 * mean, halves rounded up: what the host half makes of the same picture. The caller's to keep,
 * nobody's to look into. */
typedef struct nsk_scaler {
    const nsk_model *model;
    uint32_t *sums;           /* of two rows of the frame */
    uint16_t left, top;       /* where the part that is taken begins in the picture */
    uint16_t from[2], to[2];  /* width, height of that part, and of what it becomes */
    uint16_t to_left, to_top; /* where that begins in the frame */
    uint16_t put, taken;      /* rows */
} nsk_scaler;

/* What a scaler needs of the caller's memory, aligned to NSK_ALIGNMENT. */
size_t nsk_scaler_bytes(const nsk_model *model);
/* NSK_STATUS_PICTURE_SMALL where the picture, or what is left of it in the frame's proportions, is
 * smaller than the frame; NSK_STATUS_INCONSISTENT where it is so large that sums would not fit:
 * 4096 x 4096 do. */
nsk_status nsk_scaler_set(nsk_scaler *scaler, const nsk_model *model, unsigned width,
                          unsigned height, void *memory);
/* For every picture: start, then for every row of it, put, and take as long as that gives a row of
 * the frame (model->width x model->channels bytes). */
void nsk_scaler_start(nsk_scaler *scaler);
void nsk_scaler_put(nsk_scaler *scaler, const uint8_t *row);
bool nsk_scaler_take(nsk_scaler *scaler, uint8_t *row);

/* ---- is it sound? ---- */

/* Looks at the camera's rows as they pass. What a sensor with its noise never gives: a row that is
 * byte for byte the same one of the picture before (all of them where it is frozen, some where two
 * pictures are mixed), a row that is the one above, a row or a column of one colour. */
typedef struct nsk_frame_check {
    uint32_t *sums;   /* a hash of each row of the picture before, and of this one so far */
    uint8_t *above;   /* the last row */
    uint8_t *differs; /* for each byte of a row the bits that were not like those above it */
    uint16_t width, height, rows; /* pixels; rows so far */
    uint8_t channels;
    bool has_last, frozen, repeated, flat;
} nsk_frame_check;

/* The memory is aligned to NSK_ALIGNMENT. */
size_t nsk_frame_check_bytes(unsigned width, unsigned height, unsigned channels);
void nsk_frame_check_set(nsk_frame_check *frame_check, unsigned width, unsigned height,
                         unsigned channels, void *memory);
void nsk_frame_check_start(nsk_frame_check *frame_check); /* of a picture */
void nsk_frame_check_row(nsk_frame_check *frame_check, const uint8_t *row);
/* NSK_FAULT_NONE, NSK_FAULT_PICTURE_FROZEN, NSK_FAULT_PIXELS_STUCK or NSK_FAULT_ROWS_REPEATED. */
nsk_fault nsk_frame_check_end(nsk_frame_check *frame_check);

/* Whether a model's bytes are still those that were there when the hash of them was taken: directly
 * after nsk_open. A change within one word of four bytes is found for certain; others pass with a
 * chance of one in 2^32. The CRC-32 of the file, which takes seven times as long, is looked at by
 * nsk_open alone. */
uint32_t nsk_hash_of(const nsk_model *model);
bool nsk_intact(const nsk_model *model, uint32_t hash);

/* ---- from scores to actions ---- */

/* The rule. What it decides on are lines: each class's own, or that of a group of classes, whose
 * probabilities are added up then, to NSK_CERTAIN at most. */
enum nsk_window_limit { NSK_MOST_WINDOW = 32 };
typedef struct nsk_rule {
    uint32_t threshold; /* an answer is the likeliest line, if that is at least so likely ... */
    uint32_t margin;    /* ... and so much likelier than the next, both in units of 2^-30, as scores
                         * are; else it is 'unsure' */
    uint8_t frames;   /* a line is decided on when it is the answer, and has been on so many ... */
    uint8_t window;   /* ... of the last so many frames; 0: in a row */
    uint8_t hold_off; /* frames after a decision on which there is none, while an actuator moves */
    uint8_t line_count;     /* where there are groups */
    uint16_t resting;       /* the line for 'nothing there', which ends a decision without being
                             * one; past the last: none */
    const uint8_t *line_of; /* of each class: its line, or NSK_NO_LINE; NULL: its own */
    /* Where a frame may have several labels at once, each class's threshold, in units of 2^-30: the
     * answer is the line of the class that is furthest above its own, or the one at rest where none
     * reaches it; threshold and margin mean nothing then. NULL: one class of all. */
    const uint32_t *thresholds;
} nsk_rule;
enum nsk_no_line { NSK_NO_LINE = 255 };

enum nsk_no_answer { NSK_UNSURE = -2, NSK_NOTHING = -1 };

typedef struct nsk_decider {         /* start it as all zeroes */
    int16_t recent[NSK_MOST_WINDOW]; /* answers, in a ring */
    int16_t standing, last;          /* line decided on; answer of the last frame */
    uint8_t next, filled, run, holding;
    bool has_standing;
} nsk_decider;

/* What a frame's scores are taken for: a line, or NSK_UNSURE. */
int nsk_answer_of(const nsk_rule *rule, const nsk_model *model, const int32_t *scores);
/* Takes one frame's scores; returns the line decided on with this frame, or NSK_NOTHING. A line is
 * decided on once, until another takes over. */
int nsk_decide(nsk_decider *decider, const nsk_rule *rule, const nsk_model *model,
               const int32_t *scores);

/* A frame without an answer: what the rule remembers is cleared, but a hold-off goes on, a frame
 * shorter. */
void nsk_decider_forget(nsk_decider *decider);

/* ---- the loop ---- */

typedef struct nsk_firmware {
    const void *model; /* the file, aligned to NSK_ALIGNMENT */
    size_t model_bytes;
    uint16_t camera_width, camera_height; /* pixels; 0: the model's */
    const nsk_sensing
        *sensing;         /* what the camera's rows are; NULL: pixels of the model's channels */
    uint16_t check_every; /* frames: the model is checked before such a frame's answer is given, and
                           * what the loop itself holds before every answer; 0: never */
    bool check_frames;    /* whether pictures are looked at by nsk_frame_check */
    bool twice;           /* whether a frame is run a second time before its action is given; not
                           * where the model is streamed, as nothing holds the frame then */
    nsk_rule rule;
} nsk_firmware;

/* What the loop takes of memory around the workspace: a word before it and one behind it, that
 * nothing ever writes, and what the rule remembers. */
enum nsk_loop_memory { NSK_LOOP_BYTES = 8 + (sizeof(nsk_decider) + 3) / 4 * 4 };

/* Runs frames until the camera ends. A frame that cannot be trusted becomes a fault, not an
 * answer, and clears what the rule remembers but for a hold-off; the next one is a new beginning,
 * the model opened anew if that was what failed: only the same one is taken. Before an answer is
 * given, what the loop itself holds is looked at: where the rule's memory is not as it was left, a
 * whole hold-off begins; where pointers and sizes are not, or something wrote beside the workspace,
 * NSK_STATUS_DAMAGED comes back after the fault, and only a reset helps. Another status than
 * NSK_STATUS_OK: it could not begin (no memory, no sound model, `twice` with a streamed one). */
nsk_status nsk_firmware_run(const nsk_port *port, const nsk_firmware *firmware);

/* ---- in slices ---- */

/* nsk_run, a slice at a time, so that whoever has other work never waits long for it: the caller's
 * to keep, nobody's to look into. */
typedef struct nsk_slices {
    uint16_t layer, row;
} nsk_slices;
void nsk_slices_start(nsk_slices *at, const nsk_model *model);
/* Runs on, for as many rows of layers as cost at most `most`, one at least; true when all layers
 * are done. Between two calls the workspace must stay as it is. `costs`: of each layer, what a row
 * of its output costs, in any unit; a hand-over has them in cycles of its board (NAME_row_costs).
 * Of some kinds the whole layer is one row: those that need all of their input for any output. The
 * same bits as nsk_run's. The observer, which may be NULL, is called around whole layers. */
bool nsk_run_some(const nsk_model *model, void *workspace, nsk_slices *at, const uint32_t *costs,
                  uint32_t most, const nsk_observer *observer);

#ifdef __cplusplus
}
#endif
#endif
