/* uart: the emulated board's serial line, which a link goes over. Each kind of line is a file. */
#ifndef UART_H
#define UART_H

#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

void uart_start(void);
/* What has come, at most `most` bytes; does not wait. */
size_t uart_receive(uint8_t *to, size_t most);
/* Waits for room, a second or so for a byte at most. */
bool uart_send(const uint8_t *bytes, size_t count);

#endif
