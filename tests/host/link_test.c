/* Both ends of a link: a board in a thread of its own, at the end of a socket or a pseudo-terminal
 * that loses bytes. */
#define _DEFAULT_SOURCE
#define _XOPEN_SOURCE 600
#include <fcntl.h>
#include <gio/gio.h>
#include <math.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <stdlib.h>
#include <string.h>
#include <sys/socket.h>
#include <unistd.h>

#include "../suites.h"
#include "../support.h"
#include "link/message.h"
#include "netsuke/compare.h"
#include "netsuke/on_board.h"

/* ---- a board in a thread ---- */

typedef struct far_board {
    const nsk_model_file *file;
    int listening, line; /* file descriptors */
    int port;
    int bad_of_1000;       /* bytes on the way that are changed, lost or doubled, either way */
    long cut_after, bytes; /* the line is cut when so many bytes have come; 0: never */
    int anew_after;        /* messages sent, after which the board starts anew, once; 0: never */
    uint32_t tick, clock;  /* hertz, as it says them */
    int wrong_layer, wrong_byte; /* of whose output that byte is changed; -1: none */
    random_state noise;
    nsk_link link;
    nsk_link_port ways;
    nsk_link_camera camera; /* where it has one, and slots */
    nsk_slots slots;
    uint8_t *flash[NSK_SLOTS];
    const nsk_images *scene; /* what stands before the camera, a picture after the other */
    uint8_t *seen;
    int pictures;
    uint32_t *memory, now, layer;
    int sent;
    bool ended;
    GThread *thread;
} far_board;

/* What the line makes of some bytes: at most twice as many. */
static size_t disturb(far_board *f, const uint8_t *bytes, size_t count, uint8_t *to) {
    size_t made = 0;
    for (size_t i = 0; i < count; i++) {
        const bool bad = random_below(&f->noise, 1000) < f->bad_of_1000;
        const int how = bad ? random_below(&f->noise, 3) : -1;
        if (how != 0) {
            to[made++] = how == 1 ? (uint8_t)(bytes[i] ^ 1U << (i & 7U)) : bytes[i];
        }
        if (how == 2) {
            to[made++] = bytes[i];
        }
    }
    return made;
}

static size_t board_receive(void *context, uint8_t *to, size_t most) {
    far_board *f = context;
    uint8_t clean[64];
    struct pollfd ready = {f->line, POLLIN, 0};
    if (f->ended || poll(&ready, 1, 1) <= 0) {
        return 0;
    }
    const ssize_t some = read(f->line, clean, MIN(most / 2, sizeof clean));
    f->bytes += some;
    f->ended = some <= 0 || (f->cut_after > 0 && f->bytes > f->cut_after);
    return f->ended ? 0 : disturb(f, clean, (size_t)some, to);
}

static bool board_send(void *context, const uint8_t *bytes, size_t count) {
    far_board *f = context;
    uint8_t made[2 * NSK_WIRE_CHUNK];
    const size_t some = disturb(f, bytes, count, made);
    f->sent++;
    return write(f->line, made, some) == (ssize_t)some;
}

static uint32_t board_ticks(void *context) {
    return ((far_board *)context)->now++;
}

static void board_paint(void *context) {
    (void)context;
}

/* Called behind each layer, before its output is summed up. */
static uint32_t board_used(void *context) {
    far_board *f = context;
    const int layer = (int)f->layer++ - 1; /* the first is asked for after the first row */
    const nsk_model *m = &f->link.model;
    if (layer % m->layers == f->wrong_layer && f->wrong_layer >= 0) {
        const nsk_tensor out = nsk_tensor_at(m, nsk_layer_output(m, (unsigned)f->wrong_layer));
        ((uint8_t *)f->link.workspace)[out.offset + (uint32_t)f->wrong_byte] ^= 1U;
    }
    f->layer = layer + 1 == m->layers ? 0 : f->layer;
    return 100;
}

