/* The device half on models made field by field: refused, or run in bounds, and whole frames, rows
 * one at a time, the plain loops and the formulas all give the same scores; then the camera's
 * scaler, the look at pictures, the rule and the product's loop on them. */
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "device/layer.h"
#include "device/work.h"
#include "made.h"
#include "netsuke/firmware.h"
#include "reference/reference.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

/* src/device once more, without vectors. */
nsk_status plain_nsk_open(nsk_model *model, const void *bytes, size_t size);
void plain_nsk_prepare(const nsk_model *model, const uint8_t *frame, size_t stride,
                       void *workspace);
void plain_nsk_run(const nsk_model *model, void *workspace, const nsk_observer *observer);

enum { MOST_WORKSPACE = 1 << 21, MOST_WORK = 1 << 17 };

/* What is never to be. */
static void demand(bool good, const char *what) {
    if (!good) {
        fprintf(stderr, "fuzz-device: %s\n", what);
        abort();
    }
}

/* The formulas look at every tap, whether it meets the picture or not. */
static uint64_t work_of(const nsk_model *model) {
    nsk_work stream = nsk_stream_work(model);
    uint64_t work = stream.rows + stream.moved;
    for (unsigned i = 0; i < model->layers; i++) {
        nsk_work w = nsk_layer_work(model, i);
        nsk_layer l;
        nsk_layer_decode(model, i, &l);
        uint64_t taps = nsk_kind_has_window(l.kind) ? nsk_kernel_area(&l) : 1U;
        /* they add up a block for each of its numbers */
        uint64_t block = l.kind == NSK_KIND_NORMALISE         ? l.in.channels
                         : l.kind == NSK_KIND_NORMALISE_WHOLE ? w.outputs
                                                              : 1U;
        work += w.macs + w.outputs * taps * block + w.moved + w.products;
    }
    return work;
}

/* Every name is a text that ends. */
static void read_texts(const nsk_model *model) {
    size_t length = 0;
    unsigned tensors[3];
    for (unsigned i = 0; i < model->layers; i++) {
        length += strlen(nsk_layer_name(model, i));
        nsk_layer_tensors(model, i, tensors);
        nsk_tensor_at(model, nsk_layer_output(model, i));
    }
    for (unsigned i = 0; i < model->classes; i++) {
        length += strlen(nsk_label(model, i));
    }
    for (unsigned i = 0; i < NSK_FACTS; i++) {
        length += strlen(nsk_model_fact(model, (nsk_fact)i));
    }
    demand(length < MADE_ROOM * 64U, "texts without an end");
}

static void count_call(void *context, const nsk_model *model, unsigned layer) {
    (void)model;
    (void)layer;
    ++*(unsigned *)context;
}

/* Memory that nobody has cleared. */
static void *soiled(size_t bytes, int with) {
    void *memory = malloc(bytes + 1);
    demand(memory != NULL, "no memory");
    memset(memory, with, bytes + 1);
    return realloc(memory, bytes);
}

/* Rows one at a time, each in memory of its own. */
static void run_rows(const nsk_model *model, const uint8_t *frame, const int32_t *expected) {
    const size_t row = (size_t)model->width * model->channels;
    void *workspace = soiled(model->workspace_bytes, 0xaa);
    uint8_t *one = soiled(row, 0);
    unsigned before = 0;
    unsigned after = 0;
    const nsk_observer counts = {.before = count_call, .context = &before};
    const nsk_observer ends = {.after = count_call, .context = &after};
    nsk_feed feed;
    nsk_start(&feed, model, workspace, &counts);
    for (unsigned y = 0; y < model->height; y++) {
        memcpy(one, frame + y * row, row);
        demand(nsk_feed_rows(&feed, one, row, 1) == model->height - 1U - y, "rows miscounted");
    }
    demand(nsk_feed_rows(&feed, one, row, 3) == 0, "rows behind the end are taken");
    nsk_run(model, workspace, &ends);
    demand(after == model->layers - (unsigned)model->streamed, "a layer did not run");
    demand(memcmp(nsk_scores(model, workspace), expected, 4U * (size_t)model->classes) == 0,
           "rows one at a time give other scores than the whole frame");
    free(one);
    free(workspace);
}

