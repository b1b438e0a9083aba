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

static int semihost(int operation, const void *argument) {
    register int r0 __asm__("r0") = operation;
    register const void *r1 __asm__("r1") = argument;
    __asm__ volatile("bkpt 0xab" : "+r"(r0) : "r"(r1) : "memory");
    return r0;
}

void semihost_print(const char *text) {
    semihost(SYS_WRITE0, text);
}

void semihost_exit(int status) {
    const uint32_t block[2] = {0x20026, (uint32_t)status}; /* ADP_Stopped_ApplicationExit */
    semihost(SYS_EXIT_EXTENDED, block);
}

void semihost_arguments(char *buffer, uint32_t size) {
    uint32_t block[2] = {(uint32_t)(uintptr_t)buffer, size};
    if (semihost(SYS_GET_CMDLINE, block) != 0) {
        buffer[0] = '\0';
    }
}

uint32_t semihost_read_file(const char *path, void *buffer, uint32_t size) {
    const uint32_t open[3] = {(uint32_t)(uintptr_t)path, 1 /* rb */, (uint32_t)strlen(path)};
    int file = semihost(SYS_OPEN, open);
    if (file == -1) {
        return 0;
    }
    const uint32_t handle[1] = {(uint32_t)file};
    uint32_t length = (uint32_t)semihost(SYS_FLEN, handle);
    const uint32_t read[3] = {(uint32_t)file, (uint32_t)(uintptr_t)buffer, length};
    int left = length <= size ? semihost(SYS_READ, read) : -1;
    semihost(SYS_CLOSE, handle);
    return left == 0 ? length : 0;
}

/* SysTick: control, reload, current value. */
static volatile uint32_t *const systick = (volatile uint32_t *)0xe000e010U;

void timer_start(void) {
    systick[1] = 0xffffffU;
    systick[2] = 0;
    systick[0] = 5; /* on, processor clock, no interrupt */
}

uint32_t timer_now(void) {
    return 0xffffffU - systick[2];
}
