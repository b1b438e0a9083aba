/* What runs before main on every core: memory, and the paint on the stack. */
#include <stdint.h>
#include <string.h>

#include "board.h"

extern uint32_t data_start[], data_end[], data_load[], bss_start[], bss_end[];
extern uint32_t stack_bottom[], stack_top[];

static const uint32_t PAINT = 0xc1a9c1a9U;

int main(void);

/* The linker's symbols are addresses, not parts of one array. */
static uint32_t bytes_between(const uint32_t *from, const uint32_t *to) {
    return (uint32_t)((uintptr_t)to - (uintptr_t)from);
}

void start(void) {
    memcpy(data_start, data_load, bytes_between(data_start, data_end));
    memset(bss_start, 0, bytes_between(bss_start, bss_end));
    board_exit(main());
}

static const uint32_t *mark;

__attribute__((noinline)) void stack_mark(void) {
    mark = (const uint32_t *)__builtin_frame_address(0);
}

__attribute__((noinline)) void stack_paint(void) {
    const uint32_t *end = (const uint32_t *)__builtin_frame_address(0) - 32;
    for (uint32_t *word = stack_bottom; word < end; word++) {
        *word = PAINT;
    }
}

uint32_t stack_used(void) {
    const uint32_t *word = stack_bottom;
    while (*word == PAINT) {
        word++;
    }
    return bytes_between(word, mark);
}
