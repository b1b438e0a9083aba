/* Serial lines as carriers. */
#include <errno.h>
#include <fcntl.h>
#include <libserialport.h>
#include <poll.h>
#include <string.h>
#include <termios.h>
#include <unistd.h>

#include "stream.h"

enum { USUAL_SPEED = 115200, MOST_SPEED = 20000000, PATIENCE = 5000 /* milliseconds, to send */ };

static bool fail(nsk_error *error, const char *path, enum sp_return result) {
    char *said = result == SP_ERR_FAIL ? sp_last_error_message() : NULL;
    nsk_fail_system(error, "%s: %s", path,
                    said != NULL            ? said
                    : result == SP_ERR_ARG  ? "no serial line of that name is here"
                    : result == SP_ERR_SUPP ? "it cannot be set like that"
                                            : "no memory is left");
    sp_free_error_message(said);
    return false;
}

/* ---- by the library ---- */

static bool send_all(void *of, const uint8_t *bytes, size_t count, nsk_error *error) {
    const enum sp_return sent = sp_blocking_write(of, bytes, count, PATIENCE);
    if (sent < SP_OK) {
        return fail(error, "the link broke", sent);
    }
    return (size_t)sent == count ||
           nsk_fail_system(error, "the link broke: the serial line takes no more bytes");
}

static int receive(void *of, uint8_t *to, int most, int milliseconds, nsk_error *error) {
    const enum sp_return came =
        sp_blocking_read_next(of, to, (size_t)most, (unsigned)MAX(milliseconds, 1));
    if (came < SP_OK) {
        fail(error, "the link broke", came);
        return -1;
    }
    return (int)came;
}

static void close_port(void *of) {
    sp_close(of);
    sp_free_port(of);
}

/* Eight bits, no parity, one stop bit, nobody holds anybody up. */
static enum sp_return set(struct sp_port *port, int speed) {
    enum sp_return result = sp_set_baudrate(port, speed);
    result = result == SP_OK ? sp_set_bits(port, 8) : result;
    result = result == SP_OK ? sp_set_parity(port, SP_PARITY_NONE) : result;
    result = result == SP_OK ? sp_set_stopbits(port, 1) : result;
    return result == SP_OK ? sp_set_flowcontrol(port, SP_FLOWCONTROL_NONE) : result;
}

static bool open_port(nsk_stream *stream, const char *path, int speed, nsk_error *error) {
    static const nsk_carrier carrier = {send_all, receive, close_port};
    struct sp_port *port = NULL;
    enum sp_return result = sp_get_port_by_name(path, &port);
    result = result == SP_OK ? sp_open(port, SP_MODE_READ_WRITE) : result;
    const bool is_open = result == SP_OK;
    result = is_open ? set(port, speed) : result;
    if (result != SP_OK) {
        fail(error, path, result);
        if (is_open) {
            sp_close(port);
        }
        sp_free_port(port);
        return false;
    }
    sp_flush(port, SP_BUF_BOTH);
    stream->carrier = &carrier;
    stream->of = port;
    return true;
}

/* ---- pseudo-terminals, which the library does not take for serial lines ---- */

static bool send_terminal(void *of, const uint8_t *bytes, size_t count, nsk_error *error) {
    struct pollfd ready = {GPOINTER_TO_INT(of), POLLOUT, 0};
    for (size_t sent = 0; sent < count;) {
        const ssize_t some =
            poll(&ready, 1, PATIENCE) > 0 ? write(ready.fd, bytes + sent, count - sent) : -1;
        if (some <= 0) {
            return nsk_fail_system(error, "the link broke: the terminal takes no more bytes");
        }
        sent += (size_t)some;
    }
    return true;
}

static int receive_terminal(void *of, uint8_t *to, int most, int milliseconds, nsk_error *error) {
    struct pollfd ready = {GPOINTER_TO_INT(of), POLLIN, 0};
    const int come = poll(&ready, 1, milliseconds);
    const ssize_t some = come > 0 ? read(ready.fd, to, (size_t)most) : 0;
    if (come < 0 || (come > 0 && some <= 0)) {
        nsk_fail_system(error, "the link ended: the board's side was closed");
        return -1;
    }
    return (int)some;
}

static void close_terminal(void *of) {
    close(GPOINTER_TO_INT(of));
}

static bool open_terminal(nsk_stream *stream, const char *path, nsk_error *error) {
    static const nsk_carrier carrier = {send_terminal, receive_terminal, close_terminal};
    struct termios raw;
    const int terminal = open(path, O_RDWR | O_NOCTTY | O_CLOEXEC);
    if (terminal < 0 || tcgetattr(terminal, &raw) != 0) {
        nsk_fail_system(error, "%s: %s", path, g_strerror(errno));
        if (terminal >= 0) {
            close(terminal);
        }
        return false;
    }
    cfmakeraw(&raw);
    tcsetattr(terminal, TCSANOW, &raw);
    stream->carrier = &carrier;
    stream->of = GINT_TO_POINTER(terminal);
    return true;
}

bool nsk_stream_serial(nsk_stream *stream, const char *path_and_speed, nsk_error *error) {
    const char *at = strrchr(path_and_speed, '@');
    char *path = at != NULL ? g_strndup(path_and_speed, (gsize)(at - path_and_speed))
                            : g_strdup(path_and_speed);
    guint64 speed = USUAL_SPEED;
    bool good = at == NULL || g_ascii_string_to_unsigned(at + 1, 10, 1, MOST_SPEED, &speed, NULL) ||
                nsk_fail(error, "%s: behind the @ stands the line's speed, as in %s@921600",
                         path_and_speed, path);
    if (good) {
        good = g_str_has_prefix(path, "/dev/pts/") ? open_terminal(stream, path, error)
                                                   : open_port(stream, path, (int)speed, error);
    }
    g_free(path);
    return good;
}
