/* The serial line of Arm's MPS boards: the UART of the Cortex-M System Design Kit (Arm DDI 0479,
 * 4.3). */
#include "board.h"
#include "uart.h"

/* data, state, control, interrupts, divider of the clock */
static volatile uint32_t *const uart = (volatile uint32_t *)UART_ADDRESS;

enum { DATA, STATE, CONTROL, DIVIDER = 4 };
enum { SEND_FULL = 1, RECEIVED = 2 }; /* state */
enum { SENDS = 1, RECEIVES = 2 };     /* control */
enum { LEAST_DIVIDER = 16, TRIES = 1000000 };

void uart_start(void) {
    uart[DIVIDER] = LEAST_DIVIDER;
    uart[CONTROL] = SENDS | RECEIVES;
}

size_t uart_receive(uint8_t *to, size_t most) {
    size_t count = 0;
    while (count < most && (uart[STATE] & RECEIVED) != 0) {
        to[count++] = (uint8_t)uart[DATA];
    }
    return count;
}

bool uart_send(const uint8_t *bytes, size_t count) {
    for (size_t i = 0; i < count; i++) {
        int left = TRIES;
        while ((uart[STATE] & SEND_FULL) != 0 && left > 0) {
            left--;
        }
        if (left == 0) {
            return false;
        }
        uart[DATA] = bytes[i];
    }
    return true;
}
