/* The simulated board as a port, and a film played on it. */
#include "sim/board.h"

#include <glib/gstdio.h>
#include <math.h>
#include <setjmp.h>
#include <string.h>

#include "brief/labels.h"
#include "brief/rule.h"
#include "device/layer.h"
#include "images/picture.h"
#include "sim/injections.h"
#include "sim/ram.h"

static const double START_UP = 0.05; /* seconds, after the supply has failed */
static const double PATIENCE = 2.5;  /* periods of the camera that the port waits */

/* The board, as the port's context. */
typedef struct sim {
    const nsk_stage *stage;
    nsk_model model;  /* as it was opened before the board runs: for shapes */
    uint8_t *flash;   /* the model's bytes, which may change */
    size_t flipped;   /* place of the byte whose bit is another; past the end: none */
    uint8_t *picture; /* that the camera shows */
    uint8_t *lines;   /* as its sensor sends it; NULL: as it is */
    uint8_t *framed;  /* of it, and what else it takes to run that elsewhere, too; or NULL */
    void *workspace;
    int width, height; /* of it, pixels */
    nsk_ram *ram;
    double now;  /* seconds */
    int next;    /* frame of the camera */
    int frame;   /* that is being taken */
    int lost_at; /* frame at which the supply has failed last */
    nsk_rule_lists lists;
    jmp_buf reset;
    GArray *answers; /* of nsk_rehearsed */
    GArray *scores;  /* of each */
    nsk_rehearsal *result;
    nsk_rehearsed taking;
    nsk_status status;
    bool good;
    nsk_error *error;
} sim;

static const nsk_injection *injection_at(const sim *s, nsk_injection_kind kind, int frame) {
    return nsk_injection_at(s->stage->injections, s->stage->injection_count, kind, frame);
}

static double period(const sim *s) {
    return 1.0 / s->stage->board->frame_rate;
}

static void spend(sim *s, double cycles) {
    const nsk_injection *slow = injection_at(s, NSK_INJECTION_CLOCK, s->frame);
    double clock = s->stage->board->clock * (slow != NULL ? 1.0 - slow->amount / 100.0 : 1.0);
    s->now += cycles / clock;
    s->result->busy += cycles / clock;
}

static void *sim_memory(void *context, size_t bytes) {
    sim *s = context;
    return nsk_ram_take(s->ram, bytes);
}

/* ---- the camera ---- */

/* Flash that has healed holds what it held. */
static void heal(sim *s) {
    if (s->flipped < s->stage->model->size &&
        injection_at(s, NSK_INJECTION_FLASH, s->frame) == NULL) {
        s->flash[s->flipped] = s->stage->model->bytes[s->flipped];
        s->flipped = s->stage->model->size;
    }
}

static bool show(sim *s) {
    const size_t pixel = s->model.channels;
    const size_t row = (size_t)s->width * pixel;
    bool frozen = injection_at(s, NSK_INJECTION_FROZEN, s->frame) != NULL && s->answers->len > 0;
    if (!frozen && !nsk_film_picture(s->stage->film, s->frame, s->picture, s->error)) {
        return false;
    }
    /* from the middle on: the one row again and again, or the picture before */
    for (int y = s->height / 2;
         y < s->height && injection_at(s, NSK_INJECTION_ROWS, s->frame) != NULL; y++) {
        memcpy(s->picture + row * (size_t)y, s->picture + row * (size_t)(y - 1), row);
    }
    if (injection_at(s, NSK_INJECTION_TORN, s->frame) != NULL && s->frame > 0) {
        size_t upper = row * (size_t)(s->height / 2);
        uint8_t *kept = g_memdup2(s->picture, upper);
        bool good = nsk_film_picture(s->stage->film, s->frame - 1, s->picture, s->error);
        memcpy(s->picture, kept, upper);
        g_free(kept);
        if (!good) {
            return false;
        }
    }
    for (int y = 0; y < s->height && injection_at(s, NSK_INJECTION_COLUMN, s->frame) != NULL; y++) {
        memset(s->picture + row * (size_t)y + pixel * (size_t)(s->width / 3), 200, pixel);
    }
    return true;
}

