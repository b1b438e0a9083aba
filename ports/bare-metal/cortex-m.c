/* What Cortex-M cores have of their own: the vector table, the trap, the timer. */
#include "board.h"

#include <stddef.h>
#include <string.h>

extern uint32_t stack_top[];

int semihost_call(int operation, const void *argument) {
    register int r0 __asm__("r0") = operation;
    register const void *r1 __asm__("r1") = argument;
    __asm__ volatile("bkpt 0xab" : "+r"(r0) : "r"(r1) : "memory");
    return r0;
}

/* SysTick: control, reload, current value. */
static volatile uint32_t *const systick = (volatile uint32_t *)0xe000e010U;

enum { TICKS = 0xffffff }; /* it counts down from here, and then begins again */
enum { ON = 1, INTERRUPTS = 2, PROCESSOR_CLOCK = 4 };

static volatile uint32_t rounds; /* that it has gone */

static void round_ended(void) {
    rounds += TICKS + 1U;
}

void timer_start(void) {
    systick[1] = TICKS;
    systick[2] = 0;
    systick[0] = ON | INTERRUPTS | PROCESSOR_CLOCK;
}

uint32_t timer_now(void) {
    uint32_t before;
    uint32_t now;
    do { /* a round may end between the two */
        before = rounds;
        now = TICKS - systick[2];
    } while (before != rounds);
    return before + now;
}

uint32_t timer_between(uint32_t from, uint32_t to) {
    return to - from;
}

#if __ARM_ARCH >= 7 && !defined(__ARM_FEATURE_UNALIGNED)
/* The C library's own goes by words, wherever they stand. (Volatile, or this is found to be
 * memcpy.) */
void *memcpy(void *restrict to, const void *restrict from, size_t bytes) {
    uint8_t *at = to;
    const volatile uint8_t *byte = from;
    for (size_t i = 0; i < bytes; i++) {
        at[i] = byte[i];
    }
    return to;
}
#endif

static void fault(void) {
    board_print("fault: the image touched what it may not\n");
    board_exit(2);
}

__attribute__((noreturn, used)) void reset(void) {
#if defined(__ARM_FEATURE_MVE)
    /* vectors have to be switched on: coprocessors 10 and 11, and what a function keeps of them */
    volatile uint32_t *cpacr = (volatile uint32_t *)0xe000ed88U;
    *cpacr |= 0xf00000U;
    __asm__ volatile("dsb\n\tisb" ::: "memory");
#endif
#if !defined(__ARM_FEATURE_UNALIGNED)
    /* what was built without unaligned words shall not touch one: UNALIGN_TRP of CCR */
    volatile uint32_t *ccr = (volatile uint32_t *)0xe000ed14U;
    *ccr |= 8U;
    __asm__ volatile("dsb\n\tisb" ::: "memory");
#endif
    start();
    for (;;) {
    }
}

__attribute__((section(".vectors"), used)) static void *const vectors[16] = {
    [0] = stack_top,     [1] = (void *)reset, [2] = (void *)fault,
    [3] = (void *)fault, [4] = (void *)fault, [5] = (void *)fault,
    [6] = (void *)fault, [7] = (void *)fault, [15] = (void *)round_ended};
