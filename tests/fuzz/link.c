/* Both ends of a link on any bytes. The first one says which of a few models the board has; then
 * come records: two bytes of length, the lowest first, and so many bytes, which are a message, or,
 * where the length's highest bit is set, go to the board as they are. What a board says is always a
 * sound answer, and the host reads anything. */
#include <glib.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "device/crc.h"
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

/* ---- its camera, and its slots ---- */

/* Every fifth row comes late, or not at all. */
static nsk_row row(void *context, uint8_t *to, size_t bytes, unsigned y) {
    const line *l = context;
    for (size_t i = 0; i < bytes; i++) {
        to[i] = (uint8_t)(i + y + l->said->len);
    }
    return y == 0 || (y + l->said->len) % 61 != 0 ? NSK_ROW_THERE : (nsk_row)(1 + y % 3);
}

static void decided(void *context, int line_up) {
    (void)context;
    demand(line_up >= 0, "a line that is none");
}

enum { SLOT_BYTES = 4096 };
static uint32_t flash[NSK_SLOTS][SLOT_BYTES / 4];

static bool erase(void *context, unsigned slot) {
    demand(slot < NSK_SLOTS, "a slot that is none");
    memset(flash[slot], 0xff, SLOT_BYTES);
    return ((line *)context)->said->len % 11 != 1;
}

static bool write_unit(void *context, unsigned slot, uint32_t at, const uint8_t *unit) {
    demand(slot < NSK_SLOTS && at % NSK_SLOT_UNIT == 0 && at < SLOT_BYTES, "outside of the slot");
    memcpy((uint8_t *)flash[slot] + at, unit, NSK_SLOT_UNIT);
    return ((line *)context)->said->len % 13 != 1;
}

/* A board that has been used before: its last slot holds a model, or what is none. */
static void fill_slots(int which) {
    const uint32_t head[] = {0x746c736e, 7,          (uint32_t)models[which].size,
                             UINT32_MAX, UINT32_MAX, UINT32_MAX,
                             UINT32_MAX};
    const uint32_t sum = nsk_crc32(0, (const uint8_t *)head, sizeof head);
    memset(flash, 0xff, sizeof flash);
    memcpy(flash[1], head, sizeof head);
    memcpy(flash[1] + sizeof head / 4, &sum, sizeof sum);
    memcpy((uint8_t *)flash[1] + NSK_SLOT_HEAD, models[which].bytes, models[which].size);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    line l = {data, data, g_byte_array_new()};
    const int setting = size > 0 ? data[0] / MODELS : 0;
    nsk_link_camera camera = {0, 0, row, setting % 2 == 1 ? decided : NULL};
    const nsk_rule own_rule = {.threshold = 1, .frames = 1, .resting = UINT16_MAX};
    const nsk_slots slots = {
        &l, {(const uint8_t *)flash[0], (const uint8_t *)flash[1]}, SLOT_BYTES, erase, write_unit};
    const nsk_link_port port = {&l,
                                receive,
                                send_bytes,
                                ticks,
                                1,
                                setting % 3 == 0 ? paint : NULL,
                                setting % 3 == 0 ? used : NULL,
                                "any",
                                1,
                                0,
                                setting % 4 != 1 ? &camera : NULL,
                                setting % 5 != 1 ? &own_rule : NULL,
                                setting % 8 != 1 ? &slots : NULL};
    const int which = size > 0 ? data[0] % MODELS : 0;
    nsk_model model;
    nsk_link link;
    const char *file = models[which].bytes;
    demand(nsk_open(&model, file, models[which].size) == NSK_STATUS_OK, "the model is not sound");
    const bool is_small = setting % 7 == 3 && model.width > 1 && port.camera != NULL;
    if (setting % 7 > 3) { /* as wide as the frame, twice, or three times and as high */
        camera.width = (uint16_t)(model.width * (setting % 7 - 3));
        camera.height = (uint16_t)(model.height * (setting % 7 == 6 ? 3 : 1));
    } else if (is_small) {
        camera.width = (uint16_t)(model.width / 2);
    }
    fill_slots(setting % 6 == 1 ? (which + 1) % MODELS : which);
    flash[1][9] ^= setting % 6 == 2;
    const size_t least = nsk_link_bytes(&port, &model);
    const size_t bytes = least + (setting % 9 == 0 ? 65536 : 8);
    void *memory = g_malloc(bytes);
    const nsk_status status = nsk_link_set(&link, &port, file, models[which].size, memory, bytes);
    demand(status == (is_small ? NSK_STATUS_PICTURE_SMALL : NSK_STATUS_OK),
           "the link begins where it should not, or does not where it should");
    for (size_t at = 1; at + 2 < size && !is_small;) {
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
    size_t starting = 0;
    const void *starts = nsk_slots_start(&slots, file, models[which].size, &starting);
    demand(nsk_open(&model, starts, starting) == NSK_STATUS_OK, "no sound model would start");
    read_all(&l);
    g_byte_array_unref(l.said);
    g_free(memory);
    return 0;
}
