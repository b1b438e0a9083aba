/* Models that a board is given over its link: written beside the one that runs, tried, kept; and
 * power that fails at any byte on the way. */
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "device/crc.h"
#include "link/message.h"
#include "netsuke/link.h"

enum { SLOT_BYTES = 4096, MEMORY = 1 << 18 };

typedef struct file {
    char *bytes;
    gsize size;
    nsk_model model;
} file;

/* A board whose flash is this memory. Power may fail: then nothing more is changed. */
typedef struct board {
    uint8_t flash[NSK_SLOTS][SLOT_BYTES];
    bool is_written[NSK_SLOTS][SLOT_BYTES / NSK_SLOT_UNIT];
    long bytes_left;       /* until power fails; below 0: it does not */
    bool is_dark, is_worn; /* it has failed; the flash takes nothing any more */
    bool backwards;        /* it is erased from its end */
    nsk_link link;
    nsk_link_port port;
    nsk_slots slots;
    nsk_link_camera camera;
    const file *built_in;
    uint32_t memory[MEMORY / 4];
    size_t memory_bytes;
    GByteArray *to, *from;
    uint32_t number;
} board;

/* One byte of the flash; false where power fails before it. */
static bool set_byte(board *b, uint8_t *to, uint8_t byte) {
    b->is_dark = b->is_dark || b->bytes_left == 0;
    b->bytes_left -= b->bytes_left > 0;
    if (!b->is_dark) {
        *to = byte;
    }
    return !b->is_dark;
}

/* Parts erase in whatever order: a sound head may stand over a model that is not. */
static bool erase(void *context, unsigned slot) {
    board *b = context;
    bool good = !b->is_worn;
    for (int i = 0; i < SLOT_BYTES && good; i++) {
        good = set_byte(b, &b->flash[slot][b->backwards ? SLOT_BYTES - 1 - i : i], 0xff);
    }
    memset(b->is_written[slot], 0, sizeof b->is_written[slot]);
    return good;
}

static bool write_unit(void *context, unsigned slot, uint32_t at, const uint8_t *unit) {
    board *b = context;
    CU_ASSERT_FATAL(slot < NSK_SLOTS && at % NSK_SLOT_UNIT == 0 && at < SLOT_BYTES);
    CU_ASSERT(!b->is_written[slot][at / NSK_SLOT_UNIT]);
    b->is_written[slot][at / NSK_SLOT_UNIT] = true;
    bool good = !b->is_worn;
    for (int i = 0; i < NSK_SLOT_UNIT && good; i++) {
        good = set_byte(b, &b->flash[slot][at + (uint32_t)i], unit[i]);
    }
    return good;
}

static size_t receive(void *context, uint8_t *to, size_t most) {
    GByteArray *bytes = ((board *)context)->to;
    const guint count = MIN((guint)most, bytes->len);
    memcpy(to, bytes->data, count);
    g_byte_array_remove_range(bytes, 0, count);
    return count;
}

static bool send_bytes(void *context, const uint8_t *bytes, size_t count) {
    g_byte_array_append(((board *)context)->from, bytes, (guint)count);
    return true;
}

static uint32_t ticks(void *context) {
    (void)context;
    return 0;
}

/* The fourth one is cut. */
static nsk_row row(void *context, uint8_t *to, size_t bytes, unsigned y) {
    board *b = context;
    b->bytes_left -= y == 0;
    for (size_t i = 0; i < bytes; i++) {
        to[i] = (uint8_t)(i * 7 + y * 31);
    }
    return b->bytes_left == -5 && y == 3 ? NSK_ROW_CUT : NSK_ROW_THERE;
}

static file load(const char *name) {
    file f;
    char *path = g_strdup_printf("%s/tests/fuzz/seeds/model/%s.nsk", NSK_SOURCE_DIR, name);
    CU_ASSERT_FATAL(g_file_get_contents(path, &f.bytes, &f.size, NULL));
    CU_ASSERT_EQUAL_FATAL(nsk_open(&f.model, f.bytes, f.size), NSK_STATUS_OK);
    g_free(path);
    return f;
}

static nsk_status power_on(board *b) {
    b->is_dark = false;
    b->bytes_left = -1;
    g_byte_array_set_size(b->to, 0);
    return nsk_link_set(&b->link, &b->port, b->built_in->bytes, b->built_in->size, b->memory,
                        b->memory_bytes);
}

