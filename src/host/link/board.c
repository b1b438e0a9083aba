/* A board at the other end of a link: who it is, and frames run on it. */
#include "link/board.h"

#include <string.h>

enum {
    AT_ONCE = 16, /* scores, or layers, in an answer */
    MOST_ANEW = 8 /* times that a board begins anew in one frame: else it has some other trouble */
};

/* ---- who is there ---- */

static bool read_self(const cbor_item_t *answer, nsk_board_self *self, nsk_error *error) {
    uint32_t clock = 0;
    uint32_t tick = 0;
    uint32_t memory = 0;
    uint32_t stack = 0;
    uint32_t model = 0;
    uint32_t workspace = 0;
    uint32_t keeps = 0;
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
    /* these came later: without them there is none */
    nsk_answer_number(answer, NSK_KEY_SLOT_BYTES, &self->slot_bytes);
    nsk_answer_number(answer, NSK_KEY_STARTS, &self->starts);
    nsk_answer_number(answer, NSK_KEY_RUNS, &self->runs);
    nsk_answer_number(answer, NSK_KEY_LINK_MEMORY, &self->link_memory);
    nsk_answer_number(answer, NSK_KEY_CAMERA_WIDTH, &self->camera_width);
    nsk_answer_number(answer, NSK_KEY_CAMERA_HEIGHT, &self->camera_height);
    nsk_answer_number(answer, NSK_KEY_KEEPS_PICTURE, &keeps);
    self->keeps_picture = keeps != 0;
    nsk_answer_text(answer, NSK_KEY_CORE, self->core, sizeof self->core);
    self->clock = clock;
    self->tick = tick;
    self->memory = memory;
    self->measures_stack = stack != 0;
    self->model_bytes = model;
    self->workspace_bytes = workspace;
    enum { MOST_SIDE = 4096 }; /* as nsk_scaler_set has it */
    if (self->camera_width > MOST_SIDE || self->camera_height > MOST_SIDE ||
        (self->camera_width == 0) != (self->camera_height == 0)) {
        return nsk_fail(error, "the board says that its camera has pictures of %u x %u",
                        self->camera_width, self->camera_height);
    }
    return (tick > 0 && clock > 0) ||
           nsk_fail(error, "the board says that its %s stands still: set %s in its nsk_link_port",
                    tick == 0 ? "timer" : "clock", tick == 0 ? "tick_hertz" : "clock_hertz");
}

bool nsk_board_meet(nsk_on_board *b, nsk_error *error) {
    nsk_request request = nsk_line_request(&b->line, NSK_LINK_WHO);
    cbor_item_t *answer = nsk_line_ask(&b->line, NSK_LINK_WHO, NSK_LINK_WHO, &request, 0, error);
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
    nsk_line_start(&b->line);
    b->frame = g_random_int();
    if (!open_stream(&b->line.stream, link, network, error) || !nsk_board_meet(b, error)) {
        nsk_on_board_close(b);
        return NULL;
    }
    return b;
}

void nsk_on_board_close(nsk_on_board *board) {
    if (board != NULL) {
        nsk_stream_close(&board->line.stream);
        nsk_taken_clear(&board->taken);
        nsk_kept_close(board->kept);
        g_free(board);
    }
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
    *requests = board->line.requests;
    *repeated = board->line.repeated;
}

bool nsk_board_tell(nsk_on_board *board, nsk_link_what what, nsk_request *request,
                    nsk_error *error) {
    cbor_item_t *answer = nsk_line_ask(&board->line, what, (int)what, request, 0, error);
    const bool good = answer != NULL;
    if (good) {
        cbor_decref(&answer);
    }
    return good;
}

bool nsk_on_board_runs(const nsk_on_board *board, const nsk_model_file *model, nsk_error *error) {
    nsk_model opened;
    nsk_model_file *ordered = nsk_model_file_for_core(model, board->self.core);
    const nsk_status status = nsk_open(&opened, ordered->bytes, ordered->size);
    const bool same = status == NSK_STATUS_OK && opened.checksum == board->self.checksum;
    nsk_model_file_free(ordered);
    return same ||
           nsk_fail(error,
                    "the board (%s) runs another model: its checksum is %08x, this one's "
                    "%08x; %s",
                    board->self.core, board->self.checksum, opened.checksum,
                    board->self.slot_bytes > 0 ? "'trial --renew' gives it this one"
                                               : "hand this one over for that core, and flash it");
}

/* ---- a frame ---- */

/* Some rows from `row` on; which one the board wants next: the same, where they were lost. */
static bool send_rows(nsk_on_board *b, const nsk_model *model, const uint8_t *frame, uint32_t sums,
                      uint32_t *row, nsk_error *error) {
    const uint32_t bytes = (uint32_t)model->width * model->channels;
    const uint32_t most = nsk_line_payload(&b->line, bytes, b->self.longest) / bytes;
    const uint32_t count = MIN(most, model->height - *row);
    const bool last = *row + count == model->height;
    nsk_request request = nsk_line_request(&b->line, NSK_LINK_ROWS);
    nsk_request_add(&request, NSK_KEY_FRAME, b->frame);
    nsk_request_add(&request, NSK_KEY_ROW, *row);
    nsk_request_add(&request, NSK_KEY_SUMS, sums);
    nsk_request_add_bytes(&request, NSK_KEY_DATA, frame + (size_t)*row * bytes,
                          (size_t)count * bytes);
    cbor_item_t *answer =
        nsk_line_ask(&b->line, NSK_LINK_ROWS, last ? NSK_LINK_WHATS : NSK_LINK_ROWS, &request,
                     (size_t)count * bytes, error);
    if (answer == NULL) {
        return b->line.lost;
    }
    const bool good = nsk_answer_number(answer, NSK_KEY_ROW, row) && *row <= model->height;
    cbor_decref(&answer);
    return good || nsk_fail(error, "the board asks for a row that its frame does not have");
}

/* Asks for a part of a list; NULL and `error` where it does not come. */
static cbor_item_t *ask_part(nsk_on_board *b, nsk_link_what what, uint32_t from, nsk_error *error) {
    nsk_request request = nsk_line_request(&b->line, what);
    nsk_request_add(&request, NSK_KEY_FRAME, b->frame);
    nsk_request_add(&request, NSK_KEY_FROM, from);
    nsk_request_add(&request, NSK_KEY_MOST, AT_ONCE);
    return nsk_line_ask(&b->line, what, (int)what, &request, 0, error);
}

bool nsk_board_scores(nsk_on_board *b, const nsk_model *model, int32_t *scores, nsk_error *error) {
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
        if (row <= before && !b->line.lost && ++*anew > MOST_ANEW) {
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
        board->line.not_there = false;
        good = send_frame(board, model, frame, sums, &anew, error) &&
               nsk_board_scores(board, model, scores, error) &&
               (layers == NULL || take_layers(board, model, layers, error));
    } while (!good && board->line.not_there && ++anew <= MOST_ANEW);
    return good;
}
