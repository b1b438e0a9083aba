/* The product's loop: a picture, its scores, a decision; or fault. */
#include "../small.h"

#include <string.h>

#include "../crc.h"
#include "netsuke/firmware.h"

/* What is found at the beginning and never changes. */
typedef struct settled {
    const nsk_port *port;
    const nsk_firmware *firmware;
    nsk_model model;
    uint8_t *camera; /* a row of the picture */
    uint8_t *frame;  /* what is held of the frame: a row where the model is streamed, else all */
    uint32_t *workspace;
    nsk_decider *decider;   /* behind the workspace and its guard */
    uint16_t width, height; /* of the picture */
    size_t row_bytes;       /* of the picture's row */
    uint32_t hash;          /* of the model's bytes, when it was opened */
    bool scales;
} settled;

/* What one run holds. */
typedef struct loop {
    settled is;
    nsk_sensor_reader reader;
    nsk_scaler scaler;
    nsk_frame_check frame_check;
    nsk_observer observer;
    uint16_t frames;                   /* since the model was checked */
    bool checks;                       /* on this frame */
    bool sound;                        /* the model was, when last looked at */
    uint32_t sum_settled, sum_decider; /* CRC-32, when they were last written */
} loop;

/* Stands before and behind the workspace. */
static const uint32_t GUARD = UINT32_C(0x5afe11b5);

static void layer_done(void *context, const nsk_model *model, unsigned layer) {
    const loop *l = (const loop *)context;
    l->is.port->layer_done(l->is.port->context, model, layer);
}

static void *take(const loop *l, size_t bytes, bool *good) {
    void *memory = l->is.port->memory(l->is.port->context, bytes);
    *good = *good && memory != NULL;
    return memory;
}

/* ---- what the loop holds itself ---- */

static uint32_t sum_of(const void *bytes, size_t size) {
    return nsk_crc32(0, (const uint8_t *)bytes, size);
}

/* The rule with the lists it points to, and what was found at the beginning. */
static uint32_t sum_settled(const loop *l) {
    const nsk_firmware *f = l->is.firmware;
    uint32_t sum = sum_of(&l->is, sizeof l->is) ^ sum_of(f, sizeof *f);
    if (f->sensing != NULL) {
        sum ^= sum_of(f->sensing, sizeof *f->sensing);
    }
    if (f->rule.line_of != NULL) {
        sum ^= sum_of(f->rule.line_of, l->is.model.classes);
    }
    if (f->rule.thresholds != NULL) {
        sum ^= sum_of(f->rule.thresholds, l->is.model.classes * sizeof *f->rule.thresholds);
    }
    return sum;
}

static bool is_settled(const loop *l) {
    if (l->is.firmware->check_every == 0) {
        return true;
    }
    return sum_settled(l) == l->sum_settled && l->is.workspace[-1] == GUARD &&
           l->is.workspace[(l->is.model.workspace_bytes + 3U) / 4U] == GUARD;
}

/* Whether it is as it was left. */
static bool is_remembered(const loop *l) {
    return l->is.firmware->check_every == 0 ||
           sum_of(l->is.decider, sizeof *l->is.decider) == l->sum_decider;
}

static void leave(loop *l) {
    l->sum_decider = sum_of(l->is.decider, sizeof *l->is.decider);
}

/* ---- the beginning ---- */

/* A guard, the workspace, a guard, what the rule remembers. Memory that is not there shows here,
 * not in some layer's scratch. */
static void take_workspace(loop *l, bool *good) {
    const uint32_t words = (l->is.model.workspace_bytes + 3U) / 4U;
    const size_t bytes = 4U * (size_t)words + NSK_LOOP_BYTES;
    uint32_t *memory = (uint32_t *)take(l, bytes, good);
    if (memory != NULL) {
        memset(memory, 0, bytes);
        l->is.workspace = memory + 1;
        l->is.workspace[-1] = l->is.workspace[words] = GUARD;
        l->is.decider = (nsk_decider *)(l->is.workspace + words + 1);
    }
}

/* What comes behind it sees the sensor's part alone. */
static nsk_status begin_sensor(loop *l, bool *good) {
    const nsk_sensing *s = l->is.firmware->sensing;
    const unsigned width = l->is.width;
    void *memory = take(l, s->bytes(&s->sensor, width, l->is.model.channels), good);
    const nsk_status status =
        *good ? s->set(&l->reader, &s->sensor, &l->is.model, width, l->is.height, memory)
              : NSK_STATUS_NO_MEMORY;
    l->is.width = l->reader.sensor.width;
    l->is.height = l->reader.sensor.height;
    return status;
}

