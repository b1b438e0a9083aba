/* The product's loop: a picture, its scores, a decision; or trouble. */
#include <string.h>

#include "netsuke/firmware.h"

/* What one run holds. */
typedef struct loop {
    const nsk_port *port;
    const nsk_firmware *firmware;
    nsk_model model;
    nsk_scaler scaler;
    nsk_sight sight;
    nsk_decider decider;
    nsk_observer observer;
    uint8_t *camera; /* a row of the picture */
    uint8_t *frame;  /* what is held of the frame: a row where the model is streamed, else all */
    uint32_t *workspace;
    uint16_t width, height; /* of the picture */
    size_t row_bytes;       /* of the picture's row */
    uint16_t frames;        /* since the model was checked */
    bool scales, checks;    /* checks: on this frame */
    bool sound;             /* the model was, when last looked at */
} loop;

static void layer_done(void *context, const nsk_model *model, unsigned layer) {
    const loop *l = (const loop *)context;
    l->port->layer_done(l->port->context, model, layer);
}

static void *take(const loop *l, size_t bytes, bool *good) {
    void *memory = l->port->memory(l->port->context, bytes);
    *good = *good && memory != NULL;
    return memory;
}

static nsk_status begin(loop *l) {
    const nsk_firmware *f = l->firmware;
    const nsk_model *m = &l->model;
    bool good = true;
    nsk_status status = nsk_open(&l->model, f->model, f->model_bytes);
    if (status != NSK_OK) {
        return status;
    }
    const size_t row = (size_t)m->width * m->channels;
    l->sound = true;
    l->width = f->camera_width > 0 ? f->camera_width : m->width;
    l->height = f->camera_height > 0 ? f->camera_height : m->height;
    l->row_bytes = (size_t)l->width * m->channels;
    l->scales = l->width != m->width || l->height != m->height;
    l->frame = (uint8_t *)take(l, m->streamed > 0 ? row : row * m->height, &good);
    l->workspace = (uint32_t *)take(l, m->workspace_bytes, &good);
    l->camera = l->frame;
    if (l->scales) {
        l->camera = (uint8_t *)take(l, l->row_bytes, &good);
        void *memory = take(l, nsk_scaler_bytes(m), &good);
        status = good ? nsk_scaler_set(&l->scaler, m, l->width, l->height, memory) : status;
    }
    if (f->looks) {
        void *memory = take(l, nsk_sight_bytes(l->width, l->height, m->channels), &good);
        if (good) {
            nsk_sight_set(&l->sight, l->width, l->height, m->channels, memory);
        }
    }
    if (good) {
        /* memory that is not there shows here, not in some layer's scratch */
        memset(l->workspace, 0, m->workspace_bytes);
    }
    return good ? status : NSK_TOO_SMALL;
}

/* A row of the frame: to the model where it is streamed, else to the rest of the frame. */
static void feed(loop *l, nsk_feed *to, uint8_t **at) {
    const size_t row = (size_t)l->model.width * l->model.channels;
    if (l->model.streamed > 0) {
        nsk_feed_rows(to, *at, row, 1);
    } else {
        *at += row;
    }
}

/* A row of the picture, at `at` where it needs no scaling. */
static void take_row(loop *l, nsk_feed *to, const uint8_t *row, uint8_t **at) {
    if (l->firmware->looks) {
        nsk_sight_row(&l->sight, row);
    }
    if (!l->scales) {
        feed(l, to, at);
        return;
    }
    nsk_scaler_put(&l->scaler, row);
    while (nsk_scaler_take(&l->scaler, *at)) {
        feed(l, to, at);
    }
}

/* The same model again, from its bytes. Another one, sound as it may be, has other needs. */
static bool open_anew(loop *l) {
    nsk_model anew;
    bool good = nsk_open(&anew, l->firmware->model, l->firmware->model_bytes) == NSK_OK &&
                anew.checksum == l->model.checksum;
    if (good) {
        l->model = anew;
    }
    return good;
}

/* Nothing is read through a model that is not sound: its offsets may lead anywhere. */
static void look_at_model(loop *l) {
    if (!l->sound) {
        l->sound = open_anew(l);
    } else if (l->checks) {
        l->sound = nsk_intact(&l->model);
    }
}

static void begin_picture(loop *l) {
    const uint16_t every = l->firmware->check_every;
    l->checks = every > 0 && ++l->frames >= every;
    l->frames = l->checks ? 0 : l->frames;
    look_at_model(l);
    if (l->scales && l->sound) {
        nsk_scaler_start(&l->scaler);
    }
    nsk_sight_start(&l->sight);
}

/* Takes a picture, and leaves the frame prepared; only lets it pass where the model is not sound.
 */
static nsk_row take_picture(loop *l) {
    const nsk_port *port = l->port;
    uint8_t *at = l->frame;
    nsk_feed to;
    nsk_start(&to, &l->model, l->workspace, &l->observer);
    for (unsigned y = 0; y < l->height; y++) {
        uint8_t *row = l->scales ? l->camera : at;
        nsk_row came = port->row(port->context, row, l->row_bytes, y);
        if (came != NSK_ROW_THERE) {
            return came;
        }
        if (y == 0) {
            begin_picture(l);
        }
        if (port->capture != NULL) {
            port->capture(port->context, row, l->row_bytes, y);
        }
        if (l->sound) {
            take_row(l, &to, row, &at);
        }
    }
    if (l->sound && l->model.streamed == 0) {
        nsk_feed_rows(&to, l->frame, (size_t)l->model.width * l->model.channels, l->model.height);
    }
    return NSK_ROW_THERE;
}

static void answer(loop *l) {
    const nsk_port *port = l->port;
    nsk_answered a;
    a.model = &l->model;
    a.scores = nsk_scores(&l->model, l->workspace);
    a.line = nsk_answer_of(&l->firmware->rule, &l->model, a.scores);
    a.decided = nsk_decide(&l->decider, &l->firmware->rule, &l->model, a.scores);
    port->answer(port->context, &a);
}

/* The answer is given when the model is known to have been sound all along. */
static nsk_trouble run_frame(loop *l) {
    if (!l->sound) {
        return NSK_MODEL_DAMAGED;
    }
    l->port->prepared(l->port->context);
    nsk_trouble seen = l->firmware->looks ? nsk_sight_end(&l->sight) : NSK_NO_TROUBLE;
    if (seen != NSK_NO_TROUBLE) {
        return seen;
    }
    nsk_run(&l->model, l->workspace, &l->observer);
    look_at_model(l);
    if (!l->sound) {
        return NSK_MODEL_DAMAGED;
    }
    answer(l);
    return NSK_NO_TROUBLE;
}

nsk_status nsk_firmware_run(const nsk_port *port, const nsk_firmware *firmware) {
    static const nsk_trouble troubles[] = {NSK_NO_TROUBLE, NSK_CAMERA_LATE, NSK_PICTURE_CUT};
    loop l;
    memset(&l, 0, sizeof l);
    l.port = port;
    l.firmware = firmware;
    l.observer.after = layer_done;
    l.observer.context = &l;
    nsk_status status = begin(&l);
    if (status != NSK_OK) {
        return status;
    }
    for (;;) {
        nsk_row came = take_picture(&l);
        if (came == NSK_ROW_END) {
            return NSK_OK;
        }
        nsk_trouble trouble = came == NSK_ROW_THERE ? run_frame(&l) : troubles[came];
        if (trouble != NSK_NO_TROUBLE) {
            nsk_decider_forget(&l.decider);
            port->trouble(port->context, trouble);
        }
    }
}
