/* Through a board's own camera. */
#include "link/board.h"

#include <string.h>

/* ---- its rule ---- */

static void append_number(GByteArray *bytes, uint32_t number, unsigned count) {
    for (unsigned i = 0; i < count; i++) {
        const uint8_t byte = (uint8_t)(number >> 8 * i);
        g_byte_array_append(bytes, &byte, 1);
    }
}

bool nsk_on_board_rule(nsk_on_board *board, const nsk_rule *rule, int classes, nsk_error *error) {
    GByteArray *bytes = g_byte_array_new();
    nsk_request request = nsk_line_request(&board->line, NSK_LINK_RULE);
    append_number(bytes, rule->threshold, 4);
    append_number(bytes, rule->margin, 4);
    append_number(bytes, rule->frames, 1);
    append_number(bytes, rule->window, 1);
    append_number(bytes, rule->hold_off, 1);
    append_number(bytes, rule->line_of != NULL ? rule->line_count : 0, 1);
    append_number(bytes, rule->resting, 2);
    for (int c = 0; c < classes && rule->line_of != NULL; c++) {
        append_number(bytes, rule->line_of[c], 1);
    }
    for (int c = 0; c < classes && rule->thresholds != NULL; c++) {
        append_number(bytes, rule->thresholds[c], 4);
    }
    nsk_request_add_bytes(&request, NSK_KEY_DATA, bytes->data, bytes->len);
    g_byte_array_unref(bytes);
    return nsk_board_tell(board, NSK_LINK_RULE, &request, error);
}

/* ---- a picture ---- */

static bool read_look(const cbor_item_t *answer, nsk_look *look, nsk_error *error) {
    uint32_t came = 0;
    uint32_t line = 0;
    uint32_t decided = 0;
    uint32_t standing = 0;
    uint32_t ticks = 0;
    const bool good = nsk_answer_number(answer, NSK_KEY_CAME, &came) &&
                      nsk_answer_number(answer, NSK_KEY_LINE, &line) &&
                      nsk_answer_number(answer, NSK_KEY_DECIDED, &decided) &&
                      nsk_answer_number(answer, NSK_KEY_STANDING, &standing) &&
                      nsk_answer_number(answer, NSK_KEY_TICKS, &ticks) && came <= NSK_ROW_END &&
                      line <= UINT16_MAX + 2U && decided <= UINT16_MAX + 2U &&
                      standing <= UINT16_MAX + 2U;
    *look = (nsk_look){(nsk_row)came, (int)line + NSK_UNSURE, (int)decided + NSK_UNSURE,
                       (int)standing + NSK_UNSURE, ticks};
    return good || nsk_fail(error, "the board does not say all that belongs to a picture");
}

static bool ask_look(nsk_on_board *b, nsk_look *look, nsk_error *error) {
    nsk_request request = nsk_line_request(&b->line, NSK_LINK_LOOK);
    nsk_request_add(&request, NSK_KEY_FRAME, ++b->frame);
    cbor_item_t *answer = nsk_line_ask(&b->line, NSK_LINK_LOOK, NSK_LINK_LOOK, &request, 0, error);
    const bool good = answer != NULL && read_look(answer, look, error);
    if (answer != NULL) {
        cbor_decref(&answer);
    }
    return good;
}

/* A part of the picture, from `from` on, which grows by what came: nothing, where it was lost. */
static bool take_part(nsk_on_board *b, uint32_t all, uint32_t *from, uint8_t *picture,
                      nsk_error *error) {
    const uint32_t most = MIN(nsk_line_payload(&b->line, 1, NSK_LINE_CHUNK), all - *from);
    nsk_request request = nsk_line_request(&b->line, NSK_LINK_PICTURE);
    nsk_request_add(&request, NSK_KEY_FRAME, b->frame);
    nsk_request_add(&request, NSK_KEY_FROM, *from);
    nsk_request_add(&request, NSK_KEY_MOST, most);
    cbor_item_t *answer =
        nsk_line_ask(&b->line, NSK_LINK_PICTURE, NSK_LINK_PICTURE, &request, most, error);
    if (answer == NULL) {
        return b->line.lost;
    }
    size_t count;
    const uint8_t *bytes = nsk_answer_bytes(answer, NSK_KEY_DATA, &count);
    const bool good = bytes != NULL && count > 0 && count <= most;
    if (good) {
        memcpy(picture + *from, bytes, count);
        *from += (uint32_t)count;
    }
    cbor_decref(&answer);
    return good || nsk_fail(error, "the board has another picture than it says");
}

static bool take_picture(nsk_on_board *b, uint32_t channels, uint8_t *picture, nsk_error *error) {
    const uint32_t all = b->self.camera_width * b->self.camera_height * channels;
    bool good = true;
    for (uint32_t from = 0; from < all && good;) {
        good = take_part(b, all, &from, picture, error);
    }
    return good;
}

bool nsk_on_board_look(nsk_on_board *board, const nsk_model *model, nsk_look *look, int32_t *scores,
                       uint8_t *picture, nsk_error *error) {
    if (board->self.camera_width == 0) {
        return nsk_fail(error, "the board has no camera of its own");
    }
    if (!ask_look(board, look, error)) {
        return false;
    }
    return look->came != NSK_ROW_THERE || (nsk_board_scores(board, model, scores, error) &&
                                           (picture == NULL || !board->self.keeps_picture ||
                                            take_picture(board, model->channels, picture, error)));
}
