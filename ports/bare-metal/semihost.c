/* Semihosting: console and files of the host, the same on every core but for the trap. */
#include "board.h"

#include <string.h>

enum {
    SYS_OPEN = 1,
    SYS_CLOSE = 2,
    SYS_WRITE0 = 4,
    SYS_READ = 6,
    SYS_FLEN = 12,
    SYS_GET_CMDLINE = 21,
    SYS_EXIT_EXTENDED = 32
};

void board_print(const char *text) {
    semihost_call(SYS_WRITE0, text);
}

void board_exit(int status) {
    const uint32_t block[2] = {0x20026, (uint32_t)status}; /* ADP_Stopped_ApplicationExit */
    semihost_call(SYS_EXIT_EXTENDED, block);
}

void board_arguments(char *buffer, uint32_t size) {
    uint32_t block[2] = {(uint32_t)(uintptr_t)buffer, size};
    if (semihost_call(SYS_GET_CMDLINE, block) != 0) {
        buffer[0] = '\0';
    }
}

uint32_t board_read_file(const char *path, void *buffer, uint32_t size) {
    const uint32_t open[3] = {(uint32_t)(uintptr_t)path, 1 /* rb */, (uint32_t)strlen(path)};
    int file = semihost_call(SYS_OPEN, open);
    if (file == -1) {
        return 0;
    }
    const uint32_t handle[1] = {(uint32_t)file};
    uint32_t length = (uint32_t)semihost_call(SYS_FLEN, handle);
    const uint32_t read[3] = {(uint32_t)file, (uint32_t)(uintptr_t)buffer, length};
    int left = length <= size ? semihost_call(SYS_READ, read) : -1;
    semihost_call(SYS_CLOSE, handle);
    return left == 0 ? length : 0;
}
