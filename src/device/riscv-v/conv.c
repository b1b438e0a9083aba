/* Rows as long as eight registers hold are one load and one store each. */
#include "../gather.h"

#include "../arch.h"

#if defined(NSK_ARCH_RISCV_VECTOR)

#include "rvv.h"

void nsk_gather_windows(const nsk_windows *w, const int8_t *in, int32_t count, int8_t *to) {
    int32_t lanes;
    __asm__ volatile(RVV_BEGIN "vsetvli %[lanes], %[bytes], e8, m8, ta, ma\n\t" RVV_END
                     : [lanes] "=r"(lanes)
                     : [bytes] "r"(w->bytes)
                     : RVV_CLOBBERS);
    if (lanes < w->bytes || count < 1) {
        nsk_gather_windows_plain(w, in, count, to);
        return;
    }
    const int8_t *from;
    int8_t *at;
    int32_t left;
    __asm__ volatile(RVV_BEGIN "vsetvli zero, %[bytes], e8, m8, ta, ma\n"
                               "1:\n\t"
                               "mv %[from], %[in]\n\t"
                               "mv %[at], %[to]\n\t"
                               "mv %[left], %[rows]\n\t"
                               "add %[to], %[to], %[size]\n\t"
                               "sw zero, -4(%[to])\n"
                               "2:\n\t"
                               "vle8.v v0, (%[from])\n\t"
                               "addi %[left], %[left], -1\n\t"
                               "add %[from], %[from], %[row]\n\t"
                               "vse8.v v0, (%[at])\n\t"
                               "add %[at], %[at], %[bytes]\n\t"
                               "bnez %[left], 2b\n\t"
                               "addi %[count], %[count], -1\n\t"
                               "add %[in], %[in], %[step]\n\t"
                               "bnez %[count], 1b\n\t" RVV_END
                     : [in] "+&r"(in), [to] "+&r"(to), [count] "+&r"(count), [from] "=&r"(from),
                       [at] "=&r"(at), [left] "=&r"(left)
                     : [row] "r"(w->row), [bytes] "r"(w->bytes), [rows] "r"(w->rows),
                       [size] "r"(w->size), [step] "r"(w->step)
                     : RVV_CLOBBERS);
}

#endif
