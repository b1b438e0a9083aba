/* What RISC-V cores have of their own: the entry, the trap, the counter of instructions. */
#include "board.h"

/* The stack pointer first; then C. */
__attribute__((naked, section(".text.reset"), used)) void reset(void) {
    __asm__ volatile(".option arch, +zicsr\n\t"
                     "la sp, stack_top\n\t"
                     "la t0, trapped\n\t"
                     "csrw mtvec, t0\n\t"
#if defined(__riscv_vector) || defined(NSK_RISCV_VECTOR)
                     "li t0, 0x200\n\t" /* mstatus.VS: vectors may be used */
                     "csrs mstatus, t0\n\t"
#endif
                     "j start\n\t");
}

__attribute__((aligned(4), used)) void trapped(void) {
    board_print("fault: the image touched what it may not\n");
    board_exit(2);
}

/* These three instructions, uncompressed, are the call. */
int semihost_call(int operation, const void *argument) {
    register int a0 __asm__("a0") = operation;
    register const void *a1 __asm__("a1") = argument;
    __asm__ volatile(".option push\n\t"
                     ".option norvc\n\t"
                     ".balign 16\n\t"
                     "slli x0, x0, 0x1f\n\t"
                     "ebreak\n\t"
                     "srai x0, x0, 7\n\t"
                     ".option pop\n\t"
                     : "+r"(a0)
                     : "r"(a1)
                     : "memory");
    return a0;
}

void timer_start(void) {}

uint32_t timer_now(void) {
    uint32_t count;
    __asm__ volatile(".option push\n\t"
                     ".option arch, +zicsr\n\t"
                     "csrr %0, minstret\n\t"
                     ".option pop\n\t"
                     : "=r"(count));
    return count;
}

uint32_t timer_between(uint32_t from, uint32_t to) {
    return to - from;
}