/* What plain C leaves out: this build of it has no streams and no constants. */
static bool is_left_out(const nsk_model *model) {
    bool left_out = model->streamed > 0;
    for (unsigned i = 0; i < model->layers; i++) {
        left_out = left_out || nsk_layer_kind(model, i) == NSK_KIND_CONSTANT;
    }
    return left_out;
}

static void run_plain(const nsk_model *model, const uint8_t *frame, const int32_t *expected) {
    nsk_model plain;
    nsk_status status = plain_nsk_open(&plain, model->bytes, model->size);
    demand(status == (is_left_out(model) ? NSK_STATUS_KIND_MISSING : NSK_STATUS_OK),
           "plain C disagrees to open");
    if (status != NSK_STATUS_OK) {
        return;
    }
    void *workspace = soiled(model->workspace_bytes, 0x33);
    plain_nsk_prepare(&plain, frame, (size_t)model->width * model->channels, workspace);
    plain_nsk_run(&plain, workspace, NULL);
    demand(memcmp(nsk_scores(model, workspace), expected, 4U * (size_t)model->classes) == 0,
           "plain C gives other scores than this processor's kernels");
    free(workspace);
}

static void run_formulas(const nsk_model *model, const uint8_t *frame, const int32_t *expected) {
    int32_t *scores = soiled(4U * (size_t)model->classes, 0);
    nsk_reference_scores(model, frame, scores);
    demand(memcmp(scores, expected, 4U * (size_t)model->classes) == 0,
           "the formulas give other scores than the kernels");
    free(scores);
}

static void run_every_way(const nsk_model *model, draws *d) {
    const size_t row = (size_t)model->width * model->channels;
    uint8_t *frame = soiled(row * model->height, 0);
    int8_t *workspace = soiled(model->workspace_bytes, 0x55);
    for (size_t i = 0; i < row * model->height; i++) {
        frame[i] = draw_byte(d);
    }
    nsk_prepare(model, frame, row, workspace);
    nsk_run(model, workspace, NULL);
    const int32_t *scores = nsk_scores(model, workspace);
    demand(nsk_best(model, scores) < model->classes, "the best is no class");
    run_rows(model, frame, scores);
    run_plain(model, frame, scores);
    run_formulas(model, frame, scores);
    free(workspace);
    free(frame);
}

/* ---- the product's loop on a camera that does what it likes ---- */

enum { MOST_MEMORIES = 8 };

typedef struct camera {
    draws *d;
    void *memories[MOST_MEMORIES];
    unsigned taken, rows, pictures, height;
    unsigned first;  /* row of a picture */
    unsigned before; /* memories before the frame: of the sensor's lines */
    bool short_of_memory, broken;
    uint8_t *flash;                /* the model's bytes: changed while it runs, now and then */
    uint32_t flash_bytes, flipped; /* which byte; 0: none */
    nsk_firmware *firmware;
    size_t memory_bytes[MOST_MEMORIES];
    bool spoils; /* memory, behind the last layer */
    unsigned answers, faults;
} camera;

static void *give_memory(void *context, size_t bytes) {
    camera *c = context;
    bool none = c->taken == MOST_MEMORIES || (c->short_of_memory && draw_chance(c->d, 100));
    void *memory = none ? NULL : soiled(bytes, 0x99);
    if (memory != NULL) {
        c->memory_bytes[c->taken] = bytes;
        c->memories[c->taken++] = memory;
    }
    return memory;
}

