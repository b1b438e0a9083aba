/* The network at the end of a link: netsuke/link.h on an emulated board's serial line. On a board of
 * your own, `receive`, `send` and `ticks` are yours to write; the rest stays as it is. */
#include "@NAME@.h"
#include "board.h"
#include "netsuke/link.h"
#include "uart.h"

/* The workspace, what is kept of each layer, messages. */
static uint32_t memory[(@LINK_BYTES@ + 3) / 4];

static size_t receive(void *context, uint8_t *to, size_t most) {
    (void)context;
    return uart_receive(to, most);
}

static bool send_bytes(void *context, const uint8_t *bytes, size_t count) {
    (void)context;
    return uart_send(bytes, count);
}

static uint32_t ticks(void *context) {
    (void)context;
    return timer_now();
}

static void paint(void *context) {
    (void)context;
    stack_mark();
    stack_paint();
}

static uint32_t used(void *context) {
    (void)context;
    return stack_used();
}

/* An instruction of the emulator takes 64 ns of its clock. */
static const nsk_link_port port = {NULL,  receive, send_bytes, ticks,    LINK_TICK_HERTZ,
                                   paint, used,    LINK_CORE,  15625000, 0};

int main(void) {
    nsk_link link;
    uart_start();
    timer_start();
    const nsk_status status = nsk_link_set(&link, &port, @NAME@_model, sizeof @NAME@_model, memory, sizeof memory);
    if (status != NSK_STATUS_OK) {
        board_print(nsk_status_text(status));
        return 2;
    }
    for (;;) {
        nsk_link_poll(&link);
    }
}
