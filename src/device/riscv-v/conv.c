/* Rows as long as eight registers hold are one load and one store each. */
#include "../gather.h"

#include "../arch.h"

#if defined(NSK_ARCH_RISCV_VECTOR)

#include "rvv.h"

int8_t *nsk_gather_rows(const int8_t *in, int32_t row, int32_t rows, int32_t bytes, int8_t *to) {
    int32_t lanes;
    if (rows < 1) {
        return to;
    }
    __asm__ volatile(RVV_BEGIN "vsetvli %[lanes], %[bytes], e8, m8, ta, ma\n\t" RVV_END
                     : [lanes] "=r"(lanes)
                     : [bytes] "r"(bytes)
                     : RVV_CLOBBERS);
    if (lanes < bytes) {
        return nsk_gather_rows_plain(in, row, rows, bytes, to);
    }
    __asm__ volatile(RVV_BEGIN "vsetvli zero, %[bytes], e8, m8, ta, ma\n"
                               "1:\n\t"
                               "vle8.v v0, (%[in])\n\t"
                               "addi %[rows], %[rows], -1\n\t"
                               "add %[in], %[in], %[row]\n\t"
                               "vse8.v v0, (%[to])\n\t"
                               "add %[to], %[to], %[bytes]\n\t"
                               "bnez %[rows], 1b\n\t" RVV_END
                     : [in] "+&r"(in), [to] "+&r"(to), [rows] "+&r"(rows)
                     : [row] "r"(row), [bytes] "r"(bytes)
                     : RVV_CLOBBERS);
    return to;
}

#endif
