/* As many at a time as eight registers hold: their levels are places in the table. */
#include "../lut.h"

#include "../arch.h"

#if defined(NSK_ARCH_RISCV_VECTOR)

#include "rvv.h"

void nsk_look_up(const int8_t *table, const int8_t *in, int8_t *out, uint32_t count) {
    uint32_t lanes;
    if (count == 0) {
        return;
    }
    __asm__ volatile(RVV_BEGIN "1:\n\t"
                               "vsetvli %[lanes], %[count], e8, m8, ta, ma\n\t"
                               "vle8.v v8, (%[in])\n\t"
                               "sub %[count], %[count], %[lanes]\n\t"
                               "add %[in], %[in], %[lanes]\n\t"
                               "vxor.vx v8, v8, %[turn]\n\t" /* counted from -128 on */
                               "vluxei8.v v16, (%[table]), v8\n\t"
                               "vse8.v v16, (%[out])\n\t"
                               "add %[out], %[out], %[lanes]\n\t"
                               "bnez %[count], 1b\n\t" RVV_END
                     : [in] "+&r"(in), [out] "+&r"(out), [count] "+&r"(count), [lanes] "=&r"(lanes)
                     : [table] "r"(table), [turn] "r"(0x80)
                     : RVV_CLOBBERS);
}

#endif
