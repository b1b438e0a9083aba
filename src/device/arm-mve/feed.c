/* A channel at a time, four pixels' bytes of it; the loop's last round takes what is left. */
#include "../feed.h"

#include "../arch.h"

#if defined(NSK_ARCH_ARM_MVE)

#include "../format.h"
#include "mve.h"

static void by_table(const int8_t *table, const uint8_t *from, uint32_t pixels, uint32_t bytes,
                     int8_t *to) {
    const uint32x4_t places = vmulq_n_u32(vidupq_n_u32(0, 1), bytes);
    __asm__ volatile(
        "dlstp.32 lr, %[pixels]\n"
        "1:\n\t"
        "vldrb.u32 q0, [%[from], %q[places]]\n\t"
        "add %[from], %[from], %[step]\n\t"
        "vldrb.u32 q1, [%[table], q0]\n\t"
        "vstrb.32 q1, [%[to], %q[places]]\n\t"
        "add %[to], %[to], %[step]\n\t"
        "letp lr, 1b\n\t"
        : [from] "+&r"(from), [to] "+&r"(to)
        : [pixels] "r"(pixels), [step] "r"(4 * bytes), [table] "r"(table), [places] "w"(places)
        : "lr", "q0", "q1", "memory");
}

static void by_line(const uint8_t *line, const uint8_t *from, uint32_t pixels, uint32_t bytes,
                    int8_t *to) {
    const uint32x4_t places = vmulq_n_u32(vidupq_n_u32(0, 1), bytes);
    const int32x4_t slope = vdupq_n_s32(nsk_word(line, NSK_P_SLOPE));
    __asm__ volatile(
        "dlstp.32 lr, %[pixels]\n"
        "1:\n\t"
        "vldrb.u32 q0, [%[from], %q[places]]\n\t"
        "add %[from], %[from], %[step]\n\t"
        "vmlas.s32 q0, %q[slope], %[start]\n\t"
        "vshr.s32 q0, q0, %[bits]\n\t"
        "vstrb.32 q0, [%[to], %q[places]]\n\t"
        "add %[to], %[to], %[step]\n\t"
        "letp lr, 1b\n\t"
        : [from] "+&r"(from), [to] "+&r"(to)
        : [pixels] "r"(pixels), [step] "r"(4 * bytes), [slope] "w"(slope),
          [start] "r"(nsk_word(line, NSK_P_START)), [places] "w"(places), [bits] "n"(NSK_LINE_BITS)
        : "lr", "q0", "memory");
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
