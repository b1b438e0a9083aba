/* The serial line of the RISC-V board: a 16550, whose registers are a byte each. */
#include "board.h"
#include "uart.h"

static volatile uint8_t *const uart = (volatile uint8_t *)UART_ADDRESS;

enum { DATA, FIFO = 2, FORM, STATE = 5 };
enum { FIFO_ON = 1, EIGHT_BITS = 3 };
enum { RECEIVED = 1, SEND_EMPTY = 0x20 }; /* state */
enum { TRIES = 1000000 };

void uart_start(void) {
    uart[FORM] = EIGHT_BITS;
    uart[FIFO] = FIFO_ON;
}

size_t uart_receive(uint8_t *to, size_t most) {
    size_t count = 0;
    while (count < most && (uart[STATE] & RECEIVED) != 0) {
        to[count++] = uart[DATA];
    }
    return count;
}

bool uart_send(const uint8_t *bytes, size_t count) {
    for (size_t i = 0; i < count; i++) {
        int left = TRIES;
        while ((uart[STATE] & SEND_EMPTY) == 0 && left > 0) {
            left--;
        }
        if (left == 0) {
            return false;
        }
        uart[DATA] = bytes[i];
    }
    return true;
}
