/* rvv: what every kernel on vectors of RISC-V has in common. They are of Zve32x, of any length from
 * 64 bits on: a loop asks how many elements come next. Text, as compilers of today's
 * distributions know no vectors yet; the assembler is told of them here. */
#ifndef NSK_DEVICE_RISCV_V_RVV_H
#define NSK_DEVICE_RISCV_V_RVV_H

#include <stdint.h>

#if defined(__riscv_vector)
#define RVV_BEGIN ".option push\n\t.option arch, +zicsr\n\t"
#else
#define RVV_BEGIN ".option push\n\t.option arch, +zve32x, +zicsr\n\t"
#endif
#define RVV_END ".option pop\n\t"

/* Compilers that have vectors of their own must know which of them are written. */
#if defined(__riscv_vector) && (defined(__clang__) || __GNUC__ >= 14)
#define RVV_CLOBBERS                                                                               \
    "vl", "vtype", "vxrm", "vxsat", "v0", "v1", "v2", "v3", "v4", "v5", "v6", "v7", "v8", "v9",    \
        "v10", "v11", "v12", "v13", "v14", "v15", "v16", "v17", "v18", "v19", "v20", "v21", "v22", \
        "v23", "v24", "v25", "v26", "v27", "v28", "v29", "v30", "v31", "memory"
#else
#define RVV_CLOBBERS "memory"
#endif

/* Shifts that round do so to the nearest, halves up. */
#define RVV_ROUND_UP "csrwi vxrm, 0\n\t"

/* Elements of 8, 16 and 32 bits, the same number of each: results of a product are twice as wide,
 * and stand in twice as many registers. What is set in words stays the number of elements. */
#define RVV_START(count) "vsetvli zero, " count ", e32, m4, ta, ma\n\t"
#define RVV_BYTES        "vsetvli zero, zero, e8, m1, ta, ma\n\t"
#define RVV_HALVES       "vsetvli zero, zero, e16, m2, ta, ma\n\t"
#define RVV_WORDS        "vsetvli zero, zero, e32, m4, ta, ma\n\t"

/* The clamp of an int8 of the words in `words`, in the register `bytes`; `halves` is lost. */
#define RVV_SATURATE(words, halves, bytes)                                                         \
    RVV_HALVES "vnclip.wi " halves ", " words ", 0\n\t" RVV_BYTES "vnclip.wi " bytes ", " halves   \
               ", 0\n\t"

/* How many of `count` elements can be worked on at once. */
static inline int32_t nsk_lanes(int32_t count) {
    int32_t lanes;
    __asm__ volatile(RVV_BEGIN "vsetvli %0, %1, e32, m4, ta, ma\n\t" RVV_END
                     : "=r"(lanes)
                     : "r"(count)
                     : RVV_CLOBBERS);
    return lanes;
}

#endif
