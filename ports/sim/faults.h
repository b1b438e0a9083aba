/* sim/faults: what goes wrong on the simulated board, and when. */
#ifndef NSK_PORTS_SIM_FAULTS_H
#define NSK_PORTS_SIM_FAULTS_H

#include "base/base.h"

typedef enum nsk_fault_kind {
    NSK_FAULT_FLASH,    /* a bit of the model's weights is another while the frame is computed */
    NSK_FAULT_CAMERA,   /* gives no pictures */
    NSK_FAULT_CUT,      /* pictures end halfway */
    NSK_FAULT_FROZEN,   /* pictures repeat the one before */
    NSK_FAULT_COLUMN,   /* a column of pixels is stuck */
    NSK_FAULT_ROWS,     /* from the middle on a picture repeats one row */
    NSK_FAULT_TORN,     /* from the middle on a picture is the one before */
    NSK_FAULT_BROWNOUT, /* the supply fails in mid-frame: memory is lost, the board starts anew */
    NSK_FAULT_CLOCK,    /* the board's clock runs slower */
    NSK_FAULT_KINDS
} nsk_fault_kind;

typedef struct nsk_fault {
    nsk_fault_kind kind;
    int first, frames; /* of the camera */
    double amount;     /* the clock's: percent */
} nsk_fault;

/* "flash@40", "camera@10+6", "clock@0+300=20": a kind, the first frame, how many (default 1), and
 * for the clock by how many percent. */
bool nsk_fault_parse(const char *text, nsk_fault *fault, nsk_error *error);

/* The one of that kind that is there at a frame, or NULL. */
const nsk_fault *nsk_fault_at(const nsk_fault *faults, int count, nsk_fault_kind kind, int frame);

const char *nsk_fault_name(nsk_fault_kind kind);

#endif
