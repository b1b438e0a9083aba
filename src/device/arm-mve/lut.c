/* Sixteen at a time: their levels are places in the table. */
#include "../lut.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_MVE)

void nsk_look_up(const int8_t *table, const int8_t *in, int8_t *out, uint32_t count) {
    __asm__ volatile("vmov.i8 q1, #0x80\n\t"
                     "dlstp.8 lr, %[count]\n"
                     "1:\n\t"
                     "vldrb.8 q0, [%[in]], #16\n\t"
                     "veor q0, q0, q1\n\t" /* counted from -128 on */
                     "vldrb.u8 q2, [%[table], q0]\n\t"
                     "vstrb.8 q2, [%[out]], #16\n\t"
                     "letp lr, 1b\n\t"
                     : [in] "+&l"(in), [out] "+&l"(out)
                     : [count] "r"(count), [table] "r"(table)
                     : "lr", "q0", "q1", "q2", "memory");
}

#endif
