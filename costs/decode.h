/* decode: what an instruction of Arm's reads and writes, and which part of a core it keeps busy,
 * from its line of disassembly. */
#ifndef NSK_COSTS_DECODE_H
#define NSK_COSTS_DECODE_H

#include "pipeline.h"

/* Instructions whose execution an earlier one (IT, VPST) makes depend on flags or predicates. */
typedef struct decode_block {
    int left;          /* that many follow */
    uint32_t decision; /* registers that decide */
} decode_block;

/* `operands`: as disassembled, a comment behind them or not. `block` begins as zeroes, and goes
 * from each instruction to the next in memory. */
pipeline_step decode_step(const char *mnemonic, const char *operands, int size,
                          decode_block *block);

#endif
