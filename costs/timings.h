/* timings: how many cycles each instruction takes on a core, as far as its maker publishes it. */
#ifndef NSK_COSTS_TIMINGS_H
#define NSK_COSTS_TIMINGS_H

#include <stdbool.h>

typedef struct timing_rule {
    const char *mnemonic; /* how it begins; with a blank at its end, the whole */
    int cycles;           /* not taken, where it branches */
    bool each;            /* one more for each register in the list */
    bool piped;           /* one only, behind another such */
} timing_rule;

typedef struct core_timings {
    const char *core;
    const char *tools;     /* what the names of its binutils begin with */
    const char *kernels;   /* which of the runtime's it gets */
    const char *source;    /* where the timings are published */
    timing_rule rules[16]; /* the first that fits; one cycle where none does */
    int taken;             /* more, where another instruction than the next follows */
    /* Whether it has the phases of loads and stores of Armv7-M's small cores: a load waits for an
     * address that the one before it loads, a store to the sum of two registers takes two cycles
     * behind all but a load, words at odd places take more accesses of the bus, one cycle each. */
    bool phases;
    const char *machine; /* what its objdump has to be told; NULL: nothing */
} core_timings;

const core_timings *core_timings_of(const char *core);

/* The rule of an instruction: its mnemonic as disassembled. */
timing_rule timing_of(const core_timings *timings, const char *mnemonic);

#endif
