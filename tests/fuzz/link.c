/* Both ends of a link on any bytes. The first one says which of a few models the board has; then
 * come records: two bytes of length, the lowest first, and so many bytes, which are a message, or,
 * where the length's highest bit is set, go to the board as they are. What a board says is always a
 * sound answer, and the host reads anything. */
#include <glib.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "link/message.h"

int LLVMFuzzerInitialize(int *count, char ***arguments);
int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static const char *const names[] = {"0", "stream", "fine", "pixels"};
enum { MODELS = G_N_ELEMENTS(names), MOST_ANSWER = 4096 };

/* Read once: nothing is changed in them. */
static struct {
    char *bytes;
    size_t size;
} models[MODELS];

/* What is never to be. */
static void demand(bool good, const char *what) {
    if (!good) {
        fprintf(stderr, "fuzz-link: %s\n", what);
        abort();
    }
}

int LLVMFuzzerInitialize(int *count, char ***arguments) {
    (void)count;
    (void)arguments;
    for (int i = 0; i < MODELS; i++) {
        char *path = g_strdup_printf("%s/tests/fuzz/seeds/model/%s.nsk", NSK_SOURCE_DIR, names[i]);
        demand(g_file_get_contents(path, &models[i].bytes, &models[i].size, NULL), path);
        g_free(path);
    }
    return 0;
}

typedef struct line {
    const uint8_t *at, *end;
    GByteArray *said;
} line;

static size_t receive(void *context, uint8_t *to, size_t most) {
    line *l = context;
    const size_t count = MIN(most, (size_t)(l->end - l->at));
    memcpy(to, l->at, count);
    l->at += count;
    return count;
}

static bool send_bytes(void *context, const uint8_t *bytes, size_t count) {
    g_byte_array_append(((line *)context)->said, bytes, (guint)count);
    return count % 7 != 1; /* now and then there is no room */
}

static uint32_t ticks(void *context) {
    return (uint32_t)(uintptr_t)((line *)context)->at;
}

static void paint(void *context) {
    (void)context;
}

static uint32_t used(void *context) {
    return (uint32_t)((line *)context)->said->len;
}

static void send_all(nsk_link *link, line *l, const uint8_t *bytes, size_t count) {
    l->at = bytes;
    l->end = bytes + count;
    while (l->at < l->end) {
        nsk_link_poll(link);
    }
}

/* As the host frames it. */
static void send_message(nsk_link *link, line *l, const uint8_t *bytes, size_t count) {
    GByteArray *frame = nsk_message_frame(bytes, count);
    send_all(link, l, frame->data, frame->len);
    g_byte_array_unref(frame);
}

/* All that the host would look at in an answer. */
static void read_answer(const uint8_t *bytes, size_t count) {
    cbor_item_t *answer = nsk_answer_read(bytes, count);
    char text[16];
    uint32_t number;
    if (answer == NULL) {
        return;
    }
    for (int key = 0; key <= NSK_KEY_PREPARE; key++) {
        const cbor_item_t *list = nsk_answer_list(answer, (nsk_link_key)key);
        nsk_answer_number(answer, (nsk_link_key)key, &number);
        nsk_answer_text(answer, (nsk_link_key)key, text, sizeof text);
        for (size_t i = 0; list != NULL && i < 4; i++) {
            nsk_answer_element(list, i, &number);
        }
    }
    cbor_decref(&answer);
}

static void read_all(const line *l) {
    static uint8_t room[MOST_ANSWER];
    nsk_link_inbox inbox = {.bytes = room, .room = sizeof room};
    for (guint i = 0; i < l->said->len; i++) {
        if (nsk_wire_take(&inbox, l->said->data[i])) {
            cbor_item_t *answer = nsk_answer_read(inbox.bytes, inbox.count);
            uint32_t number;
            demand(answer != NULL && nsk_answer_number(answer, NSK_KEY_NUMBER, &number),
                   "the board said what is no answer");
            cbor_decref(&answer);
        }
    }
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    line l = {data, data, g_byte_array_new()};
    const nsk_link_port port = {&l, receive, send_bytes, ticks, 1, paint, used, "any", 1, 0};
    const int which = size > 0 ? data[0] % MODELS : 0;
    nsk_model model;
    nsk_link link;
    const char *file = models[which].bytes;
    demand(nsk_open(&model, file, models[which].size) == NSK_STATUS_OK, "the model is not sound");
    const size_t least = nsk_link_bytes(&model);
    void *memory = g_malloc(least + 8);
    demand(nsk_link_set(&link, &port, file, models[which].size, memory, least - 1) ==
                   NSK_STATUS_NO_MEMORY &&
               nsk_link_set(&link, &port, file, 7, memory, least) == NSK_STATUS_TRUNCATED &&
               nsk_link_set(&link, &port, file, models[which].size, memory, least + 8) ==
                   NSK_STATUS_OK,
           "the link begins where it should not, or does not where it should");
    for (size_t at = 1; at + 2 < size;) {
        const size_t length = (size_t)(data[at] | (data[at + 1] & 0x7f) << 8);
        const size_t count = MIN(length, size - at - 2);
        if ((data[at + 1] & 0x80) != 0) {
            send_all(&link, &l, data + at + 2, count);
        } else {
            send_message(&link, &l, data + at + 2, count);
            read_answer(data + at + 2, count);
        }
        at += 2 + count;
    }
    read_all(&l);
    g_byte_array_unref(l.said);
    g_free(memory);
    return 0;
}