static bool board_erase(void *context, unsigned slot) {
    const far_board *f = context;
    memset(f->flash[slot], 0xff, f->slots.bytes);
    return true;
}

static bool board_write(void *context, unsigned slot, uint32_t at, const uint8_t *unit) {
    memcpy(((far_board *)context)->flash[slot] + at, unit, NSK_SLOT_UNIT);
    return true;
}

static nsk_row board_row(void *context, uint8_t *to, size_t bytes, unsigned y) {
    far_board *f = context;
    nsk_error error;
    if (y == 0) {
        nsk_images_frame(f->scene, f->pictures++, f->seen, &error);
    }
    memcpy(to, f->seen + y * bytes, bytes);
    return NSK_ROW_THERE;
}

static void give_slots(far_board *f, uint32_t bytes) {
    for (int i = 0; i < NSK_SLOTS; i++) {
        f->flash[i] = g_malloc(bytes);
        f->slots.at[i] = f->flash[i];
        memset(f->flash[i], 0xff, bytes);
    }
    f->slots.context = f;
    f->slots.bytes = bytes;
    f->slots.erase = board_erase;
    f->slots.write = board_write;
}

static void give_camera(far_board *f, const nsk_images *scene) {
    f->scene = scene;
    f->seen = g_malloc(nsk_images_frame_bytes(scene));
    f->camera.row = board_row;
}

static void start_board(far_board *f) {
    nsk_model model;
    nsk_open(&model, f->file->bytes, f->file->size);
    f->ways = (nsk_link_port){f,
                              board_receive,
                              board_send,
                              board_ticks,
                              f->tick,
                              board_paint,
                              board_used,
                              "any",
                              f->clock,
                              0,
                              f->camera.row != NULL ? &f->camera : NULL,
                              NULL,
                              f->slots.bytes > 0 ? &f->slots : NULL};
    const size_t bytes = nsk_link_bytes(&f->ways, &model) + 30000;
    f->memory = f->memory != NULL ? f->memory : g_malloc(bytes);
    const nsk_status status =
        nsk_link_set(&f->link, &f->ways, f->file->bytes, f->file->size, f->memory, bytes);
    g_assert(status == NSK_STATUS_OK);
}

static gpointer serve(gpointer data) {
    far_board *f = data;
    struct pollfd called = {f->listening, POLLIN, 0};
    if (f->listening >= 0) {
        poll(&called, 1, 10000);
        const int at_once = 1;
        f->line = accept(f->listening, NULL, NULL);
        setsockopt(f->line, IPPROTO_TCP, TCP_NODELAY, &at_once, sizeof at_once);
    }
    while (!f->ended) {
        nsk_link_poll(&f->link);
        if (f->anew_after > 0 && f->sent >= f->anew_after) {
            f->anew_after = 0;
            start_board(f);
        }
    }
    close(f->line);
    return NULL;
}

/* At a socket; its name for the host: g_free. */
static char *begin(far_board *f) {
    GSocket *socket = g_socket_new(G_SOCKET_FAMILY_IPV4, G_SOCKET_TYPE_STREAM, 0, NULL);
    GInetAddress *host = g_inet_address_new_loopback(G_SOCKET_FAMILY_IPV4);
    GSocketAddress *address = g_inet_socket_address_new(host, 0);
    CU_ASSERT_FATAL(g_socket_bind(socket, address, FALSE, NULL) && g_socket_listen(socket, NULL));
    GSocketAddress *bound = g_socket_get_local_address(socket, NULL);
    f->port = g_inet_socket_address_get_port(G_INET_SOCKET_ADDRESS(bound));
    f->listening = dup(g_socket_get_fd(socket));
    g_object_unref(bound);
    g_object_unref(address);
    g_object_unref(host);
    g_object_unref(socket);
    start_board(f);
    f->thread = g_thread_new("board", serve, f);
    return g_strdup_printf("tcp:127.0.0.1:%d", f->port);
}

