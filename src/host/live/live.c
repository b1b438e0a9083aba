/* What both networks and the rule make of a camera's pictures, one after the other. */
#include <string.h>

#include "brief/rule.h"
#include "images/light.h"
#include "live/camera.h"
#include "netsuke/compare.h"

struct nsk_live {
    const nsk_live_setup *setup;
    nsk_camera camera;
    nsk_input input; /* of its pictures */
    nsk_model model;
    void *workspace;
    uint8_t *frame;
    float *by_float, *by_integer;
    nsk_rule_lists lists;
    nsk_rule rule;
    nsk_decider decider;
    nsk_frame_check check; /* where the product looks at pictures, and all are of one size */
    uint32_t *check_memory;
    double low[NSK_LIGHTS], high[NSK_LIGHTS]; /* of known pictures */
};

/* ---- opening ---- */

static bool open_camera(nsk_live *l, const nsk_live_setup *setup, nsk_error *error) {
    const char *where = setup->camera;
    if (strcmp(where, "board") == 0) {
        return nsk_camera_board(&l->camera, setup, error);
    }
    if (strcmp(where, "-") == 0 || g_str_has_suffix(where, ".y4m")) {
        return nsk_camera_y4m(&l->camera, where, error);
    }
    if (g_str_has_suffix(where, ".csv")) {
        return nsk_camera_scene(&l->camera, setup, error);
    }
    if (g_file_test(where, G_FILE_TEST_IS_DIR)) {
        return nsk_camera_folder(&l->camera, setup, error);
    }
    return nsk_fail(error,
                    "%s is no camera: give - for a Y4M stream on standard input, a file .y4m, a "
                    "folder of pictures, or a scene .csv",
                    where);
}

/* The board decides by the brief's rule, too. */
static bool set_rule(nsk_live *l, nsk_error *error) {
    const nsk_live_setup *setup = l->setup;
    l->rule = nsk_rule_of(setup->decision, &l->model, &l->lists);
    return setup->board == NULL || strcmp(setup->camera, "board") != 0 ||
           nsk_on_board_rule(setup->board, &l->rule, l->model.classes, error);
}

nsk_live *nsk_live_open(const nsk_live_setup *setup, nsk_error *error) {
    nsk_live *l = g_new0(nsk_live, 1);
    l->setup = setup;
    const nsk_status status = nsk_open(&l->model, setup->model->bytes, setup->model->size);
    const bool good =
        (status == NSK_STATUS_OK || nsk_fail(error, "the model is %s", nsk_status_text(status))) &&
        (setup->known == NULL || nsk_light_range(setup->known, l->low, l->high, error)) &&
        open_camera(l, setup, error) && set_rule(l, error);
    if (!good) {
        nsk_live_close(l);
        return NULL;
    }
    l->input = *setup->input;
    if (l->camera.sensed) {
        l->input.sensor = (nsk_sensor){0};
    }
    l->workspace = g_malloc(l->model.workspace_bytes);
    l->frame = g_malloc((gsize)l->model.width * l->model.height * l->model.channels);
    l->by_float = g_new0(float, l->model.classes);
    l->by_integer = g_new0(float, l->model.classes);
    return l;
}

void nsk_live_stop(nsk_live *live) {
    if (live->camera.kind->stop != NULL) {
        live->camera.kind->stop(live->camera.of);
    }
}

void nsk_live_close(nsk_live *live) {
    if (live != NULL) {
        if (live->camera.kind != NULL) {
            live->camera.kind->close(live->camera.of);
        }
        g_free(live->check_memory);
        g_free(live->workspace);
        g_free(live->frame);
        g_free(live->by_float);
        g_free(live->by_integer);
        g_free(live);
    }
}

double nsk_live_rate(const nsk_live *live) {
    return live->camera.rate;
}

bool nsk_live_known(const nsk_live *live, nsk_light light, double *low, double *high) {
    *low = live->low[light];
    *high = live->high[light];
    return live->setup->known != NULL;
}

int nsk_live_count(const nsk_live *live) {
    return live->camera.count;
}

/* ---- a picture ---- */

static double seconds_since(gint64 *start) {
    const gint64 now = g_get_monotonic_time();
    const double took = (double)(now - *start) / 1e6;
    *start = now;
    return took;
}

/* As the product's loop looks at them, where the brief says that it does. */
static nsk_fault look_at(nsk_live *l, const nsk_picture *picture) {
    if (!l->setup->product->check_frames || !l->camera.same_size) {
        return NSK_FAULT_NONE;
    }
    const unsigned width = (unsigned)picture->width;
    const unsigned height = (unsigned)picture->height;
    if (l->check_memory == NULL) {
        l->check_memory = g_malloc(nsk_frame_check_bytes(width, height, 3));
        nsk_frame_check_set(&l->check, width, height, 3, l->check_memory);
    }
    nsk_frame_check_start(&l->check);
    for (unsigned y = 0; y < height; y++) {
        nsk_frame_check_row(&l->check, picture->rgb + (size_t)y * width * 3);
    }
    return nsk_frame_check_end(&l->check);
}