/* A bit of the model, or the same one back. */
static void flip(camera *c) {
    if (c->flipped == 0) {
        c->flipped = 1U + draw(c->d, c->flash_bytes - 1U);
    } else if (draw_chance(c->d, 60)) {
        return;
    }
    c->flash[c->flipped] ^= 16U;
}

static nsk_row give_row(void *context, uint8_t *to, size_t bytes, unsigned y) {
    camera *c = context;
    uint8_t way = draw_byte(c->d);
    if (y == c->first && c->pictures == 0) {
        return NSK_ROW_END;
    }
    c->pictures -= y == c->first;
    if (c->firmware->sensing != NULL) {
        demand(y < nsk_sensor_lines(&c->firmware->sensing->sensor, c->height),
               "a line that is none");
    }
    if (way < 2) {
        return way == 0 ? NSK_ROW_LATE : NSK_ROW_CUT;
    }
    if (c->broken && y == c->first &&
        draw_chance(c->d, 100)) { /* looked for before anything is read */
        flip(c);
    }
    if (way < 250) { /* else as the row before */
        for (size_t i = 0; i < bytes; i++) {
            to[i] = way < 8 ? way : draw_byte(c->d);
        }
    }
    return NSK_ROW_THERE;
}

/* Another frame, a guard, what the rule remembers, the rule itself. */
static void spoil(camera *c, const nsk_model *model) {
    uint8_t *workspace = c->memories[c->before + 1U]; /* behind the frame */
    const size_t behind = 4U + ((size_t)model->workspace_bytes + 3U) / 4U * 4U;
    switch (draw(c->d, 5)) {
    case 0:
        memset(c->memories[c->before], draw_byte(c->d), c->memory_bytes[c->before]);
        break;
    case 1:
        workspace[draw(c->d, 4)] ^= 1U;
        break;
    case 2:
        workspace[behind + draw(c->d, 4)] ^= 1U;
        break;
    case 3:
        workspace[behind + 4U + draw(c->d, sizeof(nsk_decider))] ^= 1U;
        break;
    default:
        c->firmware->rule.threshold ^= 1U;
        break;
    }
}

static void is_prepared(void *context) {
    ((camera *)context)->rows = 0;
}

static void sees_layer(void *context, const nsk_model *model, unsigned layer) {
    camera *c = context;
    bool last = layer + 1U == model->layers;
    demand(layer < model->layers, "a layer that is none");
    if (!last || model->streamed > 0) {
        return;
    }
    if (c->broken && draw_chance(c->d, 60)) {
        flip(c); /* looked for before the scores are read */
    }
    if (c->spoils && draw_chance(c->d, 60)) {
        spoil(c, model);
    }
}

static void keeps_row(void *context, const uint8_t *row, size_t bytes, unsigned y) {
    camera *c = context;
    demand(row != NULL && bytes > 0 && y < c->height, "a row that is none");
    c->rows++;
}

static void hears_answer(void *context, const nsk_answered *a) {
    camera *c = context;
    demand(a->line >= NSK_UNSURE && a->line <= a->model->classes && a->decided >= NSK_NOTHING &&
               (a->decided == NSK_NOTHING || a->decided == a->line),
           "an answer that is none");
    c->answers++;
}

static void hears_fault(void *context, nsk_fault fault) {
    demand(fault > NSK_FAULT_NONE && fault < NSK_FAULTS, "a fault that is none");
    ((camera *)context)->faults++;
}

