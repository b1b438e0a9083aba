/* Asks a board, waits, asks again. */
#include "link/line.h"

#include <string.h>

enum {
    PATIENCE = 20000, /* milliseconds without a sound answer: there is nobody */
    FIRST_WAIT = 500, /* until a request is sent again, before it is known how long answers take */
    LEAST_WAIT = 50,
    MOST_WAIT = 5000,
    TRIES_WITH_DATA = 3, /* until it is cut smaller */
    LEAST_PAYLOAD = 32,  /* bytes; and at first */
    FIRST_PAYLOAD = 1024
};

void nsk_line_start(nsk_line *line) {
    line->inbox.bytes = line->room;
    line->inbox.room = sizeof line->room;
    /* so that an answer to somebody who asked before is not taken for ours */
    line->number = g_random_int() >> 1;
    line->payload = FIRST_PAYLOAD;
}

/* ---- one answer ---- */

/* The next whole message, or NULL: none came in that time, or the link is gone (`error`). */
static cbor_item_t *next_message(nsk_line *l, int milliseconds, bool *gone, nsk_error *error) {
    const gint64 until = g_get_monotonic_time() + milliseconds * G_GINT64_CONSTANT(1000);
    for (;;) {
        while (l->first < l->end) {
            if (nsk_wire_take(&l->inbox, l->came[l->first++])) {
                cbor_item_t *answer = nsk_answer_read(l->inbox.bytes, l->inbox.count);
                if (answer != NULL) {
                    return answer;
                }
            }
        }
        const gint64 left = (until - g_get_monotonic_time()) / 1000;
        const int some = left < 0
                             ? 0
                             : l->stream.carrier->receive(l->stream.of, l->came,
                                                          (int)sizeof l->came, (int)left, error);
        l->first = 0;
        l->end = MAX(some, 0);
        if (some <= 0) {
            *gone = some < 0;
            return NULL;
        }
    }
}

static bool is_answer_to(const cbor_item_t *answer, nsk_link_what what, uint32_t number) {
    uint32_t its_what = 0;
    uint32_t its_number = 0;
    return nsk_answer_number(answer, NSK_KEY_WHAT, &its_what) &&
           nsk_answer_number(answer, NSK_KEY_NUMBER, &its_number) && its_what == (uint32_t)what &&
           its_number == number;
}

/* Waits for the answer to that very request; others, late ones, are left. */
static cbor_item_t *await(nsk_line *l, nsk_link_what what, int milliseconds, bool *gone,
                          nsk_error *error) {
    const gint64 until = g_get_monotonic_time() + milliseconds * G_GINT64_CONSTANT(1000);
    for (;;) {
        const int left = (int)((until - g_get_monotonic_time()) / 1000);
        cbor_item_t *answer = next_message(l, MAX(left, 0), gone, error);
        if (answer == NULL || is_answer_to(answer, what, l->number)) {
            return answer;
        }
        cbor_decref(&answer);
    }
}

static int usual_wait(const nsk_line *l, int kind) {
    return l->wait[kind] > 0 ? CLAMP(l->wait[kind], LEAST_WAIT, MOST_WAIT) : FIRST_WAIT;
}

/* Four times what the slowest answer of late has taken. */
static void learn(nsk_line *l, int kind, gint64 microseconds) {
    const int now = (int)(microseconds / 250) + 1;
    l->wait[kind] = MAX(now, l->wait[kind] - l->wait[kind] / 8);
}

static bool refused(nsk_line *l, const cbor_item_t *answer, nsk_error *error) {
    static const char *const reasons[] = {
        [NSK_LINK_DONE] = "",
        [NSK_LINK_NOT_KNOWN] = "it does not know this request",
        [NSK_LINK_UNFIT] = "what it was sent does not fit its model",
        [NSK_LINK_NOT_THERE] = "what this is about is not there any more",
        [NSK_LINK_LACKS] = "its firmware lacks a kind of layer that this model has",
        [NSK_LINK_NO_ROOM] = "the model is larger than a slot of its, or wants more memory",
        [NSK_LINK_FLASH] = "its flash would not be erased, or written",
        [NSK_LINK_UNSOUND] = "what it has written is not the model"};
    uint32_t why = NSK_LINK_NOT_KNOWN;
    nsk_answer_number(answer, NSK_KEY_ANSWER, &why);
    if (why == NSK_LINK_DONE) {
        return false;
    }
    l->not_there = why == NSK_LINK_NOT_THERE;
    nsk_fail(error, "the board refused: %s",
             why < G_N_ELEMENTS(reasons) ? reasons[why] : "a reason that is not known here");
    return true;
}

/* Half as much at a time where it was lost, twice as much after eight messages that were not. */
static void adapt(nsk_line *l, size_t data, bool lost) {
    l->sound = lost ? 0 : l->sound + 1;
    if (lost) {
        l->payload = MAX((uint32_t)data / 2U, LEAST_PAYLOAD);
    } else if (l->sound % 8 == 0 && l->payload < UINT32_MAX / 2U) {
        l->payload *= 2U;
    }
}

uint32_t nsk_line_payload(const nsk_line *line, uint32_t unit, uint32_t longest) {
    enum { AROUND = 64 }; /* bytes of a message that are no data */
    const uint32_t room = longest > AROUND ? longest - AROUND : 0;
    return MAX(MIN(line->payload, room) / unit, 1U) * unit;
}

/* Until an answer comes; where there is data, which may be cut smaller, no more than some times. */
static cbor_item_t *send_and_wait(nsk_line *l, nsk_link_what what, int kind,
                                  const GByteArray *frame, size_t data, bool *gone,
                                  nsk_error *error) {
    cbor_item_t *answer = NULL;
    int wait = usual_wait(l, kind);
    for (int tries = 0; answer == NULL && !*gone && l->silent < PATIENCE; tries++) {
        const gint64 start = g_get_monotonic_time();
        if (data > 0 && tries == TRIES_WITH_DATA) {
            return NULL;
        }
        *gone = !l->stream.carrier->send(l->stream.of, frame->data, frame->len, error);
        answer = *gone ? NULL : await(l, what, wait, gone, error);
        l->requests++;
        if (answer != NULL) {
            learn(l, kind, g_get_monotonic_time() - start);
        } else if (!*gone) {
            l->repeated++;
            l->silent += wait;
        }
        wait = MIN(2 * wait, MOST_WAIT);
    }
    return answer;
}

cbor_item_t *nsk_line_ask(nsk_line *l, nsk_link_what what, int kind, nsk_request *request,
                          size_t data, nsk_error *error) {
    GByteArray *frame = nsk_request_frame(request);
    bool gone = false;
    const long repeated = l->repeated;
    cbor_item_t *answer = send_and_wait(l, what, kind, frame, data, &gone, error);
    g_byte_array_unref(frame);
    l->lost = answer == NULL && !gone && l->silent < PATIENCE;
    if (data > 0) {
        adapt(l, data, l->repeated > repeated);
    }
    if (answer == NULL && !gone && !l->lost) {
        nsk_fail_system(error,
                        "the board has not answered for %d seconds: is it on, and at this speed?",
                        PATIENCE / 1000);
    }
    if (answer == NULL) {
        return NULL;
    }
    l->silent = 0;
    if (refused(l, answer, error)) {
        cbor_decref(&answer);
    }
    return answer;
}

nsk_request nsk_line_request(nsk_line *l, nsk_link_what what) {
    return nsk_request_new(what, ++l->number);
}