/* Here, and where it runs besides: at the end of a link, or by a board that has looked itself. */
static const int32_t *run_integers(nsk_live *l, const nsk_shot *shot, nsk_live_frame *frame,
                                   nsk_error *error) {
    const nsk_elsewhere *elsewhere = l->setup->model->elsewhere;
    const size_t bytes = l->model.classes * sizeof *shot->scores;
    nsk_prepare(&l->model, l->frame, (size_t)l->model.width * l->model.channels, l->workspace);
    nsk_run(&l->model, l->workspace, NULL);
    int32_t *scores = (int32_t *)(void *)nsk_scores(&l->model, l->workspace);
    if (shot->scores != NULL) {
        frame->differs = memcmp(shot->scores, scores, bytes) != 0;
        return shot->scores;
    }
    return elsewhere == NULL || elsewhere->run(elsewhere->context, l->frame, scores, error) ? scores
                                                                                            : NULL;
}

static void decide(nsk_live *l, const nsk_shot *shot, const int32_t *scores,
                   nsk_live_frame *frame) {
    if (shot->scores != NULL) {
        frame->line = shot->look.line;
        frame->decided = shot->look.decided;
        frame->standing = shot->look.standing;
        frame->ticks = shot->look.ticks;
        return;
    }
    frame->line = nsk_answer_of(&l->rule, &l->model, scores);
    frame->decided = nsk_decide(&l->decider, &l->rule, &l->model, scores);
    frame->standing = l->decider.has_standing ? l->decider.standing : NSK_NOTHING;
}

static void look_at_light(const nsk_live *l, nsk_live_frame *frame) {
    nsk_light_of(l->frame, l->setup->input, frame->light);
    for (int k = 0; k < NSK_LIGHTS && l->setup->known != NULL; k++) {
        frame->outside[k] = (frame->light[k] > l->high[k]) - (frame->light[k] < l->low[k]);
    }
}

static bool score(nsk_live *l, const nsk_shot *shot, nsk_live_frame *frame, gint64 *start,
                  nsk_error *error) {
    const nsk_live_setup *setup = l->setup;
    nsk_picture_to_frame(&shot->picture, &l->input, l->frame);
    look_at_light(l, frame);
    frame->took[NSK_LIVE_PREPARE] = seconds_since(start);
    if (!nsk_network_score(setup->network, setup->input, l->frame, l->by_float, error)) {
        return false;
    }
    frame->took[NSK_LIVE_FLOAT] = seconds_since(start);
    const int32_t *scores = run_integers(l, shot, frame, error);
    if (scores == NULL) {
        return false;
    }
    frame->took[NSK_LIVE_INTEGERS] = seconds_since(start);
    nsk_probabilities(&l->model, scores, l->by_integer);
    decide(l, shot, scores, frame);
    return true;
}

static nsk_fault fault_of(nsk_row came) {
    return came == NSK_ROW_LATE  ? NSK_FAULT_CAMERA_LATE
           : came == NSK_ROW_CUT ? NSK_FAULT_PICTURE_CUT
                                 : NSK_FAULT_NONE;
}

nsk_live_state nsk_live_next(nsk_live *live, nsk_live_frame *frame, nsk_error *error) {
    nsk_shot shot = {.name = "", .truth = NSK_NOBODY_KNOWS, .look = {.came = NSK_ROW_THERE}};
    gint64 start = g_get_monotonic_time();
    const nsk_live_state state = live->camera.kind->next(live->camera.of, &shot, error);
    *frame = (nsk_live_frame){.number = shot.number,
                              .dropped = shot.dropped,
                              .name = shot.name,
                              .truth = shot.truth,
                              .width = shot.picture.width,
                              .height = shot.picture.height,
                              .rgb = shot.picture.rgb,
                              .frame = live->frame,
                              .by_float = live->by_float,
                              .by_integer = live->by_integer,
                              .line = NSK_UNSURE,
                              .decided = NSK_NOTHING,
                              .standing = NSK_NOTHING};
    if (state != NSK_LIVE_THERE) {
        return state;
    }
    frame->took[NSK_LIVE_CAMERA] = seconds_since(&start);
    frame->fault = fault_of(shot.look.came);
    if (frame->fault == NSK_FAULT_NONE) {
        frame->fault = look_at(live, &shot.picture);
    }
    if (frame->fault != NSK_FAULT_NONE) {
        nsk_decider_forget(&live->decider);
        nsk_picture_to_frame(&shot.picture, &live->input, live->frame);
        return NSK_LIVE_THERE;
    }
    return score(live, &shot, frame, &start, error) ? NSK_LIVE_THERE : NSK_LIVE_FAILED;
}