static void draw_rule(draws *d, const nsk_model *model, uint8_t *lines, uint32_t *thresholds,
                      nsk_rule *rule) {
    *rule = (nsk_rule){.threshold = (uint32_t)draw_byte(d) << 22,
                       .margin = draw(d, draw_chance(d, 128) ? 1 : 256) << 22,
                       .frames = (uint8_t)draw(d, 6),
                       .window = (uint8_t)draw(d, draw_chance(d, 100) ? NSK_MOST_WINDOW + 1 : 1),
                       .hold_off = (uint8_t)draw(d, 5),
                       .resting = (uint16_t)draw(d, model->classes + 1U)};
    if (rule->hold_off == 3) { /* of what is drawn already: the seeds keep their meaning */
        rule->thresholds = thresholds;
        for (unsigned i = 0; i < model->classes; i++) {
            thresholds[i] = (rule->threshold ^ i % 50U * 77777777U) % (NSK_CERTAIN + 1U);
        }
    }
    if (draw_chance(d, 128)) {
        rule->line_count = (uint8_t)(1U + draw(d, model->classes < 6 ? model->classes : 6U));
        rule->line_of = lines;
        for (unsigned i = 0; i < model->classes; i++) {
            lines[i] = draw_chance(d, 60) ? NSK_NO_LINE : (uint8_t)draw(d, rule->line_count);
        }
    }
}

/* Of a camera: mostly as large as the frame, or larger. */
static uint16_t draw_side(draws *d, unsigned of_frame) {
    uint8_t way = draw_byte(d);
    return (uint16_t)(way < 5    ? 0
                      : way < 10 ? draw(d, 65536)
                      : way < 20 ? draw(d, of_frame)
                                 : of_frame + draw(d, 40));
}

/* The camera's helpers by themselves, on sizes that may be none. */
static void try_helpers(const nsk_model *model, draws *d) {
    nsk_scaler scaler;
    nsk_frame_check frame_check;
    const unsigned height = 1U + draw(d, 5);
    const unsigned width = draw_side(d, model->width);
    void *sums = soiled(nsk_scaler_bytes(model), 0x77);
    void *memory = soiled(nsk_frame_check_bytes(width + 1U, height, 3), 0x77);
    uint8_t *row = soiled(3U * (width + 1U), 5);
    nsk_status status = nsk_scaler_set(&scaler, model, width, draw_side(d, model->height), sums);
    demand(status == NSK_STATUS_OK || status == NSK_STATUS_PICTURE_SMALL ||
               status == NSK_STATUS_INCONSISTENT,
           "a scaler of another status");
    nsk_frame_check_set(&frame_check, width + 1U, height, 3, memory);
    for (unsigned picture = 0; picture < 2; picture++) {
        nsk_frame_check_start(&frame_check);
        for (unsigned y = 0; y < height + draw(d, 2); y++) {
            row[draw(d, 3U * (width + 1U))] = draw_byte(d);
            nsk_frame_check_row(&frame_check, row);
        }
        nsk_frame_check_end(&frame_check);
    }
    free(row);
    free(memory);
    free(sums);
}

/* What is not even a whole file. */
static void open_parts(const uint8_t *file, uint32_t bytes, draws *d) {
    nsk_model model;
    const uint32_t size = draw(d, bytes);
    uint8_t *part = soiled(size + 1U, 0);
    memcpy(part, file, size);
    demand(nsk_open(&model, part + 1, size) == NSK_STATUS_MISALIGNED,
           "bytes stand where they like");
    part = realloc(part, size > 0 ? size : 1U);
    demand(nsk_open(&model, part, size) != NSK_STATUS_OK, "a part is opened");
    if (size > 16) {
        memset(part + 8, 0, 4); /* its size in the header */
        demand(nsk_open(&model, part, size) != NSK_STATUS_OK, "a file of no size is opened");
    }
    if (size > 0) {
        part[0] ^= 1U;
        demand(nsk_open(&model, part, size) != NSK_STATUS_OK, "another file is opened");
    }
    free(part);
}

/* From the last of what there is, so that all before it means what it did. */
static nsk_sensor draw_sensor(draws *d) {
    const uint8_t way = draw_byte(d);
    nsk_sensor s = {.format = (uint8_t)(way % (NSK_SENSOR_FORMATS + 1U)),
                    .full = draw_chance(d, 128),
                    .mirrored = draw_chance(d, 128),
                    .upside_down = draw_chance(d, 128)};
    if (draw_chance(d, 100)) {
        s.width = (uint16_t)(1U + draw(d, 40));
        s.height = (uint16_t)(1U + draw(d, 40));
        s.left = (uint16_t)draw(d, 6);
        s.top = (uint16_t)draw(d, 6);
    }
    return s;
}

