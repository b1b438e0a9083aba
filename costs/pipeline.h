/* pipeline: a model of cores that begin instructions in their order, up to two in a cycle: for how
 * many cycles each waits for the results and the parts of the core that it needs. Most numbers of
 * such cores are not published, so that there are two sets of them, between which the truth should
 * lie. No library but the C one: this runs inside of the emulator, too. */
#ifndef NSK_COSTS_PIPELINE_H
#define NSK_COSTS_PIPELINE_H

#include <stdbool.h>
#include <stdint.h>

/* What an instruction keeps busy. */
typedef enum pipeline_unit {
    PIPELINE_ALU,
    PIPELINE_MULTIPLY,
    PIPELINE_DIVIDE,
    PIPELINE_LOAD,
    PIPELINE_LOADS, /* of several registers */
    PIPELINE_STORE,
    PIPELINE_STORES,
    PIPELINE_BRANCH,
    PIPELINE_LOOP,   /* end of a loop whose count the core itself keeps */
    PIPELINE_VECTOR, /* sums, comparisons, shifts, moves */
    PIPELINE_VECTOR_MULTIPLY,
    PIPELINE_VECTOR_LOAD,
    PIPELINE_VECTOR_STORE,
    PIPELINE_VECTOR_SCATTERED, /* loads and stores, an address each element */
    PIPELINE_UNITS
} pipeline_unit;

/* Bits of registers: r0 to r15, flags, q0 to q7, the vector predicate. */
enum { PIPELINE_FLAGS = 16, PIPELINE_Q0 = 17, PIPELINE_PREDICATE = 25, PIPELINE_REGISTERS = 26 };

typedef struct pipeline_step {
    uint32_t reads, writes;
    uint32_t moves; /* address registers that it also moves on */
    uint8_t unit;   /* pipeline_unit */
    uint8_t count;  /* registers or elements, where several are loaded or stored */
    bool narrow;    /* of two bytes */
    bool indexed;   /* its address is the sum of two registers */
} pipeline_step;

/* For how many cycles a unit takes no other instruction, and after how many others can use the
 * result. */
typedef struct pipeline_time {
    uint8_t busy, halves; /* and so many halves of a cycle more for each of `count` */
    uint8_t latency;      /* at least; a unit that is busy for longer gives its result then */
} pipeline_time;

/* One end of the range. */
typedef struct pipeline_numbers {
    bool pairs, pairs_wide; /* whether two begin in a cycle; those of four bytes, too */
    bool pairs_loads;       /* two loads */
    bool overlaps;  /* vector instructions of one unit run while those of another, and others, begin
                     */
    uint8_t taken;  /* cycles more where a branch is taken */
    uint8_t turned; /* where it goes another way than the last time */
    pipeline_time unit[PIPELINE_UNITS];
} pipeline_numbers;

typedef struct pipeline_core {
    const char *core;
    const char *published; /* what is, and where; all else is assumed */
    pipeline_numbers fast, slow;
} pipeline_core;

/* NULL: the core has no such model. */
const pipeline_core *pipeline_core_of(const char *core);

/* A core in the midst of a program; begins as zeroes but for `numbers`. */
typedef struct pipeline_run {
    const pipeline_numbers *numbers;
    const pipeline_step *last;
    uint64_t now;  /* when the last one began */
    bool together; /* with the one before it */
    uint64_t ready[PIPELINE_REGISTERS];
} pipeline_run;

/* How the last instruction was left: by a jump; another way than when it ran before. */
typedef struct pipeline_way {
    bool jumped, turned;
} pipeline_way;

/* Cycles from the beginning of the last instruction to that of this one. `step` is kept until the
 * next call. */
uint64_t pipeline_begin(pipeline_run *run, const pipeline_step *step, pipeline_way way);

#endif