/* Waits for the first picture that starts no earlier than now, as long as the port waits. */
static nsk_row next_picture(sim *s) {
    int frames = nsk_film_frames(s->stage->film);
    while (s->next < frames && s->next * period(s) < s->now - 1e-12) {
        s->result->dropped += injection_at(s, NSK_INJECTION_CAMERA, s->next) == NULL;
        s->next++;
    }
    int shown = s->next;
    while (shown < frames && injection_at(s, NSK_INJECTION_CAMERA, shown) != NULL) {
        shown++;
    }
    s->frame = MIN(shown, frames - 1);
    s->taking = (nsk_rehearsed){.frame = s->frame, .line = NSK_UNSURE, .decided = NSK_NOTHING};
    if (s->next >= frames) {
        return NSK_ROW_END;
    }
    if (shown * period(s) - s->now > PATIENCE * period(s)) {
        s->taking.frame = s->next;
        s->now += PATIENCE * period(s);
        return NSK_ROW_LATE;
    }
    if (shown >= frames) {
        return NSK_ROW_END;
    }
    s->next = shown + 1;
    s->now = fmax(s->now, shown * period(s));
    s->taking.arrived = s->now;
    heal(s);
    s->good = s->good && show(s);
    if (s->lines != NULL && s->good) {
        nsk_film_send(s->stage->film, s->picture, s->lines);
    }
    return s->good ? NSK_ROW_THERE : NSK_ROW_END;
}

static nsk_row sim_row(void *context, uint8_t *to, size_t bytes, unsigned y) {
    sim *s = context;
    const bool turned = s->lines != NULL && s->stage->product->sensor.upside_down;
    const unsigned first = turned ? (unsigned)s->height - 1U : 0U;
    nsk_row came = y == first ? next_picture(s) : NSK_ROW_THERE;
    if (came != NSK_ROW_THERE) {
        return came;
    }
    if ((int)y >= s->height / 2 && injection_at(s, NSK_INJECTION_CUT, s->frame) != NULL) {
        return NSK_ROW_CUT;
    }
    const uint8_t *from = s->lines != NULL ? s->lines : s->picture;
    memcpy(to, from + bytes * y, bytes); /* the only write into the board's RAM; may fault */
    return NSK_ROW_THERE;
}

/* ---- time, and what goes wrong in it ---- */

/* All that happens while the frame comes in is counted at its end. */
static void sim_prepared(void *context) {
    sim *s = context;
    const nsk_budget *b = s->stage->budget;
    spend(s, b->preparation.cycles + b->streaming.cycles + b->scaling.cycles +
                 b->frame_check.cycles + b->check.cycles);
    for (int i = 0; i < b->streamed; i++) {
        spend(s, b->layer[i].cycles);
    }
}

/* Weights of the last layer that has any: they are read after the bit has changed. */
static void flip(sim *s) {
    nsk_layer l;
    for (unsigned i = s->model.layers; i-- > 0;) {
        nsk_layer_decode(&s->model, i, &l);
        if (l.kind == NSK_KIND_CONV || l.kind == NSK_KIND_DENSE || l.kind == NSK_KIND_DEPTHWISE) {
            s->flipped = (size_t)((const uint8_t *)l.weights - s->model.bytes);
            s->flash[s->flipped] ^= 0x40;
            return;
        }
    }
}

static void sim_layer_done(void *context, const nsk_model *model, unsigned layer) {
    sim *s = context;
    bool halfway = layer == model->streamed + (model->layers - model->streamed) / 2U;
    spend(s, layer >= model->streamed ? s->stage->budget->layer[layer].cycles : 0.0);
    if (halfway && s->flipped >= s->stage->model->size &&
        injection_at(s, NSK_INJECTION_FLASH, s->frame) != NULL) {
        flip(s);
    }
    if (halfway && s->lost_at != s->frame &&
        injection_at(s, NSK_INJECTION_BROWNOUT, s->frame) != NULL) {
        s->lost_at = s->frame;
        longjmp(s->reset, 1);
    }
}

/* ---- answers ---- */

static void record(sim *s, const int32_t *scores) {
    s->taking.answered = s->now;
    g_array_append_val(s->answers, s->taking);
    for (int c = 0; c < s->model.classes; c++) {
        int32_t score = scores != NULL ? scores[c] : 0;
        g_array_append_val(s->scores, score);
    }
}

