/* What board.h asks for, on a system with a C library: nanoseconds, and no depth of stack. */
#include <stdio.h>
#include <time.h>

#include "board.h"

void board_print(const char *text) {
    fputs(text, stdout);
}

void timer_start(void) {}

uint32_t timer_now(void) {
    struct timespec now;
    timespec_get(&now, TIME_UTC);
    return (uint32_t)now.tv_sec * 1000000000U + (uint32_t)now.tv_nsec;
}

uint32_t timer_between(uint32_t from, uint32_t to) {
    return to - from;
}

void stack_mark(void) {}

void stack_paint(void) {}

uint32_t stack_used(void) {
    return 0;
}
