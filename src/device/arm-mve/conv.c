/* Rows of up to sixteen bytes are one load and one store each. */
#include "../gather.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_MVE)

enum { LANES = 16 };

void nsk_gather_windows(const nsk_windows *w, const int8_t *in, int32_t count, int8_t *to) {
    if (w->bytes > LANES || count < 1) {
        nsk_gather_windows_plain(w, in, count, to);
        return;
    }
    const int8_t *from;
    int8_t *at;
    __asm__ volatile(
        "vctp.8 %[bytes]\n"
        "1:\n\t"
        "mov %[from], %[in]\n\t"
        "mov %[at], %[to]\n\t"
        "add %[to], %[to], %[size]\n\t"
        "str %[zero], [%[to], #-4]\n\t"
        "dls lr, %[rows]\n"
        "2:\n\t"
        "vpstt\n\t"
        "vldrbt.8 q0, [%[from]]\n\t"
        "vstrbt.8 q0, [%[at]]\n\t"
        "add %[from], %[from], %[row]\n\t"
        "add %[at], %[at], %[bytes]\n\t"
        "le lr, 2b\n\t"
        "add %[in], %[in], %[step]\n\t"
        "subs %[count], %[count], #1\n\t"
        "bne 1b\n\t"
        : [in] "+&r"(in), [to] "+&r"(to), [count] "+&r"(count), [from] "=&r"(from), [at] "=&r"(at)
        : [row] "r"(w->row), [bytes] "r"(w->bytes), [rows] "r"(w->rows), [size] "r"(w->size),
          [step] "r"(w->step), [zero] "r"(0)
        : "lr", "q0", "cc", "memory");
}

#endif
