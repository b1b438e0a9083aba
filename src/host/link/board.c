/* The host's end of a link: asks, waits, asks again. */
#include "netsuke/on_board.h"

#include <string.h>

#include "link/message.h"
#include "link/stream.h"
#include "link/taken.h"

enum {
    PATIENCE = 20000, /* milliseconds without a sound answer: there is nobody */
    FIRST_WAIT = 500, /* until a request is sent again, before it is known how long answers take */
    LEAST_WAIT = 50,
    MOST_WAIT = 5000,
    AT_ONCE = 16, /* scores, or layers, in an answer */
    MOST_ROOM = 1 << 16,
    MOST_ANEW = 8 /* times that a board begins anew in one frame: else it has some other trouble */
};

struct nsk_on_board {
    nsk_stream stream;
    nsk_board_self self;
    nsk_link_inbox inbox;
    uint8_t room[MOST_ROOM];
    uint8_t came[4096]; /* and not looked at yet */
    int first, end;
    uint32_t number, frame;
    int wait[NSK_LINK_WHATS + 1]; /* milliseconds, by what is asked; behind them, to run a frame */
    uint32_t rows;                /* that go into a message; fewer where many are lost */
    int sound;                    /* messages with rows without a loss */
    bool lost_frame;              /* it has begun anew */
    long requests, repeated;
    nsk_taken taken;
};

/* ---- one answer ---- */

