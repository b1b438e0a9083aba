#include "emit/product.h"

#include <string.h>

#include "brief/labels.h"
#include "brief/rule.h"
#include "emit/templates/test_camera.h"
#include "netsuke/link.h"

enum { NOISE_PICTURES = 3, MOST_EACH = 4, MOST_SHOWN = 4 };

/* What counts where nobody says anything of a product. */
static const nsk_product plain_product = {.awake = 1.0};
static const nsk_decision plain_decision = {.threshold = 0.5, .frames = 1};

static nsk_firmware firmware_of(const nsk_handed_network *n, const nsk_model *model,
                                nsk_rule_lists *lists) {
    return nsk_firmware_of(n->product != NULL ? n->product : &plain_product,
                           n->decision != NULL ? n->decision : &plain_decision, model, lists);
}

/* ---- the source ---- */

static void append_lines(GString *text, const char *name, const uint8_t *line_of,
                         unsigned classes) {
    g_string_append_printf(text,
                           "/* Of each class, in the order of the scores. */\n"
                           "static const uint8_t %s_line_of[] = {",
                           name);
    for (unsigned c = 0; c < classes; c++) {
        g_string_append_printf(text, "%s%u", c == 0 ? "" : ", ", line_of[c]);
    }
    g_string_append(text, "};\n\n");
}

static void append_thresholds(GString *text, const char *name, const uint32_t *thresholds,
                              unsigned classes) {
    g_string_append_printf(text,
                           "/* Of each label, in the order of the scores, in units of 2^-30. */\n"
                           "static const uint32_t %s_thresholds[] = {",
                           name);
    for (unsigned c = 0; c < classes; c++) {
        g_string_append_printf(text, "%s%uU", c == 0 ? "" : ", ", thresholds[c]);
    }
    g_string_append(text, "};\n\n");
}

/* What stands for it in the firmware; g_free. */
static char *append_sensing(GString *text, const char *name, const nsk_sensing *sensing) {
    if (sensing == NULL) {
        return g_strdup("NULL");
    }
    const nsk_sensor *s = &sensing->sensor;
    g_string_append_printf(
        text,
        "/* The format's number in netsuke/sensor.h, all levels of Y, mirrored, upside down; left, "
        "top, width and height\n * of the part that is looked at. */\n"
        "static const nsk_sensing %s_sensing = {\n    {%u, %s, %s, %s, %u, %u, %u, %u}, "
        "nsk_sensor_bytes, nsk_sensor_set, nsk_sensor_row};\n\n",
        name, s->format, s->full ? "true" : "false", s->mirrored ? "true" : "false",
        s->upside_down ? "true" : "false", s->left, s->top, s->width, s->height);
    return g_strdup_printf("&%s_sensing", name);
}

GString *nsk_firmware_source(const nsk_handed_network *n, const nsk_model *model) {
    nsk_rule_lists lists;
    nsk_firmware f = firmware_of(n, model, &lists);
    GString *text = g_string_new(NULL);
    g_string_append_printf(text,
                           "/* The product around the network, as the brief describes it: what "
                           "nsk_firmware_run takes. */\n#include \"%s.h\"\n\n",
                           n->name);
    if (f.rule.line_of != NULL) {
        append_lines(text, n->name, lists.line_of, model->classes);
    }
    if (f.rule.thresholds != NULL) {
        append_thresholds(text, n->name, lists.thresholds, model->classes);
    }
    char *sensing = append_sensing(text, n->name, f.sensing);
    char *thresholds =
        f.rule.thresholds != NULL ? g_strdup_printf("%s_thresholds", n->name) : g_strdup("NULL");
    char *lines =
        f.rule.line_of != NULL ? g_strdup_printf("%s_line_of", n->name) : g_strdup("NULL");
    g_string_append_printf(
        text,
        "const nsk_firmware %s_firmware = {\n"
        "    %s_model, sizeof %s_model,\n"
        "    %u, /* the camera's width ... */\n"
        "    %u, /* ... and height, pixels; 0: the model's */\n"
        "    %s, /* what the camera's rows are */\n"
        "    %u, /* frames between two looks at the model's checksum; 0: none */\n"
        "    %s, /* pictures are looked at */\n"
        "    %s, /* a frame is run twice before its action */\n"
        "    {\n"
        "        %u, /* threshold, in units of 2^-30 */\n"
        "        %u, /* margin */\n"
        "        %u, /* frames, ... */\n"
        "        %u, /* ... of a window of so many; 0: in a row */\n"
        "        %u, /* hold-off, frames */\n"
        "        %u, /* lines, where there are groups */\n"
        "        %u, /* the line at rest; %u: none */\n"
        "        %s, /* the line of each class */\n"
        "        %s, /* a threshold of each, where there may be several labels at once */\n"
        "    },\n"
        "};\n",
        n->name, n->name, n->name, f.camera_width, f.camera_height, sensing, f.check_every,
        f.check_frames ? "true" : "false", f.twice ? "true" : "false", f.rule.threshold,
        f.rule.margin, f.rule.frames, f.rule.window, f.rule.hold_off, f.rule.line_count,
        f.rule.resting, UINT16_MAX, lines, thresholds);
    g_free(lines);
    g_free(thresholds);
    g_free(sensing);
    return text;
}

/* ---- what the loop does ---- */

typedef struct trial {
    test_camera camera;
    unsigned picture, pictures; /* shown so far, in all */
    GPtrArray *memory;
    size_t memory_bytes;
    GString *text;
} trial;