static board *board_new(const file *built_in) {
    board *b = g_new0(board, 1);
    b->to = g_byte_array_new();
    b->from = g_byte_array_new();
    b->built_in = built_in;
    b->memory_bytes = sizeof b->memory;
    b->slots = (nsk_slots){b, {b->flash[0], b->flash[1]}, SLOT_BYTES, erase, write_unit};
    b->port.context = b;
    b->port.receive = receive;
    b->port.send = send_bytes;
    b->port.ticks = ticks;
    b->port.tick_hertz = b->port.clock_hertz = 1;
    b->port.core = "any";
    b->port.slots = &b->slots;
    memset(b->flash, 0xff, sizeof b->flash);
    CU_ASSERT_EQUAL(power_on(b), NSK_STATUS_OK);
    return b;
}

static void board_free(board *b) {
    g_byte_array_unref(b->to);
    g_byte_array_unref(b->from);
    g_free(b);
}

/* Sends it and takes the answer, if there is one: cbor_decref. */
static cbor_item_t *ask(board *b, nsk_request request) {
    static uint8_t room[4096];
    nsk_link_inbox inbox = {.bytes = room, .room = sizeof room};
    cbor_item_t *answer = NULL;
    GByteArray *frame = nsk_request_frame(&request);
    g_byte_array_set_size(b->from, 0);
    g_byte_array_append(b->to, frame->data, frame->len);
    while (b->to->len > 0) {
        nsk_link_poll(&b->link);
    }
    for (guint i = 0; i < b->from->len; i++) {
        if (nsk_wire_take(&inbox, b->from->data[i])) {
            CU_ASSERT_PTR_NULL(answer);
            answer = nsk_answer_read(inbox.bytes, inbox.count);
        }
    }
    g_byte_array_unref(frame);
    return answer;
}

/* How it went, and the number at a key. */
static uint32_t went(board *b, nsk_request request, nsk_link_key key, uint32_t *number) {
    uint32_t result = UINT32_MAX;
    cbor_item_t *answer = ask(b, request);
    CU_ASSERT_PTR_NOT_NULL_FATAL(answer);
    nsk_answer_number(answer, NSK_KEY_ANSWER, &result);
    if (number != NULL) {
        nsk_answer_number(answer, key, number);
    }
    cbor_decref(&answer);
    return result;
}

static nsk_request piece(board *b, const file *f, uint32_t from, uint32_t most) {
    nsk_request request = nsk_request_new(NSK_LINK_MODEL, ++b->number);
    nsk_request_add(&request, NSK_KEY_SIZE, (uint32_t)f->size);
    nsk_request_add(&request, NSK_KEY_SUM, f->model.checksum);
    nsk_request_add(&request, NSK_KEY_FROM, from);
    nsk_request_add_bytes(&request, NSK_KEY_DATA, (const uint8_t *)f->bytes + from,
                          MIN(most, f->size - from));
    return request;
}

static nsk_request with_sum(board *b, nsk_link_what what, uint32_t sum) {
    nsk_request request = nsk_request_new(what, ++b->number);
    nsk_request_add(&request, NSK_KEY_SUM, sum);
    return request;
}

static uint32_t tell(board *b, nsk_link_what what, const file *f) {
    return went(b, with_sum(b, what, f->model.checksum), NSK_KEY_ANSWER, NULL);
}

/* Writes, tries and keeps it: how far that came. */
static uint32_t give(board *b, const file *f) {
    uint32_t at = 0;
    uint32_t result = NSK_LINK_DONE;
    for (int tries = 0; at < f->size && result == NSK_LINK_DONE && tries < 100; tries++) {
        result = went(b, piece(b, f, at, 256), NSK_KEY_FROM, &at);
    }
    result = result == NSK_LINK_DONE ? tell(b, NSK_LINK_TRY, f) : result;
    return result == NSK_LINK_DONE ? tell(b, NSK_LINK_KEEP, f) : result;
}

static bool has_started(const board *b, const file *f) {
    return b->link.model.checksum == f->model.checksum;
}

/* ---- what holds ---- */