static nsk_status begin(loop *l) {
    const nsk_firmware *f = l->is.firmware;
    settled *is = &l->is;
    const nsk_model *m = &is->model;
    bool good = true;
    nsk_status status = nsk_open(&is->model, f->model, f->model_bytes);
    if (status != NSK_STATUS_OK) {
        return status;
    }
    const size_t row = (size_t)m->width * m->channels;
    l->sound = true;
    is->hash = nsk_hash_of(m);
    is->width = f->camera_width > 0 ? f->camera_width : m->width;
    is->height = f->camera_height > 0 ? f->camera_height : m->height;
    if (f->sensing != NULL) {
        status = begin_sensor(l, &good);
        if (status != NSK_STATUS_OK) {
            return status;
        }
    }
    is->row_bytes = (size_t)is->width * m->channels;
    is->scales = is->width != m->width || is->height != m->height;
    is->frame = (uint8_t *)take(l, m->streamed > 0 ? row : row * m->height, &good);
    take_workspace(l, &good);
    is->camera = is->frame;
    if (is->scales) {
        is->camera = (uint8_t *)take(l, is->row_bytes, &good);
        void *memory = take(l, nsk_scaler_bytes(m), &good);
        status = good ? nsk_scaler_set(&l->scaler, m, is->width, is->height, memory) : status;
    }
    if (f->check_frames) {
        void *memory = take(l, nsk_frame_check_bytes(is->width, is->height, m->channels), &good);
        if (good) {
            nsk_frame_check_set(&l->frame_check, is->width, is->height, m->channels, memory);
        }
    }
    if (f->twice && m->streamed > 0) {
        return NSK_STATUS_INCONSISTENT;
    }
    return good ? status : NSK_STATUS_NO_MEMORY;
}

/* ---- a picture ---- */

/* A row of the frame: to the model where it is streamed, else to the rest of the frame. */
static void feed(loop *l, nsk_feed *to, uint8_t **at) {
    const size_t row = (size_t)l->is.model.width * l->is.model.channels;
    if (l->is.model.streamed > 0) {
        nsk_feed_rows(to, *at, row, 1);
    } else {
        *at += row;
    }
}

/* A row of the picture, at `at` where it needs no scaling. */
static void take_row(loop *l, nsk_feed *to, const uint8_t *row, uint8_t **at) {
    if (l->is.firmware->check_frames) {
        nsk_frame_check_row(&l->frame_check, row);
    }
    if (!l->is.scales) {
        feed(l, to, at);
        return;
    }
    nsk_scaler_put(&l->scaler, row);
    while (nsk_scaler_take(&l->scaler, *at)) {
        feed(l, to, at);
    }
}

/* The same model again, from its bytes. Another one, sound as it may be, has other needs. */
static bool open_anew(const loop *l) {
    nsk_model anew;
    return nsk_open(&anew, l->is.firmware->model, l->is.firmware->model_bytes) == NSK_STATUS_OK &&
           anew.checksum == l->is.model.checksum;
}

/* Nothing is read through a model that is not sound: its offsets may lead anywhere. */
static void look_at_model(loop *l) {
    if (!l->sound) {
        l->sound = open_anew(l);
    } else if (l->checks) {
        l->sound = nsk_intact(&l->is.model, l->is.hash);
    }
}

static void begin_picture(loop *l) {
    const uint16_t every = l->is.firmware->check_every;
    l->checks = every > 0 && ++l->frames >= every;
    l->frames = l->checks ? 0 : l->frames;
    look_at_model(l);
    /*@ split l->sound; */ /* for Eva: rows are put only where the scaler has begun */
    if (l->is.scales && l->sound) {
        nsk_scaler_start(&l->scaler);
    }
    nsk_frame_check_start(&l->frame_check);
}

/* The whole frame, as it stands in memory. */
static void feed_all(const loop *l, nsk_feed *to) {
    const nsk_model *m = &l->is.model;
    nsk_start(to, m, l->is.workspace, &l->observer);
    nsk_feed_rows(to, l->is.frame, (size_t)m->width * m->channels, m->height);
}

/* A row of the picture: as it comes, or made of what the sensor sends. */
static nsk_row next_row(loop *l, uint8_t *row, unsigned y) {
    const nsk_port *port = l->is.port;
    const nsk_sensing *sensing = l->is.firmware->sensing;
    return sensing == NULL ? port->row(port->context, row, l->is.row_bytes, y)
                           : sensing->row(&l->reader, port->row, port->context, row, y);
}

/* Takes a picture, and leaves the frame prepared; only lets it pass where the model is not sound.
 */