static void *take_memory(void *context, size_t bytes) {
    trial *t = context;
    size_t whole = (bytes + 3) / 4 * 4;
    void *memory = g_malloc0(whole);
    g_ptr_array_add(t->memory, memory);
    t->memory_bytes += whole;
    return memory;
}

static nsk_row show_row(void *context, uint8_t *to, size_t bytes, unsigned y) {
    trial *t = context;
    if (y == test_camera_first(&t->camera) && t->picture++ == t->pictures) {
        return NSK_ROW_END;
    }
    test_camera_row(&t->camera, t->picture - 1, y, to, bytes);
    return NSK_ROW_THERE;
}

static void pass_prepared(void *context) {
    (void)context;
}

static void pass_layer(void *context, const nsk_model *model, unsigned layer) {
    (void)context;
    (void)model;
    (void)layer;
}

static void take_answer(void *context, const nsk_answered *answer) {
    const trial *t = context;
    uint32_t sum = 0;
    for (unsigned c = 0; c < answer->model->classes; c++) {
        sum += (c + 1U) * (uint32_t)answer->scores[c];
    }
    g_string_append_printf(t->text, "\n    {0, %d, %d, %d},", answer->line, answer->decided,
                           (int)(int32_t)sum);
}

static void take_fault(void *context, nsk_fault fault) {
    const trial *t = context;
    g_string_append_printf(t->text, "\n    {%d, 0, 0, 0},", (int)fault);
}

/* The frames that come along, as the test has them. */
static bool take_frames(const nsk_handed_network *n, uint8_t **frames, unsigned *count,
                        nsk_error *error) {
    *count =
        n->tried != NULL ? MIN((unsigned)nsk_images_count(n->tried), (unsigned)MOST_SHOWN) : 0U;
    size_t bytes = n->tried != NULL ? nsk_images_frame_bytes(n->tried) : 0;
    bool good = true;
    *frames = *count > 0 ? g_malloc(bytes * *count) : NULL;
    for (unsigned i = 0; i < *count && good; i++) {
        good = nsk_images_frame(n->tried, (int)i, *frames + i * bytes, error);
    }
    return good;
}

bool nsk_append_steps(GString *text, const nsk_handed_network *n, const nsk_model *model,
                      unsigned *steps, unsigned *each, size_t *memory, nsk_error *error) {
    nsk_rule_lists lists;
    nsk_firmware f = firmware_of(n, model, &lists);
    uint8_t *frames;
    unsigned count;
    if (!take_frames(n, &frames, &count, error)) {
        g_free(frames);
        return false;
    }
    *each = CLAMP(f.rule.frames, 1U, (unsigned)MOST_EACH);
    *steps = count > 0 ? count * *each : (unsigned)NOISE_PICTURES;
    trial t = {.camera = {frames, count, *each, model->width, model->height, model->channels,
                          f.camera_width > 0 ? f.camera_width : model->width,
                          f.camera_height > 0 ? f.camera_height : model->height,
                          f.sensing != NULL ? &f.sensing->sensor : NULL},
               .pictures = *steps,
               .memory = g_ptr_array_new_with_free_func(g_free),
               .text = text};
    const nsk_port port = {.context = &t,
                           .memory = take_memory,
                           .row = show_row,
                           .prepared = pass_prepared,
                           .layer_done = pass_layer,
                           .answer = take_answer,
                           .fault = take_fault};
    g_string_append_printf(text, "static const self_test_step %s_steps[] = {", n->name);
    nsk_status status = nsk_firmware_run(&port, &f);
    g_string_append(text, "\n};\n\n");
    *memory = t.memory_bytes;
    g_ptr_array_free(t.memory, TRUE);
    g_free(frames);
    return status == NSK_STATUS_OK ||
           nsk_fail(error, "%s: the product's loop cannot begin: %s; look at [firmware] camera",
                    n->name, nsk_status_text(status));
}

/* ---- at a link ---- */

/* On a board at a link: for longer messages, and for what models that come later need. Bytes. */
enum { LONGER_MESSAGES = 1024, FOR_LATER = 16384 };

size_t nsk_link_memory(const nsk_handed_network *network, const nsk_model *model) {
    static const nsk_product plain = {0};
    const nsk_product *p = network->product != NULL ? network->product : &plain;
    const unsigned own[2] = {p->camera_width > 0 ? (unsigned)p->camera_width : model->width,
                             p->camera_height > 0 ? (unsigned)p->camera_height : model->height};
    const unsigned width = nsk_sensor_width(&p->sensor, own[0]);
    const unsigned height = nsk_sensor_height(&p->sensor, own[1]);
    const nsk_link_camera camera = {(uint16_t)width, (uint16_t)height, NULL, NULL};
    const nsk_link_port port = {.camera = &camera};
    return nsk_link_bytes(&port, model) + (size_t)width * height * model->channels +
           LONGER_MESSAGES + FOR_LATER;
}

size_t nsk_sensor_memory(const nsk_handed_network *network, const nsk_model *model) {
    const nsk_product *p = network->product;
    const unsigned width =
        p != NULL && p->camera_width > 0 ? (unsigned)p->camera_width : model->width;
    return p != NULL && !nsk_sensor_is_plain(&p->sensor)
               ? nsk_sensor_bytes(&p->sensor, width, model->channels)
               : 0;
}
