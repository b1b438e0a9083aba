/* board: what the emulated board gives: files and console of the host, a timer, the stack's depth.
 */
#ifndef BOARD_H
#define BOARD_H

#include <stdint.h>

/* Semihosting, as in Arm's "Semihosting for AArch32 and AArch64", which RISC-V took over. */
void board_print(const char *text);

/* A blank and the number. */
static inline void board_print_number(int32_t number) {
    char text[13];
    char *at = text + sizeof text - 1;
    uint32_t rest = number < 0 ? 0U - (uint32_t)number : (uint32_t)number;
    *at = '\0';
    do {
        *--at = (char)('0' + rest % 10U);
        rest /= 10U;
    } while (rest > 0);
    if (number < 0) {
        *--at = '-';
    }
    *--at = ' ';
    board_print(at);
}

void board_exit(int status);
/* The arguments, parted by blanks, zero-terminated. */
void board_arguments(char *buffer, uint32_t size);
/* Reads a whole file; returns its size, or 0 where it cannot or it is larger than `size`. */
uint32_t board_read_file(const char *path, void *buffer, uint32_t size);

/* Sets memory up and runs main; each core comes here from its own entry. */
void start(void);

/* Marks where the caller's stack ends. Paints what is free. The bytes from the mark to the deepest
 * one used since it was painted. */
void stack_mark(void);
void stack_paint(void);
uint32_t stack_used(void);

/* Each core's own: the trap to the host, and a timer, whose ticks count up. */
int semihost_call(int operation, const void *argument);
void timer_start(void);
uint32_t timer_now(void);
uint32_t timer_between(uint32_t from, uint32_t to);

#endif