static void end(far_board *f, char *name) {
    g_thread_join(f->thread);
    if (f->listening >= 0) {
        close(f->listening);
    }
    for (int i = 0; i < NSK_SLOTS; i++) {
        g_free(f->flash[i]);
    }
    g_free(f->seen);
    g_free(f->memory);
    g_free(name);
}

static far_board sound_board(const kiln *k) {
    far_board f = {.file = k->file,
                   .listening = -1,
                   .tick = 1000000,
                   .clock = 1000000,
                   .wrong_layer = -1,
                   .noise = {20261201}};
    return f;
}

/* Runs frames on it, and ends it. */
static nsk_trial *try_board(far_board *f, const kiln *k, int frames, nsk_error *error) {
    char *name = begin(f);
    nsk_on_board *board = nsk_on_board_open(name, NULL, error);
    nsk_trial *t = board != NULL
                       ? nsk_trial_run(board, k->file, k->held_out, frames, NULL, NULL, error)
                       : NULL;
    nsk_on_board_close(board);
    end(f, name);
    return t;
}

/* ---- what holds ---- */

static void a_board_here_agrees(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln_load(&k, 6);
    nsk_handed_network network = {.name = "kiln", .model = k.file};
    nsk_on_board *board = nsk_on_board_open("sim", &network, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(board);
    nsk_trial *t = nsk_trial_run(board, k.file, k.held_out, 20, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(t);
    CU_ASSERT_EQUAL(t->frames, 20);
    CU_ASSERT_EQUAL(t->differ, 0);
    CU_ASSERT(t->total[1] > 0.0 && !t->broken && t->repeated == 0);
    CU_ASSERT_EQUAL(nsk_on_board_self(board)->kinds, (1U << NSK_KINDS) - 2U);
    nsk_trial_free(t);
    nsk_on_board_close(board);
    kiln_free(&k);
}

/* One byte of 1000 is changed, lost or doubled, on the way there and back. */
static void a_noisy_line_never_lies(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln_load(&k, 6);
    far_board f = sound_board(&k);
    f.bad_of_1000 = 1;
    nsk_trial *t = try_board(&f, &k, 8, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(t);
    CU_ASSERT_EQUAL(t->frames, 8);
    CU_ASSERT_EQUAL(t->differ, 0);
    CU_ASSERT(t->repeated > 20);
    CU_ASSERT_EQUAL(t->deepest, 100.0);
    nsk_trial_free(t);
    kiln_free(&k);
}

/* A byte of a layer's output is another there: found, with its place and both levels. */
static void a_wrong_byte_is_found(void) {
    static const int wrong[][2] = {{0, 0}, {4, 1234}, {9, 77}, {12, 3}};
    nsk_error error = {.text = ""};
    kiln k;
    nsk_model model;
    kiln_load(&k, 6);
    nsk_open(&model, k.file->bytes, k.file->size);
    for (size_t i = 0; i < G_N_ELEMENTS(wrong); i++) {
        const nsk_tensor out =
            nsk_tensor_at(&model, nsk_layer_output(&model, (unsigned)wrong[i][0]));
        far_board f = sound_board(&k);
        f.wrong_layer = wrong[i][0];
        f.wrong_byte = wrong[i][1];
        nsk_trial *t = try_board(&f, &k, 3, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(t);
        CU_ASSERT(t->differ > 0);
        CU_ASSERT_EQUAL(t->difference.layer, wrong[i][0]);
        CU_ASSERT_EQUAL((t->difference.row * out.width + t->difference.column) * out.channels +
                            t->difference.channel,
                        wrong[i][1] / out.element);
        CU_ASSERT(out.element != 1 || (t->difference.has_level &&
                                       (t->difference.levels[0] ^ t->difference.levels[1]) == 1));
        CU_ASSERT_NOT_EQUAL(t->difference.scores[0], t->difference.scores[1]);
        nsk_trial_free(t);
    }
    kiln_free(&k);
}

/* A comparison on a board is this machine's, but for what the board does wrongly. */
static void a_comparison_runs_there(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln_load(&k, 6);
    nsk_comparison *here = nsk_compare(k.network, k.file, k.held_out, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(here);
    for (int wrong = 0; wrong < 2; wrong++) {
        long frames = 0;
        long differ = 0;
        char *first = NULL;
        far_board f = sound_board(&k);
        f.wrong_layer = wrong == 1 ? 11 : -1;
        char *name = begin(&f);
        nsk_on_board *board = nsk_on_board_open(name, NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(board);
        CU_ASSERT(nsk_on_board_take(board, k.file, &error));
        nsk_comparison *there = nsk_compare(k.network, k.file, k.held_out, NULL, NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(there);
        nsk_on_board_taken(board, &frames, &differ, &first);
        CU_ASSERT_EQUAL(frames, here->images);
        CU_ASSERT_EQUAL(there->integer_correct == here->integer_correct &&
                            fabs(there->apart - here->apart) < 1e-12,
                        wrong == 0);
        CU_ASSERT_EQUAL(differ > 0, wrong == 1);
        CU_ASSERT(wrong == 0 || strstr(first, "it begins in layer 'globalaveragepool11', row 0, "
                                              "column 0, channel 0: level ") != NULL);
        nsk_string_free(first);
        nsk_comparison_free(there);
        nsk_on_board_close(board);
        end(&f, name);
        k.file->elsewhere = NULL;
    }
    nsk_comparison_free(here);
    kiln_free(&k);
}

static void a_pulled_cable_keeps_what_was_measured(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln_load(&k, 6);
    far_board f = sound_board(&k);
    f.cut_after = 40000;
    nsk_trial *t = try_board(&f, &k, 50, &error);
    assert_error(&error, "the link ended: the board's side was closed");
    CU_ASSERT_PTR_NOT_NULL_FATAL(t);
    CU_ASSERT(t->broken && t->frames > 2 && t->frames < 10);
    CU_ASSERT(t->total[1] > 0.0 && t->differ == 0);
    nsk_trial_free(t);
    kiln_free(&k);
}

/* In the middle of a frame: it is begun once more. */
static void a_board_that_starts_anew_goes_on(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln_load(&k, 6);
    for (int after = 2; after < 12; after += 3) {
        far_board f = sound_board(&k);
        f.anew_after = after;
        nsk_trial *t = try_board(&f, &k, 3, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(t);
        CU_ASSERT(t->frames == 3 && t->differ == 0);
        nsk_trial_free(t);
    }
    kiln_free(&k);
}

/* Times could not be told of it. */
static void a_board_whose_time_stands_still(void) {
    static const struct {
        uint32_t tick, clock;
        const char *said;
    } boards[] = {{0, 80000000, "its timer stands still: set tick_hertz"},
                  {1000000, 0, "its clock stands still: set clock_hertz"}};
    kiln k;
    kiln_load(&k, 6);
    for (size_t i = 0; i < G_N_ELEMENTS(boards); i++) {
        nsk_error error = {.text = ""};
        far_board f = sound_board(&k);
        f.tick = boards[i].tick;
        f.clock = boards[i].clock;
        CU_ASSERT_PTR_NULL(try_board(&f, &k, 3, &error));
        assert_error(&error, boards[i].said);
    }
    kiln_free(&k);
}

static void another_model_is_not_judged(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln other;
    kiln_load(&k, 6);
    kiln_load(&other, 8);
    far_board f = sound_board(&other);
    CU_ASSERT_PTR_NULL(try_board(&f, &k, 3, &error));
    assert_error(&error, "runs another model");
    kiln_free(&other);
    kiln_free(&k);
}

/* Over a noisy line, with a board that starts anew in the middle: the model is written, tried, and
 * starts once it is kept; what it cannot take is refused. */
static void another_model_is_given(void) {
    nsk_error other_error;
    kiln k;
    kiln other;
    kiln_load(&k, 6);
    kiln_load(&other, 8);
    for (int fits = 0; fits < 2; fits++) {
        nsk_error error = {.text = ""};
        far_board f = sound_board(&other);
        f.bad_of_1000 = 1;
        f.anew_after = 12;
        give_slots(&f, fits ? 65536 : 32768);
        char *name = begin(&f);
        nsk_on_board *board = nsk_on_board_open(name, NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(board);
        const nsk_board_self *self = nsk_on_board_self(board);
        CU_ASSERT_EQUAL(self->slot_bytes, f.slots.bytes - NSK_SLOT_HEAD);
        CU_ASSERT(!nsk_on_board_runs(board, k.file, &other_error));
        CU_ASSERT_EQUAL(nsk_on_board_give(board, k.file, NULL, NULL, &error), fits == 1);
        assert_error(&error, fits ? "" : "and a slot of the board takes 32736");
        if (fits) {
            CU_ASSERT(self->starts == NSK_SLOTS && self->runs == 0);
            nsk_trial *t = nsk_trial_run(board, k.file, k.held_out, 2, NULL, NULL, &error);
            CU_ASSERT_FATAL(t != NULL && t->frames == 2 && t->differ == 0);
            nsk_trial_free(t);
            CU_ASSERT(nsk_on_board_back(board, &error));
            CU_ASSERT(nsk_on_board_runs(board, other.file, &error));
            CU_ASSERT(nsk_on_board_give(board, k.file, NULL, NULL, &error));
            CU_ASSERT(nsk_on_board_keep(board, &error));
            CU_ASSERT(self->starts == 0 && nsk_on_board_runs(board, k.file, &error));
        }
        nsk_on_board_close(board);
        end(&f, name);
    }
    kiln_free(&other);
    kiln_free(&k);
}

/* Its own pictures: scores and pixels are what the host has of the same ones. */
static void a_camera_is_looked_through(void) {
    nsk_error error = {.text = ""};
    kiln k;
    nsk_model model;
    kiln_load(&k, 6);
    nsk_open(&model, k.file->bytes, k.file->size);
    const size_t bytes = nsk_images_frame_bytes(k.held_out);
    uint8_t *picture = g_malloc(bytes);
    uint8_t *frame = g_malloc(bytes);
    void *workspace = g_malloc(model.workspace_bytes);
    int32_t *scores = g_new(int32_t, model.classes);
    far_board f = sound_board(&k);
    f.bad_of_1000 = 1;
    give_camera(&f, k.held_out);
    char *name = begin(&f);
    nsk_on_board *board = nsk_on_board_open(name, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(board);
    CU_ASSERT(nsk_on_board_self(board)->keeps_picture);
    const nsk_rule rule = {.threshold = 0, .frames = 2, .resting = UINT16_MAX};
    CU_ASSERT(nsk_on_board_rule(board, &rule, model.classes, &error));
    for (int i = 0; i < 3; i++) {
        nsk_look look;
        CU_ASSERT_FATAL(nsk_on_board_look(board, &model, &look, scores, picture, &error));
        nsk_images_frame(k.held_out, i, frame, &error);
        nsk_prepare(&model, frame, (size_t)model.width * model.channels, workspace);
        nsk_run(&model, workspace, NULL);
        const int32_t *here = nsk_scores(&model, workspace);
        CU_ASSERT(memcmp(here, scores, model.classes * sizeof *scores) == 0);
        CU_ASSERT(memcmp(frame, picture, bytes) == 0);
        CU_ASSERT_EQUAL(look.line, (int)nsk_best(&model, here));
        /* all three are of one class: on the second the line comes up */
        CU_ASSERT_EQUAL(look.decided, i == 1 ? look.line : NSK_NOTHING);
        CU_ASSERT_EQUAL(look.standing, i == 0 ? NSK_NOTHING : look.line);
        CU_ASSERT(look.ticks > 0.0);
    }
    nsk_on_board_close(board);
    end(&f, name);
    g_free(scores);
    g_free(workspace);
    g_free(frame);
    g_free(picture);
    kiln_free(&k);
}

/* A pseudo-terminal stands for a serial line. */
static void a_terminal_carries_it(void) {
    nsk_error error = {.text = ""};
    kiln k;
    kiln_load(&k, 6);
    far_board f = sound_board(&k);
    f.line = posix_openpt(O_RDWR | O_NOCTTY);
    CU_ASSERT_FATAL(f.line >= 0 && grantpt(f.line) == 0 && unlockpt(f.line) == 0);
    char *name = g_strconcat(ptsname(f.line), "@921600", NULL);
    start_board(&f);
    f.thread = g_thread_new("board", serve, &f);
    nsk_on_board *board = nsk_on_board_open(name, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(board);
    nsk_trial *t = nsk_trial_run(board, k.file, k.held_out, 5, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(t);
    CU_ASSERT(t->frames == 5 && t->differ == 0);
    nsk_trial_free(t);
    nsk_on_board_close(board);
    end(&f, name);
    kiln_free(&k);
}

static void names_that_are_no_links(void) {
    static const char *const names[][2] = {
        {"cortex-m4", "'cortex-m4' is no link"},
        {"tcp:127.0.0.1", "say host and port"},
        {"tcp:127.0.0.1:1", "tcp:127.0.0.1:1: "},
        {"/dev/nowhere@115200", "/dev/nowhere: no serial line of that name is here"},
        {"/dev/ttyS99@fast", "behind the @ stands the line's speed"},
        {"/dev/pts/4711", "/dev/pts/4711: No such file or directory"}};
    for (size_t i = 0; i < G_N_ELEMENTS(names); i++) {
        nsk_error error = {.text = ""};
        CU_ASSERT_PTR_NULL(nsk_on_board_open(names[i][0], NULL, &error));
        assert_error(&error, names[i][1]);
    }
}

/* ---- messages by themselves ---- */

typedef struct mailbox {
    GByteArray *to, *from; /* the board */
} mailbox;

static size_t mailbox_receive(void *context, uint8_t *to, size_t most) {
    GByteArray *bytes = ((mailbox *)context)->to;
    const guint count = MIN((guint)most, bytes->len);
    memcpy(to, bytes->data, count);
    g_byte_array_remove_range(bytes, 0, count);
    return count;
}

static bool mailbox_send(void *context, const uint8_t *bytes, size_t count) {
    g_byte_array_append(((mailbox *)context)->from, bytes, (guint)count);
    return true;
}

static uint32_t no_ticks(void *context) {
    (void)context;
    return 0;
}

/* A message given in hexadecimal. */
static void post(mailbox *box, const char *hexadecimal) {
    uint8_t bytes[256];
    size_t count = 0;
    for (const char *at = hexadecimal; *at != '\0'; at += 2) {
        bytes[count++] = (uint8_t)(g_ascii_xdigit_value(at[0]) * 16 + g_ascii_xdigit_value(at[1]));
    }
    GByteArray *frame = nsk_message_frame(bytes, count);
    g_byte_array_append(box->to, frame->data, frame->len);
    g_byte_array_unref(frame);
}

/* What a message is, and how it is answered: -1, not at all. */
static const struct {
    const char *what, *hexadecimal;
    int answer;
} messages[] = {
    {"who", "a200010107", NSK_LINK_DONE},
    {"keys the other way round", "a201070001", NSK_LINK_DONE},
    {"keys and kinds of values that are not known",
     "a5000101071903e8f561618203041863d9d9f7a101fb3ff0000000000000", NSK_LINK_DONE},
    {"a request that is not known", "a20018630107", NSK_LINK_NOT_KNOWN},
    {"request 0", "a200000107", NSK_LINK_NOT_KNOWN},
    {"a number of 64 bits", "a2001b00000001000000010107", NSK_LINK_NOT_KNOWN},
    {"no number", "a10001", -1},
    {"no map", "820107", -1},
    {"an empty one", "a0", -1},
    {"a cut one", "a300010107", -1},
    {"more behind it", "a200010107ff", -1},
    {"a map without its length", "bf00010107ff", -1},
    {"a list of two thousand million", "a3000101070a9a7fffffff", -1},
    {"lists in lists", "a3000101070a818181818181818181818181818101", NSK_LINK_DONE},
    {"rows without pixels", "a40002010703010400", NSK_LINK_UNFIT},
    {"less than a row", "a50002010703010400054401020304", NSK_LINK_UNFIT},
    {"scores of a frame that was not run", "a400030107031909ff0810", NSK_LINK_NOT_THERE},
    {"its layers", "a400040107031909ff0810", NSK_LINK_NOT_THERE},
};

static void messages_are_answered_or_left(void) {
    kiln k;
    mailbox box = {g_byte_array_new(), g_byte_array_new()};
    nsk_link link;
    nsk_model model;
    kiln_load(&k, 6);
    nsk_open(&model, k.file->bytes, k.file->size);
    const nsk_link_port port = {.context = &box,
                                .receive = mailbox_receive,
                                .send = mailbox_send,
                                .ticks = no_ticks,
                                .tick_hertz = 1,
                                .core = "any",
                                .clock_hertz = 1};
    const size_t bytes = nsk_link_bytes(&port, &model);
    uint32_t *memory = g_malloc(bytes);
    CU_ASSERT_EQUAL(nsk_link_set(&link, &port, k.file->bytes, k.file->size, memory, bytes - 1),
                    NSK_STATUS_NO_MEMORY);
    CU_ASSERT_EQUAL(nsk_link_set(&link, &port, k.file->bytes, k.file->size - 1, memory, bytes),
                    NSK_STATUS_TRUNCATED);
    CU_ASSERT_EQUAL_FATAL(nsk_link_set(&link, &port, k.file->bytes, k.file->size, memory, bytes),
                          NSK_STATUS_OK);
    for (size_t i = 0; i < G_N_ELEMENTS(messages); i++) {
        uint8_t room[512];
        nsk_link_inbox inbox = {.bytes = room, .room = sizeof room};
        nsk_wire_map map;
        int answer = -1;
        g_byte_array_set_size(box.from, 0);
        post(&box, messages[i].hexadecimal);
        nsk_link_poll(&link);
        for (guint at = 0; at < box.from->len; at++) {
            if (nsk_wire_take(&inbox, box.from->data[at])) {
                CU_ASSERT(nsk_wire_read(&map, inbox.bytes, inbox.count));
                answer = (int)map.number[NSK_KEY_ANSWER];
            }
        }
        if (answer != messages[i].answer) {
            printf("\n    %s: %d, not %d\n", messages[i].what, answer, messages[i].answer);
        }
        CU_ASSERT_EQUAL(answer, messages[i].answer);
    }
    g_free(memory);
    g_byte_array_unref(box.to);
    g_byte_array_unref(box.from);
    kiln_free(&k);
}

CU_TestInfo link_tests[] = {
    {"a board in this process agrees", a_board_here_agrees},
    {"a noisy line never lies", a_noisy_line_never_lies},
    {"a wrong byte is found", a_wrong_byte_is_found},
    {"a comparison runs there", a_comparison_runs_there},
    {"a pulled cable keeps what was measured", a_pulled_cable_keeps_what_was_measured},
    {"a board that starts anew goes on", a_board_that_starts_anew_goes_on},
    {"a board whose time stands still", a_board_whose_time_stands_still},
    {"another model is not judged", another_model_is_not_judged},
    {"another model is given", another_model_is_given},
    {"a camera is looked through", a_camera_is_looked_through},
    {"a terminal carries it", a_terminal_carries_it},
    {"names that are no links", names_that_are_no_links},
    {"messages are answered or left", messages_are_answered_or_left},
    CU_TEST_INFO_NULL,
};
