/* Rows of up to sixteen bytes are one load and one store each. */
#include "../gather.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_MVE)

enum { LANES = 16 };

int8_t *nsk_gather_rows(const int8_t *in, int32_t row, int32_t rows, int32_t bytes, int8_t *to) {
    if (bytes > LANES || rows < 1) {
        return nsk_gather_rows_plain(in, row, rows, bytes, to);
    }
    __asm__ volatile("vctp.8 %[bytes]\n\t"
                     "dls lr, %[rows]\n"
                     "1:\n\t"
                     "vpstt\n\t"
                     "vldrbt.8 q0, [%[in]]\n\t"
                     "vstrbt.8 q0, [%[to]]\n\t"
                     "add %[in], %[in], %[row]\n\t"
                     "add %[to], %[to], %[bytes]\n\t"
                     "le lr, 1b\n\t"
                     : [in] "+&r"(in), [to] "+&r"(to)
                     : [row] "r"(row), [bytes] "r"(bytes), [rows] "r"(rows)
                     : "lr", "q0", "memory");
    return to;
}

#endif
