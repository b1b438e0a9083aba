/* What replay asks of a board, from Linux. Nothing is counted here. */
#include "../bare-metal/board.h"

#include <stdbool.h>
#include <stdio.h>

void board_print(const char *text) {
    fputs(text, stdout);
}

/* They are this process's own. */
void board_arguments(char *buffer, uint32_t size) {
    FILE *file = fopen("/proc/self/cmdline", "rb");
    size_t length = file != NULL ? fread(buffer, 1, size - 1, file) : 0;
    for (size_t i = 0; i < length; i++) {
        buffer[i] = buffer[i] == '\0' ? ' ' : buffer[i];
    }
    buffer[length] = '\0';
    if (file != NULL) {
        fclose(file);
    }
}

uint32_t board_read_file(const char *path, void *buffer, uint32_t size) {
    FILE *file = fopen(path, "rb");
    if (file == NULL) {
        return 0;
    }
    size_t length = fread(buffer, 1, size, file);
    bool whole = feof(file) != 0 || fgetc(file) == EOF;
    fclose(file);
    return whole ? (uint32_t)length : 0;
}

void stack_mark(void) {}

void stack_paint(void) {}

uint32_t stack_used(void) {
    return 0;
}

void timer_start(void) {}

uint32_t timer_now(void) {
    return 0;
}

uint32_t timer_between(uint32_t from, uint32_t to) {
    return to - from;
}