/* Three models, one behind the other: each starts once it was kept, in turns between the slots. */
static void each_in_its_turn(void) {
    const char *const names[] = {"0", "2", "4", "6", "20"};
    file files[G_N_ELEMENTS(names)];
    for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
        files[i] = load(names[i]);
    }
    board *b = board_new(&files[0]);
    CU_ASSERT(has_started(b, &files[0]));
    for (size_t i = 1; i < G_N_ELEMENTS(names); i++) {
        CU_ASSERT_EQUAL(give(b, &files[i]), NSK_LINK_DONE);
        CU_ASSERT(has_started(b, &files[i]));
        CU_ASSERT_EQUAL(b->link.starts, (i - 1) % 2);
        CU_ASSERT_EQUAL(tell(b, NSK_LINK_KEEP, &files[i]), NSK_LINK_DONE); /* twice is once */
        CU_ASSERT_EQUAL(power_on(b), NSK_STATUS_OK);
        CU_ASSERT(has_started(b, &files[i]));
    }
    /* a byte of the last one is another: the one before starts; of that, too: the one built in */
    b->flash[1][500] ^= 1;
    CU_ASSERT_EQUAL(power_on(b), NSK_STATUS_OK);
    CU_ASSERT(has_started(b, &files[3]));
    size_t size = 0;
    CU_ASSERT_PTR_EQUAL(nsk_slots_start(&b->slots, files[0].bytes, files[0].size, &size),
                        b->flash[0] + NSK_SLOT_HEAD);
    b->flash[0][8] ^= 1;
    CU_ASSERT_EQUAL(power_on(b), NSK_STATUS_OK);
    CU_ASSERT(has_started(b, &files[0]));
    CU_ASSERT_PTR_EQUAL(nsk_slots_start(&b->slots, files[0].bytes, files[0].size, &size),
                        files[0].bytes);
    CU_ASSERT_EQUAL(size, files[0].size);
    CU_ASSERT_EQUAL(give(b, &files[2]), NSK_LINK_DONE);
    CU_ASSERT_EQUAL(power_on(b), NSK_STATUS_OK);
    CU_ASSERT(has_started(b, &files[2]));
    board_free(b);
    for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
        g_free(files[i].bytes);
    }
}

/* Before each byte of the slot that is erased or written: what started before starts, until the
 * last byte of the head is there; and the model can be given once more. */
static void power_fails_at_every_byte(void) {
    const file built_in = load("0");
    const file old = load("2");
    const file another = load("4");
    board *b = board_new(&built_in);
    CU_ASSERT_EQUAL(give(b, &another), NSK_LINK_DONE);
    CU_ASSERT_EQUAL(give(b, &old), NSK_LINK_DONE);
    board *start = g_memdup2(b, sizeof *b);
    const long units = (long)((another.size + NSK_SLOT_UNIT - 1) / NSK_SLOT_UNIT) + 1;
    const long all = SLOT_BYTES + units * NSK_SLOT_UNIT;
    long wrong = 0;
    for (long cut = 0; cut <= all; cut++) {
        b->backwards = !b->backwards;
        memcpy(b->flash, start->flash, sizeof b->flash);
        wrong += power_on(b) != NSK_STATUS_OK || !has_started(b, &old);
        b->bytes_left = cut;
        const uint32_t result = give(b, &another);
        wrong += (result == NSK_LINK_DONE) != (cut == all);
        wrong += power_on(b) != NSK_STATUS_OK || !has_started(b, cut == all ? &another : &old);
        if (cut % 37 == 0 && cut < all) {
            wrong += give(b, &another) != NSK_LINK_DONE || power_on(b) != NSK_STATUS_OK ||
                     !has_started(b, &another);
        }
    }
    CU_ASSERT_EQUAL(wrong, 0);
    g_free(start);
    board_free(b);
    g_free(built_in.bytes);
    g_free(old.bytes);
    g_free(another.bytes);
}