static nsk_row take_picture(loop *l) {
    const nsk_port *port = l->is.port;
    uint8_t *at = l->is.frame;
    nsk_feed to;
    nsk_start(&to, &l->is.model, l->is.workspace, &l->observer);
    for (unsigned y = 0; y < l->is.height; y++) {
        uint8_t *row = l->is.scales ? l->is.camera : at;
        nsk_row came = next_row(l, row, y);
        if (came != NSK_ROW_THERE) {
            return came;
        }
        if (y == 0) {
            begin_picture(l);
        }
        if (port->capture != NULL) {
            port->capture(port->context, row, l->is.row_bytes, y);
        }
        if (l->sound) {
            take_row(l, &to, row, &at);
        }
    }
    if (l->sound && l->is.model.streamed == 0) {
        feed_all(l, &to);
    }
    return NSK_ROW_THERE;
}

/* ---- its answer ---- */

/* Runs the frame once more: the same scores? */
static bool agrees(const loop *l, const int32_t *scores) {
    const size_t bytes = l->is.model.classes * sizeof *scores;
    const uint32_t sum = sum_of(scores, bytes);
    nsk_feed to;
    feed_all(l, &to);
    nsk_run(&l->is.model, l->is.workspace, &l->observer);
    return sum_of(scores, bytes) == sum;
}

static nsk_fault answer(loop *l) {
    const nsk_port *port = l->is.port;
    const nsk_firmware *f = l->is.firmware;
    nsk_decider next = *l->is.decider;
    nsk_answered a;
    a.model = &l->is.model;
    a.scores = nsk_scores(&l->is.model, l->is.workspace);
    a.line = nsk_answer_of(&f->rule, &l->is.model, a.scores);
    a.decided = nsk_decide(&next, &f->rule, &l->is.model, a.scores);
    if (a.decided != NSK_NOTHING && f->twice) {
        if (!agrees(l, a.scores)) {
            return NSK_FAULT_RUNS_DIFFER;
        }
        look_at_model(l);
    }
    if (!l->sound) {
        return NSK_FAULT_MODEL_DAMAGED;
    }
    if (!is_settled(l) || !is_remembered(l)) {
        return NSK_FAULT_MEMORY_DAMAGED;
    }
    *l->is.decider = next;
    leave(l);
    port->answer(port->context, &a);
    return NSK_FAULT_NONE;
}

/* The answer is given when the model is known to have been sound all along. */
static nsk_fault run_frame(loop *l) {
    if (!l->sound) {
        return NSK_FAULT_MODEL_DAMAGED;
    }
    l->is.port->prepared(l->is.port->context);
    nsk_fault seen =
        l->is.firmware->check_frames ? nsk_frame_check_end(&l->frame_check) : NSK_FAULT_NONE;
    if (seen != NSK_FAULT_NONE) {
        return seen;
    }
    nsk_run(&l->is.model, l->is.workspace, &l->observer);
    look_at_model(l);
    return l->sound ? answer(l) : NSK_FAULT_MODEL_DAMAGED;
}

/* After a fault. What the rule remembers is forgotten; where it cannot be believed, an actuator
 * may be moving. */
static void forget(loop *l) {
    if (is_remembered(l)) {
        nsk_decider_forget(l->is.decider);
    } else {
        memset(l->is.decider, 0, sizeof *l->is.decider);
        l->is.decider->holding = l->is.firmware->rule.hold_off;
    }
    leave(l);
}

nsk_status nsk_firmware_run(const nsk_port *port, const nsk_firmware *firmware) {
    static const nsk_fault faults[] = {NSK_FAULT_NONE, NSK_FAULT_CAMERA_LATE,
                                       NSK_FAULT_PICTURE_CUT};
    loop l;
    memset(&l, 0, sizeof l);
    l.is.port = port;
    l.is.firmware = firmware;
    l.observer.after = layer_done;
    l.observer.context = &l;
    nsk_status status = begin(&l);
    if (status != NSK_STATUS_OK) {
        return status;
    }
    leave(&l);
    l.sum_settled = sum_settled(&l);
    /*@ loop unroll 0; */
    for (;;) {
        nsk_row came = take_picture(&l);
        if (came == NSK_ROW_END) {
            return NSK_STATUS_OK;
        }
        nsk_fault fault = came == NSK_ROW_THERE ? run_frame(&l) : faults[came];
        if (fault != NSK_FAULT_NONE) {
            const bool can_go_on = is_settled(&l);
            forget(&l);
            port->fault(port->context, can_go_on ? fault : NSK_FAULT_MEMORY_DAMAGED);
            if (!can_go_on) {
                return NSK_STATUS_DAMAGED;
            }
        }
    }
}
