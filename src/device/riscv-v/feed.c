/* A channel at a time, as many pixels' bytes of it as four registers hold in words. */
#include "../feed.h"

#include "../arch.h"

#if defined(NSK_ARCH_RISCV_VECTOR)

#include "../format.h"
#include "rvv.h"

static void by_table(const int8_t *table, const uint8_t *from, uint32_t pixels, uint32_t bytes,
                     int8_t *to) {
    uint32_t lanes;
    uint32_t step;
    if (pixels == 0) {
        return;
    }
    __asm__ volatile(RVV_BEGIN "1:\n\t"
                               "vsetvli %[lanes], %[pixels], e8, m4, ta, ma\n\t"
                               "vlse8.v v0, (%[from]), %[bytes]\n\t"
                               "sub %[pixels], %[pixels], %[lanes]\n\t"
                               "mul %[step], %[lanes], %[bytes]\n\t"
                               "vluxei8.v v8, (%[table]), v0\n\t"
                               "add %[from], %[from], %[step]\n\t"
                               "vsse8.v v8, (%[to]), %[bytes]\n\t"
                               "add %[to], %[to], %[step]\n\t"
                               "bnez %[pixels], 1b\n\t" RVV_END
                     : [from] "+&r"(from), [to] "+&r"(to), [pixels] "+&r"(pixels),
                       [lanes] "=&r"(lanes), [step] "=&r"(step)
                     : [bytes] "r"(bytes), [table] "r"(table)
                     : RVV_CLOBBERS);
}

static void by_line(const uint8_t *line, const uint8_t *from, uint32_t pixels, uint32_t bytes,
                    int8_t *to) {
    uint32_t lanes;
    uint32_t step;
    if (pixels == 0) {
        return;
    }
    __asm__ volatile(RVV_BEGIN "1:\n\t"
                               "vsetvli %[lanes], %[pixels], e32, m4, ta, ma\n\t"
                               "vlse8.v v0, (%[from]), %[bytes]\n\t"
                               "sub %[pixels], %[pixels], %[lanes]\n\t"
                               "mul %[step], %[lanes], %[bytes]\n\t"
                               "vzext.vf4 v4, v0\n\t"
                               "vmul.vx v4, v4, %[slope]\n\t"
                               "vadd.vx v4, v4, %[start]\n\t" RVV_HALVES
                               "vnsra.wi v8, v4, %[bits]\n\t" RVV_BYTES "vnsra.wi v0, v8, 0\n\t"
                               "add %[from], %[from], %[step]\n\t"
                               "vsse8.v v0, (%[to]), %[bytes]\n\t"
                               "add %[to], %[to], %[step]\n\t"
                               "bnez %[pixels], 1b\n\t" RVV_END
                     : [from] "+&r"(from), [to] "+&r"(to), [pixels] "+&r"(pixels),
                       [lanes] "=&r"(lanes), [step] "=&r"(step)
                     : [bytes] "r"(bytes), [slope] "r"(nsk_word(line, NSK_P_SLOPE)),
                       [start] "r"(nsk_word(line, NSK_P_START)), [bits] "n"(NSK_LINE_BITS)
                     : RVV_CLOBBERS);
}

void nsk_prepare_by_tables(const int8_t *tables, const uint8_t *from, size_t bytes, size_t count,
                           int8_t *to) {
    for (size_t c = 0; c < count; c++, tables += 256) {
        by_table(tables, from + c, (uint32_t)(bytes / count), (uint32_t)count, to + c);
    }
}

void nsk_prepare_by_lines(const uint8_t *lines, const uint8_t *from, size_t bytes, size_t channels,
                          int8_t *to) {
    for (size_t c = 0; c < channels; c++, lines += NSK_LINE_BYTES) {
        by_line(lines, from + c, (uint32_t)(bytes / channels), (uint32_t)channels, to + c);
    }
}

#endif