/* Each is refused, and what started before runs on. */
static void what_does_not_fit_is_refused(void) {
    const file built_in = load("0");
    const file other = load("2");
    file damaged = load("2");
    damaged.bytes[700] ^= 1;
    board *b = board_new(&built_in);
    nsk_request lacking = piece(b, &other, 0, 256);
    nsk_request_add(&lacking, NSK_KEY_NEEDS, UINT32_C(1) << 31);
    CU_ASSERT_EQUAL(went(b, lacking, NSK_KEY_ANSWER, NULL), NSK_LINK_LACKS);
    nsk_request hungry = piece(b, &other, 0, 256);
    nsk_request_add(&hungry, NSK_KEY_ROOM, MEMORY + 1);
    CU_ASSERT_EQUAL(went(b, hungry, NSK_KEY_ANSWER, NULL), NSK_LINK_NO_ROOM);
    nsk_request long_one = nsk_request_new(NSK_LINK_MODEL, ++b->number);
    nsk_request_add(&long_one, NSK_KEY_SIZE, SLOT_BYTES - NSK_SLOT_HEAD + 1);
    CU_ASSERT_EQUAL(went(b, long_one, NSK_KEY_ANSWER, NULL), NSK_LINK_NO_ROOM);
    CU_ASSERT_EQUAL(went(b, piece(b, &other, 0, 33), NSK_KEY_ANSWER, NULL), NSK_LINK_UNFIT);
    CU_ASSERT_EQUAL(went(b, piece(b, &other, 32, 32), NSK_KEY_ANSWER, NULL), NSK_LINK_NOT_THERE);
    CU_ASSERT_EQUAL(tell(b, NSK_LINK_TRY, &other), NSK_LINK_NOT_THERE);
    for (int i = 0; i < SLOT_BYTES; i++) { /* not a byte of all this has been written */
        CU_ASSERT(b->flash[0][i] == 0xff && b->flash[1][i] == 0xff);
    }
    CU_ASSERT_EQUAL(give(b, &damaged), NSK_LINK_UNSOUND);
    CU_ASSERT(has_started(b, &built_in));
    CU_ASSERT_EQUAL(tell(b, NSK_LINK_KEEP, &other), NSK_LINK_NOT_THERE);
    /* a trial ends where it is sent back, or another model comes */
    uint32_t at = 0;
    while (at < other.size) {
        went(b, piece(b, &other, at, 512), NSK_KEY_FROM, &at);
    }
    CU_ASSERT_EQUAL(tell(b, NSK_LINK_TRY, &other), NSK_LINK_DONE);
    CU_ASSERT_EQUAL(tell(b, NSK_LINK_TRY, &other), NSK_LINK_DONE);
    CU_ASSERT(has_started(b, &other));
    CU_ASSERT_EQUAL(tell(b, NSK_LINK_BACK, &other), NSK_LINK_DONE);
    CU_ASSERT(has_started(b, &built_in));
    CU_ASSERT_EQUAL(tell(b, NSK_LINK_TRY, &other), NSK_LINK_DONE);
    const file third = load("4");
    CU_ASSERT_EQUAL(went(b, piece(b, &third, 0, 32), NSK_KEY_FROM, &at), NSK_LINK_DONE);
    CU_ASSERT_EQUAL(at, 0); /* memory was divided up anew: once more */
    CU_ASSERT(has_started(b, &built_in));
    CU_ASSERT_EQUAL(give(b, &third), NSK_LINK_DONE);
    b->is_worn = true;
    CU_ASSERT_EQUAL(give(b, &other), NSK_LINK_FLASH);
    CU_ASSERT(has_started(b, &third));
    b->port.slots = NULL;
    CU_ASSERT_EQUAL(give(b, &other), NSK_LINK_NOT_KNOWN);
    board_free(b);
    g_free(third.bytes);
    g_free(built_in.bytes);
    g_free(other.bytes);
    g_free(damaged.bytes);
}

/* A turn may pass 2^32. */
static void turns_begin_anew(void) {
    const file built_in = load("0");
    const file files[] = {load("2"), load("4"), load("6")};
    board *b = board_new(&built_in);
    CU_ASSERT_EQUAL(give(b, &files[0]), NSK_LINK_DONE);
    uint32_t head[NSK_SLOT_HEAD / 4];
    memcpy(head, b->flash[0], sizeof head);
    head[1] = UINT32_MAX;
    head[NSK_SLOT_HEAD / 4 - 1] = nsk_crc32(0, (const uint8_t *)head, sizeof head - 4);
    memcpy(b->flash[0], head, sizeof head);
    CU_ASSERT_EQUAL(power_on(b), NSK_STATUS_OK);
    CU_ASSERT_EQUAL(give(b, &files[1]), NSK_LINK_DONE);
    memcpy(head, b->flash[1], sizeof head);
    CU_ASSERT_EQUAL(head[1], 0);
    CU_ASSERT_EQUAL(power_on(b), NSK_STATUS_OK);
    CU_ASSERT(has_started(b, &files[1]));
    CU_ASSERT_EQUAL(give(b, &files[2]), NSK_LINK_DONE);
    CU_ASSERT_EQUAL(power_on(b), NSK_STATUS_OK);
    CU_ASSERT(has_started(b, &files[2]));
    board_free(b);
    g_free(built_in.bytes);
    for (size_t i = 0; i < G_N_ELEMENTS(files); i++) {
        g_free(files[i].bytes);
    }
}

/* ---- its camera ---- */

typedef struct seen {
    uint32_t result, came, line, decided, standing;
} seen;

static seen look(board *b, uint32_t frame) {
    seen s = {UINT32_MAX, 0, 0, 0, 0};
    nsk_request request = nsk_request_new(NSK_LINK_LOOK, ++b->number);
    nsk_request_add(&request, NSK_KEY_FRAME, frame);
    cbor_item_t *answer = ask(b, request);
    CU_ASSERT_PTR_NOT_NULL_FATAL(answer);
    nsk_answer_number(answer, NSK_KEY_ANSWER, &s.result);
    nsk_answer_number(answer, NSK_KEY_CAME, &s.came);
    nsk_answer_number(answer, NSK_KEY_LINE, &s.line);
    nsk_answer_number(answer, NSK_KEY_DECIDED, &s.decided);
    nsk_answer_number(answer, NSK_KEY_STANDING, &s.standing);
    cbor_decref(&answer);
    return s;
}