/* "belt/00012.667s-belt-98.png" */
static bool capture(const sim *s, const nsk_rehearsed *a, nsk_error *error) {
    const char *name =
        a->class_index < s->model.classes ? nsk_label(&s->model, (unsigned)a->class_index) : "none";
    size_t pixels = (size_t)s->width * (size_t)s->height;
    uint8_t *rgb = g_malloc(3 * pixels);
    for (size_t i = 0; i < 3 * pixels; i++) {
        size_t c = s->model.colour == NSK_COLOUR_BGR ? 2 - i % 3 : i % 3;
        rgb[i] = s->picture[s->model.channels == 1 ? i / 3 : i - i % 3 + c];
    }
    const nsk_picture picture = {.width = s->width, .height = s->height, .rgb = rgb};
    char *folder = g_build_filename(s->stage->capture, name, NULL);
    char *path = g_strdup_printf("%s/%09.3fs-%s-%02.0f.png", folder, a->arrived, name,
                                 100.0 * (double)a->probability);
    bool good = (g_mkdir_with_parents(folder, 0777) == 0 ||
                 nsk_fail(error, "%s: the folder cannot be made; check the path", folder)) &&
                nsk_picture_write_png(&picture, path, error);
    g_free(path);
    g_free(folder);
    g_free(rgb);
    return good;
}

/* The likeliest; or, of several labels, what the rule takes for the answer where each has a line of
 * its own, and one past the last where none is there. */
static int class_of(const sim *s, const nsk_answered *answer) {
    const nsk_rule own = {.thresholds = s->lists.thresholds, .resting = answer->model->classes};
    return s->stage->decision->thresholds != NULL
               ? nsk_answer_of(&own, answer->model, answer->scores)
               : (int)nsk_best(answer->model, answer->scores);
}

/* On a board at a link, too: whoever runs it there holds its scores against these. */
static bool run_elsewhere(sim *s) {
    const nsk_model_file *file = s->stage->model;
    nsk_model model;
    nsk_film_frame(s->stage->film, s->picture, s->framed);
    nsk_open(&model, file->bytes, file->size); /* what is broken here is whole there */
    nsk_prepare(&model, s->framed, (size_t)model.width * model.channels, s->workspace);
    nsk_run(&model, s->workspace, NULL);
    return file->elsewhere->run(file->elsewhere->context, s->framed,
                                (int32_t *)(void *)nsk_scores(&model, s->workspace), s->error);
}

static void sim_answer(void *context, const nsk_answered *answer) {
    sim *s = context;
    nsk_rehearsed *a = &s->taking;
    int truth = nsk_film_truth(s->stage->film, s->frame);
    a->class_index = class_of(s, answer);
    a->probability =
        (float)answer->scores[MIN(a->class_index, answer->model->classes - 1)] / (float)NSK_CERTAIN;
    a->line = answer->line;
    a->decided = answer->decided;
    s->result->known += truth != NSK_NOBODY_KNOWS;
    s->result->correct += nsk_film_shows(s->stage->film, s->frame, a->class_index);
    if (s->good && s->stage->capture != NULL) {
        s->good = capture(s, a, s->error);
    }
    if (s->good && s->framed != NULL) {
        s->good = run_elsewhere(s);
    }
    record(s, answer->scores);
}

static void sim_fault(void *context, nsk_fault fault) {
    sim *s = context;
    s->taking.fault = fault;
    s->result->faulted++;
    record(s, NULL);
}

/* ---- a run ---- */

/* What the product holds of its camera's pictures, where the film gives the model's frames and the
 * firmware so needs less of it. */
static size_t camera_bytes_besides(const sim *s) {
    const nsk_product *p = s->stage->product;
    bool scaled =
        s->lines == NULL &&
        (!nsk_sensor_is_plain(&p->sensor) ||
         (p->camera_width > 0 && (p->camera_width != s->width || p->camera_height != s->height)));
    double held = s->stage->budget->ram_camera;
    double looked = p->check_frames
                        ? (double)nsk_frame_check_bytes((unsigned)s->width, (unsigned)s->height,
                                                        s->model.channels)
                        : 0.0;
    return scaled ? (size_t)fmax(held - looked - (double)NSK_LOOP_BYTES, 0.0) : 0;
}

