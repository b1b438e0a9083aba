/* As many channels at a time as four registers hold in words; what is added up stands in lanes
 * until the end. */
#include "../dots.h"

#include "../arch.h"

#if defined(NSK_ARCH_RISCV_VECTOR)

#include "rvv.h"

/* The lanes behind the last channel stay as they are. */
#define SUM_OF(acc, sum)                                                                           \
    "vredsum.vs v0, " acc ", v4\n\t"                                                               \
    "vmv.x.s %[lanes], v0\n\t"                                                                     \
    "sw %[lanes], " sum "(%[sums])\n\t"

void nsk_four_dots(const nsk_dots *d, int32_t sum[4]) {
    const int8_t *a = d->left;
    const int8_t *b = d->left + d->left_apart;
    const int8_t *x = d->right;
    const int8_t *y = d->right + d->right_apart;
    uint32_t count = d->channels;
    uint32_t lanes;
    __asm__ volatile(
        RVV_BEGIN "vsetvli %[lanes], zero, e32, m4, ta, ma\n\t"
                  "vmv.v.i v16, 0\n\t"
                  "vmv.v.i v20, 0\n\t"
                  "vmv.v.i v24, 0\n\t"
                  "vmv.v.i v28, 0\n"
                  "1:\n\t"
                  "vsetvli %[lanes], %[count], e8, m1, tu, ma\n\t"
                  "vle8.v v0, (%[a])\n\t"
                  "vle8.v v1, (%[b])\n\t"
                  "vle8.v v2, (%[x])\n\t"
                  "vle8.v v3, (%[y])\n\t"
                  "sub %[count], %[count], %[lanes]\n\t"
                  "add %[a], %[a], %[lanes]\n\t"
                  "add %[b], %[b], %[lanes]\n\t"
                  "add %[x], %[x], %[lanes]\n\t"
                  "add %[y], %[y], %[lanes]\n\t"
                  "vwsub.vx v4, v0, %[left_zero]\n\t"
                  "vwsub.vx v6, v1, %[left_zero]\n\t"
                  "vwsub.vx v8, v2, %[right_zero]\n\t"
                  "vwsub.vx v10, v3, %[right_zero]\n\t"
                  "vsetvli zero, zero, e16, m2, tu, ma\n\t"
                  "vwmacc.vv v16, v4, v8\n\t"
                  "vwmacc.vv v20, v4, v10\n\t"
                  "vwmacc.vv v24, v6, v8\n\t"
                  "vwmacc.vv v28, v6, v10\n\t"
                  "bnez %[count], 1b\n\t"
                  "vsetvli %[lanes], zero, e32, m4, ta, ma\n\t"
                  "vmv.v.i v4, 0\n\t" SUM_OF("v16", "0") SUM_OF("v20", "4") SUM_OF("v24", "8")
                      SUM_OF("v28", "12") RVV_END
        : [a] "+&r"(a), [b] "+&r"(b), [x] "+&r"(x), [y] "+&r"(y), [count] "+&r"(count),
          [lanes] "=&r"(lanes)
        : [left_zero] "r"(d->left_zero), [right_zero] "r"(d->right_zero), [sums] "r"(sum)
        : RVV_CLOBBERS);
}

#endif