/* The next whole message, or NULL: none came in that time, or the link is gone (`error`). */
static cbor_item_t *next_message(nsk_on_board *b, int milliseconds, bool *gone, nsk_error *error) {
    const gint64 until = g_get_monotonic_time() + milliseconds * G_GINT64_CONSTANT(1000);
    for (;;) {
        while (b->first < b->end) {
            if (nsk_wire_take(&b->inbox, b->came[b->first++])) {
                cbor_item_t *answer = nsk_answer_read(b->inbox.bytes, b->inbox.count);
                if (answer != NULL) {
                    return answer;
                }
            }
        }
        const gint64 left = (until - g_get_monotonic_time()) / 1000;
        const int some = left < 0
                             ? 0
                             : b->stream.carrier->receive(b->stream.of, b->came,
                                                          (int)sizeof b->came, (int)left, error);
        b->first = 0;
        b->end = MAX(some, 0);
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
static cbor_item_t *await(nsk_on_board *b, nsk_link_what what, int milliseconds, bool *gone,
                          nsk_error *error) {
    const gint64 until = g_get_monotonic_time() + milliseconds * G_GINT64_CONSTANT(1000);
    for (;;) {
        const int left = (int)((until - g_get_monotonic_time()) / 1000);
        cbor_item_t *answer = next_message(b, MAX(left, 0), gone, error);
        if (answer == NULL || is_answer_to(answer, what, b->number)) {
            return answer;
        }
        cbor_decref(&answer);
    }
}

static int usual_wait(const nsk_on_board *b, int kind) {
    return b->wait[kind] > 0 ? CLAMP(b->wait[kind], LEAST_WAIT, MOST_WAIT) : FIRST_WAIT;
}

/* Four times what the slowest answer of late has taken. */
static void learn(nsk_on_board *b, int kind, gint64 microseconds) {
    const int now = (int)(microseconds / 250) + 1;
    b->wait[kind] = MAX(now, b->wait[kind] - b->wait[kind] / 8);
}

static bool refused(nsk_on_board *b, const cbor_item_t *answer, nsk_error *error) {
    static const char *const reasons[] = {[NSK_LINK_DONE] = "",
                                          [NSK_LINK_NOT_KNOWN] = "it does not know this request",
                                          [NSK_LINK_UNFIT] = "the frame is not of its model's size",
                                          [NSK_LINK_NOT_THERE] = "the frame is not there any more"};
    uint32_t why = NSK_LINK_NOT_KNOWN;
    nsk_answer_number(answer, NSK_KEY_ANSWER, &why);
    if (why == NSK_LINK_DONE) {
        return false;
    }
    b->lost_frame = why == NSK_LINK_NOT_THERE;
    nsk_fail(error, "the board refused: %s",
             why < G_N_ELEMENTS(reasons) ? reasons[why] : "a reason that is not known here");
    return true;
}

/* Sends the request until its answer comes; takes it over. `kind`: in b->wait. `losses` counts
 * those that had none. NULL and `error` where nothing comes, or it is refused. */
static cbor_item_t *ask(nsk_on_board *b, nsk_link_what what, int kind, nsk_request *request,
                        int *losses, nsk_error *error) {
    GByteArray *frame = nsk_request_frame(request);
    cbor_item_t *answer = NULL;
    bool gone = false;
    int wait = usual_wait(b, kind);
    for (int waited = 0; answer == NULL && !gone && waited < PATIENCE;
         wait = MIN(2 * wait, MOST_WAIT)) {
        const gint64 start = g_get_monotonic_time();
        gone = !b->stream.carrier->send(b->stream.of, frame->data, frame->len, error);
        answer = gone ? NULL : await(b, what, wait, &gone, error);
        waited += wait;
        b->requests++;
        if (answer != NULL) {
            learn(b, kind, g_get_monotonic_time() - start);
        } else if (!gone) {
            b->repeated++;
            *losses += 1;
        }
    }
    g_byte_array_unref(frame);
    if (answer == NULL && !gone) {
        nsk_fail_system(error,
                        "the board has not answered for %d seconds: is it on, and at this speed?",
                        PATIENCE / 1000);
    }
    if (answer != NULL && refused(b, answer, error)) {
        cbor_decref(&answer);
    }
    return answer;
}

static nsk_request begin(nsk_on_board *b, nsk_link_what what) {
    return nsk_request_new(what, ++b->number);
}

/* ---- who is there ---- */

static bool read_self(const cbor_item_t *answer, nsk_board_self *self, nsk_error *error) {
    uint32_t clock = 0;
    uint32_t tick = 0;
    uint32_t memory = 0;
    uint32_t stack = 0;
    uint32_t model = 0;
    uint32_t workspace = 0;
    const struct {
        nsk_link_key key;
        uint32_t *number;
    } fields[] = {{NSK_KEY_VERSION, &self->version},
                  {NSK_KEY_CLOCK, &clock},
                  {NSK_KEY_TICK, &tick},
                  {NSK_KEY_KINDS, &self->kinds},
                  {NSK_KEY_MEMORY, &memory},
                  {NSK_KEY_LONGEST, &self->longest},
                  {NSK_KEY_MEASURES_STACK, &stack},
                  {NSK_KEY_CHECKSUM, &self->checksum},
                  {NSK_KEY_MODEL_BYTES, &model},
                  {NSK_KEY_WORKSPACE, &workspace}};
    for (size_t i = 0; i < G_N_ELEMENTS(fields); i++) {
        if (!nsk_answer_number(answer, fields[i].key, fields[i].number)) {
            return nsk_fail(error, "the board does not say all that belongs to who it is (key %d)",
                            (int)fields[i].key);
        }
    }
    nsk_answer_text(answer, NSK_KEY_CORE, self->core, sizeof self->core);
    self->clock = clock;
    self->tick = tick;
    self->memory = memory;
    self->measures_stack = stack != 0;
    self->model_bytes = model;
    self->workspace_bytes = workspace;
    return (tick > 0 && clock > 0) ||
           nsk_fail(error, "the board says that its %s stands still: set %s in its nsk_link_port",
                    tick == 0 ? "timer" : "clock", tick == 0 ? "tick_hertz" : "clock_hertz");
}

static bool meet(nsk_on_board *b, nsk_error *error) {
    nsk_request request = begin(b, NSK_LINK_WHO);
    int losses = 0;
    cbor_item_t *answer = ask(b, NSK_LINK_WHO, NSK_LINK_WHO, &request, &losses, error);
    const bool good = answer != NULL && read_self(answer, &b->self, error);
    if (answer != NULL) {
        cbor_decref(&answer);
    }
    return good;
}

static bool open_stream(nsk_stream *stream, const char *link, const nsk_handed_network *network,
                        nsk_error *error) {
    if (g_str_has_prefix(link, "tcp:")) {
        return nsk_stream_tcp(stream, link + strlen("tcp:"), error);
    }
    if (g_str_has_prefix(link, "emulate:")) {
        return nsk_stream_emulated(stream, link + strlen("emulate:"), network, error);
    }
    if (strcmp(link, "sim") == 0) {
        return nsk_stream_here(stream, network->model, error);
    }
    if (link[0] == '/') {
        return nsk_stream_serial(stream, link, error);
    }
    return nsk_fail(error,
                    "'%s' is no link: say /dev/ttyACM0@921600, tcp:HOST:PORT, emulate:cortex-m4 or "
                    "sim",
                    link);
}

nsk_on_board *nsk_on_board_open(const char *link, const nsk_handed_network *network,
                                nsk_error *error) {
    nsk_on_board *b = g_new0(nsk_on_board, 1);
    b->inbox.bytes = b->room;
    b->inbox.room = sizeof b->room;
    /* so that an answer to somebody who asked before is not taken for ours */
    b->number = g_random_int() >> 1;
    b->frame = g_random_int();
    b->rows = UINT32_MAX;
    if (!open_stream(&b->stream, link, network, error) || !meet(b, error)) {
        nsk_on_board_close(b);
        return NULL;
    }
    return b;
}

void nsk_on_board_close(nsk_on_board *board) {
    if (board != NULL) {
        nsk_stream_close(&board->stream);
        nsk_taken_clear(&board->taken);
        g_free(board);
    }
}

nsk_taken *nsk_on_board_taking(nsk_on_board *board) {
    return &board->taken;
}

void nsk_taken_clear(nsk_taken *taken) {
    g_free(taken->said);
    g_free(taken->first);
    *taken = (nsk_taken){0};
}

const nsk_board_self *nsk_on_board_self(const nsk_on_board *board) {
    return &board->self;
}

void nsk_on_board_counts(const nsk_on_board *board, long *requests, long *repeated) {
    *requests = board->requests;
    *repeated = board->repeated;
}

bool nsk_on_board_runs(const nsk_on_board *board, const nsk_model_file *model, nsk_error *error) {
    nsk_model opened;
    nsk_model_file *ordered = nsk_model_file_for_core(model, board->self.core);
    const nsk_status status = nsk_open(&opened, ordered->bytes, ordered->size);
    const bool same = status == NSK_STATUS_OK && opened.checksum == board->self.checksum;
    nsk_model_file_free(ordered);
    return same || nsk_fail(error,
                            "the board (%s) runs another model: its checksum is %08x, this one's "
                            "%08x; hand this one over for that core, and flash it",
                            board->self.core, board->self.checksum, opened.checksum);
}

/* ---- a frame ---- */

static uint32_t rows_at_once(const nsk_on_board *b, uint32_t row_bytes) {
    enum { AROUND = 48 }; /* bytes of a request that are no pixels */
    const uint32_t most = b->self.longest > AROUND ? (b->self.longest - AROUND) / row_bytes : 0;
    return CLAMP(b->rows, 1U, MAX(most, 1U));
}

/* Half as many at a time where one was lost, twice as many after eight that were not. */
static void adapt(nsk_on_board *b, uint32_t rows, int losses) {
    b->sound = losses > 0 ? 0 : b->sound + 1;
    if (losses > 0) {
        b->rows = MAX(rows / 2U, 1U);
    } else if (b->sound % 8 == 0 && b->rows < UINT32_MAX / 2U) {
        b->rows *= 2U;
    }
}

/* Some rows from `row` on; which one the board wants next. */
static bool send_rows(nsk_on_board *b, const nsk_model *model, const uint8_t *frame, uint32_t sums,
                      uint32_t *row, nsk_error *error) {
    const uint32_t bytes = (uint32_t)model->width * model->channels;
    const uint32_t count = MIN(rows_at_once(b, bytes), model->height - *row);
    const bool last = *row + count == model->height;
    nsk_request request = begin(b, NSK_LINK_ROWS);
    int losses = 0;
    nsk_request_add(&request, NSK_KEY_FRAME, b->frame);
    nsk_request_add(&request, NSK_KEY_ROW, *row);
    nsk_request_add(&request, NSK_KEY_SUMS, sums);
    nsk_request_add_bytes(&request, NSK_KEY_PIXELS, frame + (size_t)*row * bytes,
                          (size_t)count * bytes);
    cbor_item_t *answer =
        ask(b, NSK_LINK_ROWS, last ? NSK_LINK_WHATS : NSK_LINK_ROWS, &request, &losses, error);
    if (answer == NULL) {
        return false;
    }
    const bool good = nsk_answer_number(answer, NSK_KEY_ROW, row) && *row <= model->height;
    cbor_decref(&answer);
    adapt(b, count, losses);
    return good || nsk_fail(error, "the board asks for a row that its frame does not have");
}

/* Asks for a part of a list; NULL and `error` where it does not come. */
static cbor_item_t *ask_part(nsk_on_board *b, nsk_link_what what, uint32_t from, nsk_error *error) {
    nsk_request request = begin(b, what);
    int losses = 0;
    nsk_request_add(&request, NSK_KEY_FRAME, b->frame);
    nsk_request_add(&request, NSK_KEY_FROM, from);
    nsk_request_add(&request, NSK_KEY_MOST, AT_ONCE);
    return ask(b, what, (int)what, &request, &losses, error);
}

static bool take_scores(nsk_on_board *b, const nsk_model *model, int32_t *scores,
                        nsk_error *error) {
    for (uint32_t from = 0; from < model->classes; from += AT_ONCE) {
        cbor_item_t *answer = ask_part(b, NSK_LINK_SCORES, from, error);
        if (answer == NULL) {
            return false;
        }
        const cbor_item_t *list = nsk_answer_list(answer, NSK_KEY_SCORES);
        bool good = list != NULL;
        for (uint32_t i = from; i < MIN(from + AT_ONCE, model->classes) && good; i++) {
            uint32_t score = 0;
            good = nsk_answer_element(list, i - from, &score) && score <= NSK_CERTAIN;
            scores[i] = (int32_t)score;
        }
        cbor_decref(&answer);
        if (!good) {
            return nsk_fail(error,
                            "the board's answer has fewer scores than its model has classes, or "
                            "one that is no probability");
        }
    }
    return true;
}

static bool take_figures(const cbor_item_t *list, nsk_link_layer *of) {
    return list != NULL && cbor_isa_array(list) && nsk_answer_element(list, 0, &of->ticks) &&
           nsk_answer_element(list, 1, &of->stack) && nsk_answer_element(list, 2, &of->sum);
}

static bool take_layers(nsk_on_board *b, const nsk_model *model, nsk_link_layer *layers,
                        nsk_error *error) {
    for (uint32_t from = 0; from < model->layers; from += AT_ONCE) {
        cbor_item_t *answer = ask_part(b, NSK_LINK_LAYERS, from, error);
        if (answer == NULL) {
            return false;
        }
        const cbor_item_t *list = nsk_answer_list(answer, NSK_KEY_LAYERS);
        const uint32_t end = MIN(from + AT_ONCE, model->layers);
        bool good = list != NULL && cbor_array_size(list) >= end - from &&
                    take_figures(nsk_answer_list(answer, NSK_KEY_PREPARE), &layers[model->layers]);
        for (uint32_t i = from; i < end && good; i++) {
            good = take_figures(cbor_array_handle(list)[i - from], &layers[i]);
        }
        cbor_decref(&answer);
        if (!good) {
            return nsk_fail(error, "the board's answer has fewer layers than its model");
        }
    }
    return true;
}

/* All rows; false where the link is gone, or the board begins anew all the time. */
static bool send_frame(nsk_on_board *b, const nsk_model *model, const uint8_t *frame, uint32_t sums,
                       int *anew, nsk_error *error) {
    for (uint32_t row = 0; row < model->height;) {
        const uint32_t before = row;
        if (!send_rows(b, model, frame, sums, &row, error)) {
            return false;
        }
        if (row <= before && ++*anew > MOST_ANEW) {
            return nsk_fail_system(error, "the board loses frames before they are whole: does it "
                                          "start anew?");
        }
    }
    return true;
}

bool nsk_on_board_run(nsk_on_board *board, const nsk_model *model, const uint8_t *frame,
                      uint32_t sums, int32_t *scores, nsk_link_layer *layers, nsk_error *error) {
    bool good = false;
    int anew = 0;
    do {
        board->frame++;
        board->lost_frame = false;
        good = send_frame(board, model, frame, sums, &anew, error) &&
               take_scores(board, model, scores, error) &&
               (layers == NULL || take_layers(board, model, layers, error));
    } while (!good && board->lost_frame && ++anew <= MOST_ANEW);
    return good;
}
