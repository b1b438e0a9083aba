/* netsuke/budget.h: what a model takes of a board, against limits. */
#ifndef NETSUKE_BUDGET_H
#define NETSUKE_BUDGET_H

#include "netsuke/quantise.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct nsk_board {
    char *path, *name, *core;
    double clock;                                 /* Hz */
    double flash, ram;                            /* bytes */
    double wait_states;                           /* cycles that a taken branch waits for flash */
    double frame_rate;                            /* of the camera, frames a second */
    double active_power, idle_power, sleep_power; /* watts; negative: not given */
    char *costs;                                  /* the cost table's file */
} nsk_board;

/* A cost table that the file does not name is the core's own that came along. */
nsk_board *nsk_board_read(const char *path, nsk_error *error);
void nsk_board_free(nsk_board *board);

typedef struct nsk_layer_cost {
    double instructions, cycles;
    double fast, slow; /* cycles by the two ends of a model of the core's pipeline; 0: none */
} nsk_layer_cost;

/* In the order in which limits stand; that of the loss only where accuracy was measured. */
enum { NSK_LIMIT_FLASH, NSK_LIMIT_RAM, NSK_LIMIT_LATENCY, NSK_BUDGET_LIMITS };
enum { NSK_LIMIT_LOSS = NSK_BUDGET_LIMITS, NSK_VARIANT_LIMITS };

typedef struct nsk_budget_limit {
    /* "flash" "bytes", "ram" "bytes", "latency" "seconds", "loss" "points" */
    const char *name, *unit;
    double limit, value;
    bool holds; /* and is not known to be broken, where chance leaves it open */
    bool open;
} nsk_budget_limit;

typedef struct nsk_budget {
    double flash, flash_model, flash_code;
    double flash_loop; /* of the code: the product's loop, firmware.h */
    double ram, ram_workspace, ram_stack;
    double ram_frame;         /* what is held of the frame: a row of it where layers are streamed */
    double ram_rest_of_frame; /* what its other rows would take */
    int streamed, band;       /* layers; rows of the frame */
    double ram_lower_bound;   /* of the workspace */
    double ram_camera;        /* what scaling and looking at the camera's pictures hold, and the
                               * loop around the workspace */
    double cycles, seconds, joules; /* a frame; joules negative where the board gives no power */
    /* Where counts on the emulator lie in 19 of 20 cases, as far as the misfits of the cost table
     * tell. */
    double seconds_low, seconds_high;
    /* Whether the core's timings are published: where not, a cycle is counted for each instruction,
     * and only the board can tell how long it takes. */
    bool timed;
    bool measured; /* layers and preparation by a board: nsk_budget_set_cycles */
    /* Where they are not: seconds between which a model of the core's pipeline has it, with most of
     * its numbers assumed (docs/estimates.md). 0: there is no such model, or the table was learned.
     */
    double seconds_fast, seconds_slow;
    double watts, days; /* on the average, and on the battery; negative: not known */
    int layers;
    nsk_layer_cost *layer; /* one a layer */
    uint64_t *macs;        /* multiply-accumulates that touch the picture, of each layer */
    nsk_layer_cost preparation;
    nsk_layer_cost scaling, frame_check,
        check;            /* what the product does around the model; 0: does not */
    nsk_layer_cost again; /* the frame a second time, where an action follows */
    double watchdog;      /* seconds at most from one call of layer_done or prepared to the next */
    nsk_layer_cost
        streaming; /* what it takes to keep the rows that are wanted; 0 if not streamed */
    char *code_source, *cycle_source, *stack_source; /* how each figure was obtained */
    nsk_budget_limit limits[NSK_BUDGET_LIMITS];
} nsk_budget;

/* Draws where and when each tensor stands in the workspace; `path` ends in .svg or .png. */
bool nsk_plan_draw(const nsk_model_file *model, const char *path, nsk_error *error);

/* What board and limits leave of RAM to a model's workspace and frame: the stack, and what the
 * product's pictures of the camera take, taken off. `product` may be NULL. */
bool nsk_ram_for_model(const nsk_board *board, const nsk_product *product, const nsk_input *input,
                       const nsk_limits *limits, double *bytes, nsk_error *error);

/* Estimates a model on a board. Each limit is the tighter of the brief's and the board's. */
/* `product` may be NULL: nothing around the model. */
nsk_budget *nsk_budget_make(const nsk_model_file *model, const nsk_board *board,
                            const nsk_product *product, const nsk_limits *limits, nsk_error *error);
/* Whether a board, which may be NULL, has a cost table that is there. */
bool nsk_has_costs(const nsk_board *board);
/* What the dearest row of each layer's output costs, for nsk_run_some: a number a layer; all of one
 * that cannot be cut at rows. In cycles of the board, or, where it has no costs, in
 * multiply-accumulates. */
bool nsk_row_costs(const nsk_model_file *model, const nsk_board *board, uint32_t *costs,
                   nsk_error *error);
/* Compiles a hand-over of the model for a core that the bare-metal boards have, with that core's
 * cross compiler, and reads the linker's map: bytes of code of the runtime. */
bool nsk_budget_compile(const nsk_model_file *model, const char *core, double *code,
                        nsk_error *error);
/* Puts another figure in place of the table's. */
void nsk_budget_set_code(nsk_budget *budget, double code, const char *source);
/* The same of time: cycles of each layer, and of the preparation last, with what it takes to keep
 * rows where layers are streamed. What the product does around the model stays the table's. */
void nsk_budget_set_cycles(nsk_budget *budget, const nsk_board *board, const nsk_product *product,
                           const double *cycles, const char *source);
void nsk_budget_free(nsk_budget *budget);

#ifdef __cplusplus
}
#endif
#endif