static void run_firmware(void *context) {
    sim *s = context;
    const nsk_port port = {.context = s,
                           .memory = sim_memory,
                           .row = sim_row,
                           .prepared = sim_prepared,
                           .layer_done = sim_layer_done,
                           .answer = sim_answer,
                           .fault = sim_fault};
    nsk_firmware firmware =
        nsk_firmware_of(s->stage->product, s->stage->decision, &s->model, &s->lists);
    if (s->lines == NULL) { /* of held-out images: the frames themselves */
        firmware.sensing = NULL;
    }
    firmware.camera_width = (uint16_t)s->width;
    firmware.camera_height = (uint16_t)s->height;
    if (setjmp(s->reset) != 0) {
        s->result->resets++;
        s->now += START_UP;
        nsk_ram_lose(s->ram, (unsigned)s->frame + 1U);
    }
    nsk_ram_take(s->ram, (size_t)s->stage->budget->ram_stack + camera_bytes_besides(s));
    s->status = nsk_firmware_run(&port, &firmware);
}

static bool play(sim *s) {
    const nsk_board *board = s->stage->board;
    s->ram = nsk_ram_new((size_t)board->ram, s->error);
    if (s->ram == NULL) {
        return false;
    }
    s->good = true;
    bool good = nsk_ram_guard(s->ram, run_firmware, s, s->error);
    if (!good) {
        nsk_fail_in(s->error, "board '%s'", board->name);
    } else if (s->good && s->status != NSK_STATUS_OK) {
        good = nsk_fail(
            s->error, "board '%s': the firmware cannot begin with pictures of %d x %d: %s",
            board->name, s->width, s->height,
            s->status == NSK_STATUS_PICTURE_SMALL ? "they are smaller than the model's frames"
                                                  : nsk_status_text(s->status));
    }
    nsk_ram_free(s->ram);
    return good && s->good;
}

static void finish(sim *s) {
    const nsk_board *board = s->stage->board;
    nsk_rehearsal *r = s->result;
    r->taken = (int)s->answers->len;
    r->seconds = fmax(s->now, r->frames / board->frame_rate);
    double idle = fmax(board->idle_power, 0.0);
    r->joules = board->active_power < 0.0
                    ? -1.0
                    : board->active_power * r->busy + idle * (r->seconds - r->busy);
    r->answers = (nsk_rehearsed *)(void *)g_array_free(s->answers, FALSE);
    r->scores = (int32_t *)(void *)g_array_free(s->scores, FALSE);
}

nsk_rehearsal *nsk_board_play(const nsk_stage *stage, nsk_error *error) {
    sim s = {.stage = stage,
             .flash = g_memdup2(stage->model->bytes, stage->model->size),
             .flipped = stage->model->size,
             .lost_at = -1,
             .answers = g_array_new(FALSE, FALSE, sizeof(nsk_rehearsed)),
             .scores = g_array_new(FALSE, FALSE, sizeof(int32_t)),
             .result = g_new0(nsk_rehearsal, 1),
             .error = error};
    nsk_status status = nsk_open(&s.model, s.flash, stage->model->size);
    bool good =
        status == NSK_STATUS_OK || nsk_fail(error, "the model is %s", nsk_status_text(status));
    if (good) {
        s.result->frames = nsk_film_frames(stage->film);
        s.result->classes = s.model.classes;
        nsk_film_size(stage->film, &s.width, &s.height);
        s.picture = g_malloc0((size_t)s.width * (size_t)s.height * s.model.channels);
        if (stage->model->elsewhere != NULL) {
            s.framed = g_malloc((size_t)s.model.width * s.model.height * s.model.channels);
            s.workspace = g_malloc(s.model.workspace_bytes);
        }
        const size_t sent = nsk_film_sent(stage->film);
        s.lines = sent > 0 ? g_malloc0(sent) : NULL;
        good = play(&s);
    }
    finish(&s);
    g_free(s.lines);
    g_free(s.framed);
    g_free(s.workspace);
    g_free(s.picture);
    g_free(s.flash);
    if (!good) {
        nsk_rehearsal_free(s.result);
        return NULL;
    }
    return s.result;
}

void nsk_rehearsal_free(nsk_rehearsal *r) {
    if (r != NULL) {
        g_free(r->answers);
        g_free(r->scores);
        g_free(r->event);
        g_free(r);
    }
}