static uint32_t rule(board *b, const char *bytes, size_t count) {
    nsk_request request = nsk_request_new(NSK_LINK_RULE, ++b->number);
    nsk_request_add_bytes(&request, NSK_KEY_DATA, (const uint8_t *)bytes, count);
    return went(b, request, NSK_KEY_ANSWER, NULL);
}

/* Each picture is taken once, however often it is asked for; its bytes are those of the camera;
 * scores are those of the same frame from the host; the rule decides as it was told. */
static void a_camera_is_looked_through(void) {
    const file f = load("20");
    board *b = board_new(&f);
    CU_ASSERT_EQUAL(look(b, 1).result, NSK_LINK_NOT_KNOWN);
    b->camera =
        (nsk_link_camera){(uint16_t)(f.model.width * 2), (uint16_t)(f.model.height * 3), row, NULL};
    b->port.camera = &b->camera;
    CU_ASSERT_EQUAL(power_on(b), NSK_STATUS_OK);
    CU_ASSERT_PTR_NOT_NULL_FATAL(b->link.live.picture);
    /* the likeliest class at once, whatever it is */
    CU_ASSERT_EQUAL(rule(b, "\0\0\0\0\0\0\0\0\1\0\0\0\xff\xff", 14), NSK_LINK_DONE);
    seen s = look(b, 1);
    CU_ASSERT(s.result == NSK_LINK_DONE && s.came == NSK_ROW_THERE && s.line >= 2 &&
              s.decided == s.line && s.standing == s.line);
    CU_ASSERT_EQUAL(look(b, 1).decided, s.decided); /* the same picture */
    CU_ASSERT_EQUAL(b->bytes_left, -2);
    s = look(b, 2);
    CU_ASSERT(s.decided == 1 && s.standing == s.line); /* it stands already */
    nsk_request request = nsk_request_new(NSK_LINK_PICTURE, ++b->number);
    nsk_request_add(&request, NSK_KEY_FRAME, 2);
    nsk_request_add(&request, NSK_KEY_FROM, 5);
    nsk_request_add(&request, NSK_KEY_MOST, 9);
    cbor_item_t *answer = ask(b, request);
    size_t count;
    const uint8_t *bytes = nsk_answer_bytes(answer, NSK_KEY_DATA, &count);
    CU_ASSERT(bytes != NULL && count == 9 && bytes[0] == 35 && bytes[8] == (uint8_t)(13 * 7));
    cbor_decref(&answer);
    /* two frames in a row, and never: each class has no line */
    CU_ASSERT_EQUAL(rule(b, "\0\0\0\x40\0\0\0\0\2\0\0\0\xff\xff", 14), NSK_LINK_DONE);
    CU_ASSERT_EQUAL(look(b, 3).decided, 1);
    CU_ASSERT_EQUAL(look(b, 4).came, NSK_ROW_CUT);
    CU_ASSERT_EQUAL(rule(b, "\0\0\0\0\0\0\0\0\0\0\0\0\xff\xff", 14), NSK_LINK_UNFIT);
    CU_ASSERT_EQUAL(rule(b, "\0\0\0\0\0\0\0\0\4\3\0\0\xff\xff", 14), NSK_LINK_UNFIT);
    CU_ASSERT_EQUAL(rule(b, "\0\0\0\0\0\0\0\0\1\x21\0\0\xff\xff", 14), NSK_LINK_UNFIT);
    CU_ASSERT_EQUAL(rule(b, "\0\0\0\0\0\0\0\0\1\0\0\1\xff\xff", 14), NSK_LINK_UNFIT);
    CU_ASSERT_EQUAL(rule(b, "\0\0\0\0\0\0\0\0\1\0\0\0\xff", 13), NSK_LINK_UNFIT);
    board_free(b);
    g_free(f.bytes);
}

CU_TestInfo slots_tests[] = {
    {"each in its turn", each_in_its_turn},
    {"power fails at every byte", power_fails_at_every_byte},
    {"what does not fit is refused", what_does_not_fit_is_refused},
    {"turns begin anew", turns_begin_anew},
    {"a camera is looked through", a_camera_is_looked_through},
    CU_TEST_INFO_NULL,
};
