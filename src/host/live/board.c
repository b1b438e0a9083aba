/* A board's own camera: the board looks, runs and decides; the picture comes over the link. */
#include "live/camera.h"

typedef struct far_camera {
    nsk_on_board *board;
    nsk_model model;
    const nsk_input *input;
    uint8_t *pixels; /* as they come, in the order of the network's channels */
    int32_t *scores;
    nsk_picture picture;
    long number;
} far_camera;

static nsk_live_state next_of_board(void *of, nsk_shot *shot, nsk_error *error) {
    far_camera *c = of;
    if (!nsk_on_board_look(c->board, &c->model, &shot->look, c->scores, c->pixels, error)) {
        return NSK_LIVE_FAILED;
    }
    if (shot->look.came == NSK_ROW_END) {
        return NSK_LIVE_ENDED;
    }
    nsk_picture_from_channels(c->pixels, c->input->colour, &c->picture);
    shot->picture = c->picture;
    shot->scores = c->scores;
    shot->number = c->number++;
    return NSK_LIVE_THERE;
}

static void close_board(void *of) {
    far_camera *c = of;
    nsk_picture_clear(&c->picture);
    g_free(c->pixels);
    g_free(c->scores);
    g_free(c);
}

bool nsk_camera_board(nsk_camera *camera, const nsk_live_setup *setup, nsk_error *error) {
    static const nsk_camera_kind kind = {next_of_board, close_board, NULL};
    const nsk_board_self *self = setup->board != NULL ? nsk_on_board_self(setup->board) : NULL;
    if (self == NULL) {
        return nsk_fail(error, "camera 'board': say at which link the board is");
    }
    if (self->camera_width == 0 || !self->keeps_picture) {
        return nsk_fail(error, "the board (%s) %s; give the camera to look through", self->core,
                        self->camera_width == 0 ? "has no camera of its own"
                                                : "has no memory to keep its camera's picture");
    }
    far_camera *c = g_new0(far_camera, 1);
    *camera = (nsk_camera){.kind = &kind, .of = c, .sensed = true};
    c->board = setup->board;
    c->input = setup->input;
    nsk_open(&c->model, setup->model->bytes, setup->model->size);
    c->pixels = g_malloc((gsize)self->camera_width * self->camera_height * 3);
    c->scores = g_new0(int32_t, c->model.classes);
    return nsk_picture_start(&c->picture, self->camera_width, self->camera_height, error);
}
