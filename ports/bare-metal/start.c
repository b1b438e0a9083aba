/* What runs before main on a Cortex-M: the vector table, memory, the paint on the stack. */
#include <stdint.h>
#include <string.h>

#include "board.h"

extern uint32_t data_start[], data_end[], data_load[], bss_start[], bss_end[];
extern uint32_t stack_bottom[], stack_top[];

static const uint32_t PAINT = 0xc1a9c1a9U;

int main(void);

static void fault(void) {
    semihost_print("fault: the image touched what it may not\n");
    semihost_exit(2);
}

/* The linker's symbols are addresses, not parts of one array. */
static uint32_t bytes_between(const uint32_t *from, const uint32_t *to) {
    return (uint32_t)((uintptr_t)to - (uintptr_t)from);
}

static uint32_t *stack_pointer(void) {
    uint32_t *pointer;
    __asm__ volatile("mov %0, sp" : "=r"(pointer));
    return pointer;
}

__attribute__((noreturn)) void reset(void) {
    memcpy(data_start, data_load, bytes_between(data_start, data_end));
    memset(bss_start, 0, bytes_between(bss_start, bss_end));
    semihost_exit(main());
    for (;;) {
    }
}

void stack_paint(void) {
    const uint32_t *end = stack_pointer() - 16;
    for (uint32_t *word = stack_bottom; word < end; word++) {
        *word = PAINT;
    }
}

uint32_t stack_used(void) {
    const uint32_t *word = stack_bottom;
    while (*word == PAINT) {
        word++;
    }
    return bytes_between(word, stack_top);
}

__attribute__((section(".vectors"), used)) static void *const vectors[16] = {
    [0] = stack_top,     [1] = (void *)reset, [2] = (void *)fault, [3] = (void *)fault,
    [4] = (void *)fault, [5] = (void *)fault, [6] = (void *)fault};
