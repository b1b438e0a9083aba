/* Another model for a board: written into its spare slot, tried, kept. */
#include "estimate/cost_kind.h"
#include "link/board.h"

enum { MOST_ANEW = 8 }; /* times that the board begins anew: else it has some other trouble */

/* What the board would need for it. */
static size_t room_for(const nsk_board_self *self, const nsk_model *model) {
    const nsk_link_camera camera = {(uint16_t)self->camera_width, (uint16_t)self->camera_height,
                                    NULL, NULL};
    const nsk_link_port port = {.camera = self->camera_width > 0 ? &camera : NULL};
    return nsk_link_bytes(&port, model);
}

static uint32_t kinds_of(const nsk_model *model) {
    uint32_t kinds = 0;
    for (unsigned i = 0; i < model->layers; i++) {
        kinds |= UINT32_C(1) << nsk_layer_kind(model, i);
    }
    return kinds;
}

/* Before a byte is written. */
static bool can_take(const nsk_board_self *self, const nsk_model *model, nsk_error *error) {
    if (self->slot_bytes == 0) {
        return nsk_fail(error, "the board has no slots for models that come later (docs/link.md)");
    }
    if (model->size > self->slot_bytes) {
        return nsk_fail(error, "the model has %u bytes, and a slot of the board takes %u",
                        model->size, self->slot_bytes);
    }
    if (room_for(self, model) > self->link_memory) {
        return nsk_fail(error, "the model wants %zu bytes of memory on the board, which has %u",
                        room_for(self, model), self->link_memory);
    }
    const uint32_t lacking = kinds_of(model) & ~self->kinds;
    for (int kind = 1; kind < NSK_KINDS; kind++) {
        if ((lacking >> kind & 1U) != 0) {
            return nsk_fail(
                error,
                "the board's firmware has no layers of the kind '%s': hand it over with "
                "'emit --kinds all', and flash it",
                nsk_kind_name((nsk_kind)kind));
        }
    }
    return true;
}

/* A piece, from `at` on; where the next one begins: there, where it was lost. False where it is
 * refused, or what was before it is not there. */
static bool send_piece(nsk_on_board *b, const nsk_model *model, uint32_t *at, nsk_error *error) {
    const uint32_t most = nsk_line_payload(&b->line, NSK_SLOT_UNIT, b->self.longest);
    const uint32_t count = MIN(most, model->size - *at);
    nsk_request request = nsk_line_request(&b->line, NSK_LINK_MODEL);
    nsk_request_add(&request, NSK_KEY_SIZE, model->size);
    nsk_request_add(&request, NSK_KEY_SUM, model->checksum);
    nsk_request_add(&request, NSK_KEY_NEEDS, kinds_of(model));
    nsk_request_add(&request, NSK_KEY_ROOM, (uint32_t)room_for(&b->self, model));
    nsk_request_add(&request, NSK_KEY_FROM, *at);
    nsk_request_add_bytes(&request, NSK_KEY_DATA, model->bytes + *at, count);
    cbor_item_t *answer =
        nsk_line_ask(&b->line, NSK_LINK_MODEL, NSK_LINK_MODEL, &request, count, error);
    if (answer == NULL) {
        return b->line.lost;
    }
    const bool good = nsk_answer_number(answer, NSK_KEY_FROM, at) && *at <= model->size &&
                      (*at % NSK_SLOT_UNIT == 0 || *at == model->size);
    cbor_decref(&answer);
    return good || nsk_fail(error, "the board asks for a part that the model does not have");
}

static bool write_model(nsk_on_board *b, const nsk_model *model, nsk_progress progress,
                        void *context, nsk_error *error) {
    int anew = 0;
    for (uint32_t at = 0; at < model->size;) {
        const uint32_t before = at;
        nsk_error reason;
        if (!send_piece(b, model, &at, &reason)) {
            if (!b->line.not_there) {
                *error = reason;
                return false;
            }
            at = 0; /* the board has begun anew */
        }
        if (at <= before && !b->line.lost && ++anew > MOST_ANEW) {
            return nsk_fail_system(error, "the board loses the model before it is whole: does it "
                                          "start anew?");
        }
        if (progress != NULL) {
            progress(context, (int)(at / 256), (int)(model->size / 256));
        }
    }
    return true;
}

static bool tell_of(nsk_on_board *b, nsk_link_what what, uint32_t checksum, nsk_error *error) {
    nsk_request request = nsk_line_request(&b->line, what);
    nsk_request_add(&request, NSK_KEY_SUM, checksum);
    return nsk_board_tell(b, what, &request, error);
}

bool nsk_on_board_give(nsk_on_board *board, const nsk_model_file *model, nsk_progress progress,
                       void *context, nsk_error *error) {
    nsk_model_file *ordered = nsk_model_file_for_core(model, board->self.core);
    nsk_model opened;
    const bool good = nsk_open(&opened, ordered->bytes, ordered->size) == NSK_STATUS_OK &&
                      can_take(&board->self, &opened, error) &&
                      write_model(board, &opened, progress, context, error) &&
                      tell_of(board, NSK_LINK_TRY, opened.checksum, error) &&
                      nsk_board_meet(board, error) && nsk_on_board_runs(board, model, error);
    nsk_model_file_free(ordered);
    return good;
}

bool nsk_on_board_keep(nsk_on_board *board, nsk_error *error) {
    return tell_of(board, NSK_LINK_KEEP, board->self.checksum, error) &&
           nsk_board_meet(board, error);
}

bool nsk_on_board_back(nsk_on_board *board, nsk_error *error) {
    return tell_of(board, NSK_LINK_BACK, 0, error) && nsk_board_meet(board, error);
}