static void run_loop(const nsk_model *model, uint8_t *bytes, draws *d) {
    uint8_t *lines = soiled(model->classes, 0);
    uint32_t *thresholds = (uint32_t *)(void *)soiled(model->classes * sizeof *thresholds, 0);
    camera c = {.d = d, .flash = bytes, .flash_bytes = model->size};
    nsk_firmware f = {
        .model = bytes, .model_bytes = model->size, .check_frames = draw_chance(d, 200)};
    c.short_of_memory = draw_chance(d, 20);
    c.broken = draw_chance(d, 128);
    f.model_bytes -= draw_chance(d, 5) ? 1U : 0U;
    if (draw_chance(d, 150)) {
        f.camera_width = draw_side(d, model->width);
        f.camera_height = draw_side(d, model->height);
    }
    /* what is broken and not looked for may lead anywhere */
    f.check_every = (uint16_t)draw(d, 3);
    c.broken = c.broken && f.check_every == 1;
    c.firmware = &f;
    c.spoils = f.check_every > 0 && draw_chance(d, 60);
    f.twice = draw_chance(d, 100);
    c.height = f.camera_height > 0 ? f.camera_height : model->height;
    const unsigned pictures = 1U + draw(d, 6);
    c.pictures = pictures;
    draw_rule(d, model, lines, thresholds, &f.rule);
    const nsk_sensing sensing = {draw_sensor(d), nsk_sensor_bytes, nsk_sensor_set, nsk_sensor_row};
    if (f.rule.hold_off == 4 &&
        !nsk_sensor_is_plain(
            &sensing.sensor)) { /* of what is drawn already: the seeds keep their meaning */
        f.sensing = &sensing;
        f.camera_width = (uint16_t)(f.camera_width / 2U * 2U);
        f.camera_height = (uint16_t)(f.camera_height / 2U * 2U);
        c.height = f.camera_height > 0 ? f.camera_height : model->height;
        c.first = sensing.sensor.upside_down ? c.height - 1U : 0U;
        c.before = 1;
    }
    const nsk_port port = {&c,         give_memory, give_row,     is_prepared,
                           sees_layer, keeps_row,   hears_answer, hears_fault};
    nsk_status status = nsk_firmware_run(&port, &f);
    demand(status != NSK_STATUS_OK || !f.twice || model->streamed == 0, "a stream is run twice");
    if (status == NSK_STATUS_OK) {
        demand(c.answers + c.faults == pictures, "a picture without an answer or a fault");
    }
    for (unsigned i = 0; i < c.taken; i++) {
        free(c.memories[i]);
    }
    free(lines);
    free(thresholds);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    static uint8_t room[MADE_ROOM];
    draws d = {data, data + size, 0x1234567};
    nsk_model model;
    bool twisted = draw_chance(&d, 90);
    uint32_t bytes = made_model(&d, room);
    if (bytes == 0) {
        return 0;
    }
    uint8_t *file = malloc(bytes);
    memcpy(file, room, bytes);
    if (twisted) {
        made_twist(&d, file, bytes);
    }
    made_seal(file, bytes);
    nsk_status status = nsk_open(&model, file, bytes);
    demand(strlen(nsk_status_text(status)) > 0, "a status without a text");
    if (draw_chance(&d, 10)) {
        open_parts(file, bytes, &d);
    }
    if (status == NSK_STATUS_OK) {
        read_texts(&model);
        if (work_of(&model) <= MOST_WORK && model.workspace_bytes <= MOST_WORKSPACE) {
            run_every_way(&model, &d);
            try_helpers(&model, &d);
            run_loop(&model, file, &d);
        }
    }
    free(file);
    return 0;
}
