/* Pictures and what is known of them as events of the page. */
#include <string.h>

#include "netsuke/classify.h"
#include "netsuke/tools.h"
#include "table.h"
#include "watch.h"

enum { MOST_SIDE = 512 }; /* of the picture that is shown */

/* ---- lines and faults ---- */

void cli_watch_lines(cli_watch *watch) {
    const nsk_brief *brief = watch->context->brief;
    const nsk_decision *d = &brief->decision;
    const bool rests_behind = d->lines > 0 || d->thresholds != NULL;
    const int lines = d->lines > 0 ? d->lines : brief->labels.count;
    watch->lines = lines + (rests_behind ? 1 : 0);
    watch->resting = rests_behind ? lines : -1;
    for (int c = 0; c < brief->labels.count && !rests_behind && d->resting != NULL; c++) {
        if (strcmp(brief->labels.names[c], d->resting) == 0) {
            watch->resting = c;
        }
    }
}

const char *cli_watch_line(const cli_watch *watch, int line) {
    const nsk_brief *brief = watch->context->brief;
    return nsk_line_name(&brief->decision, &brief->labels, line);
}

const char *cli_watch_fault(nsk_fault fault) {
    static const char *const words[NSK_FAULTS] = {[NSK_FAULT_NONE] = "",
                                                  [NSK_FAULT_CAMERA_LATE] = "camera late",
                                                  [NSK_FAULT_PICTURE_CUT] = "picture cut",
                                                  [NSK_FAULT_PICTURE_FROZEN] = "picture frozen",
                                                  [NSK_FAULT_PIXELS_STUCK] = "pixels stuck",
                                                  [NSK_FAULT_ROWS_REPEATED] = "rows repeated",
                                                  [NSK_FAULT_MODEL_DAMAGED] = "model damaged",
                                                  [NSK_FAULT_RUNS_DIFFER] = "runs differ",
                                                  [NSK_FAULT_MEMORY_DAMAGED] = "memory damaged"};
    return words[fault];
}

static int answer_of(const cli_watch *watch, const nsk_live_frame *frame) {
    return frame->fault == NSK_FAULT_NONE
               ? nsk_ranked(frame->by_integer, watch->context->brief->labels.count, 0)
               : -1;
}

const char *cli_watch_worth(const cli_watch *watch, const nsk_live_frame *frame) {
    const int answer = answer_of(watch, frame);
    if (answer < 0) {
        return NULL;
    }
    if (nsk_ranked(frame->by_float, watch->context->brief->labels.count, 0) != answer) {
        return "float says another";
    }
    return frame->line < 0                                 ? "unsure"
           : watch->answer >= 0 && watch->answer != answer ? "changed"
                                                           : NULL;
}

void cli_watch_count(cli_watch *watch, const nsk_live_frame *frame) {
    const gint64 now = g_get_monotonic_time();
    const double since = (double)(now - watch->last) / 1e6;
    if (watch->seen > 0 && since > 0.0) { /* each picture counts a tenth */
        watch->rate = watch->seen == 1 ? 1.0 / since : 0.9 * watch->rate + 0.1 / since;
    }
    watch->last = now;
    watch->seen++;
    watch->answer = answer_of(watch, frame);
    watch->faulted += frame->fault != NSK_FAULT_NONE;
    watch->decided += frame->decided >= 0;
    watch->differ += frame->differs;
    bool outside = false;
    for (int k = 0; k < NSK_LIGHTS; k++) {
        outside = outside || frame->outside[k] != 0;
    }
    watch->outside += outside;
    watch->dropped = frame->dropped;
    for (int i = 0; i < NSK_LIVE_PARTS; i++) {
        watch->took[i] += frame->took[i];
    }
}

/* ---- JSON ---- */

char *cli_watch_text(JsonBuilder *builder) {
    JsonNode *root = json_builder_get_root(builder);
    char *text = json_to_string(root, FALSE);
    json_node_unref(root);
    g_object_unref(builder);
    return text;
}

static char *finish(JsonBuilder *b) {
    json_builder_end_object(b);
    return cli_watch_text(b);
}

static JsonBuilder *start(void) {
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    return b;
}

static void add_truth(JsonBuilder *b, const char *name, bool truth) {
    json_builder_set_member_name(b, name);
    json_builder_add_boolean_value(b, truth);
}

static void add_names(JsonBuilder *b, const cli_watch *watch) {
    const nsk_labels *labels = &watch->context->brief->labels;
    json_builder_set_member_name(b, "labels");
    json_builder_begin_array(b);
    for (int i = 0; i < labels->count; i++) {
        json_builder_add_string_value(b, labels->names[i]);
    }
    json_builder_end_array(b);
    json_builder_set_member_name(b, "lines");
    json_builder_begin_array(b);
    for (int i = 0; i < watch->lines; i++) {
        json_builder_add_string_value(b, cli_watch_line(watch, i));
    }
    json_builder_end_array(b);
}

/* Between which the light of calibration images is; nothing where there are none. */
static void add_known(JsonBuilder *b, const cli_watch *watch) {
    json_builder_set_member_name(b, "known");
    json_builder_begin_array(b);
    for (int k = 0; k < NSK_LIGHTS; k++) {
        double range[2];
        if (nsk_live_known(watch->live, (nsk_light)k, &range[0], &range[1])) {
            json_builder_begin_array(b);
            json_builder_add_double_value(b, range[0]);
            json_builder_add_double_value(b, range[1]);
            json_builder_end_array(b);
        }
    }
    json_builder_end_array(b);
}

char *cli_watch_about(const cli_watch *watch) {
    const cli_context *context = watch->context;
    const nsk_on_board *board = context->on_board;
    JsonBuilder *b = start();
    char *camera = strcmp(watch->camera, "board") == 0 ? g_strdup("the board's camera")
                   : strcmp(watch->camera, "-") == 0   ? g_strdup("a camera on standard input")
                                                       : g_path_get_basename(watch->camera);
    char *where = board != NULL ? g_strdup_printf("on the board: %s, over %s",
                                                  nsk_on_board_self(board)->core, context->on)
                                : g_strdup("here");
    char *below = g_strdup_printf("%s, integers %s", camera, where);
    cli_json_text(b, "model", nsk_model_fact(&watch->model, NSK_FACT_NAME));
    cli_json_text(b, "below", below);
    cli_json_text(b, "where", where);
    cli_json_int(b, "count", nsk_live_count(watch->live));
    cli_json_int(b, "width", watch->model.width);
    cli_json_int(b, "height", watch->model.height);
    cli_json_int(b, "channels", watch->model.channels);
    cli_json_int(b, "resting", watch->resting);
    cli_json_real(b, "clock", board != NULL ? nsk_on_board_self(board)->clock : 0.0);
    add_truth(b, "far", board != NULL);
    add_truth(b, "looks", strcmp(watch->camera, "board") == 0);
    add_truth(b, "emulated", board != NULL && g_str_has_prefix(context->on, "emulate:"));
    add_names(b, watch);
    add_known(b, watch);
    g_free(below);
    g_free(where);
    g_free(camera);
    return finish(b);
}

static void add_probabilities(JsonBuilder *b, const char *name, const float *p, int classes) {
    json_builder_set_member_name(b, name);
    json_builder_begin_array(b);
    for (int c = 0; c < classes; c++) {
        json_builder_add_double_value(b, (double)p[c]);
    }
    json_builder_end_array(b);
}

/* What the integers say is there: the likeliest class, or all labels that reach their thresholds.
 */
static void add_said(JsonBuilder *b, const cli_watch *watch, const nsk_live_frame *frame) {
    const double *thresholds = watch->context->brief->decision.thresholds;
    const int classes = watch->model.classes;
    const int best = nsk_ranked(frame->by_integer, classes, 0);
    json_builder_set_member_name(b, "said");
    json_builder_begin_array(b);
    for (int c = 0; c < classes; c++) {
        json_builder_add_boolean_value(
            b, thresholds != NULL ? (double)frame->by_integer[c] >= thresholds[c] : c == best);
    }
    json_builder_end_array(b);
}

/* How likely a line is: all of its classes together. */
static double likely(const cli_watch *watch, const nsk_live_frame *frame) {
    const nsk_decision *d = &watch->context->brief->decision;
    double sum = 0.0;
    for (int c = 0; c < watch->model.classes; c++) {
        const int line = d->lines == 0 ? c : d->line_of[c] >= 0 ? d->line_of[c] : d->lines;
        sum += line == frame->line ? (double)frame->by_integer[c] : 0.0;
    }
    return d->thresholds != NULL && frame->line == watch->resting ? 1.0 : MIN(sum, 1.0);
}

/* The network's own pixels: red, green and blue, or grey. */
static char *pixels_of(const cli_watch *watch, const nsk_live_frame *frame) {
    const size_t bytes = (size_t)watch->model.width * watch->model.height * watch->model.channels;
    uint8_t *copy = g_memdup2(frame->frame, bytes);
    if (watch->model.colour == NSK_COLOUR_BGR) {
        for (size_t i = 0; i < bytes; i += 3) {
            copy[i] = frame->frame[i + 2];
            copy[i + 2] = frame->frame[i];
        }
    }
    char *text = g_base64_encode(copy, bytes);
    g_free(copy);
    return text;
}

static void add_answers(JsonBuilder *b, const cli_watch *watch, const nsk_live_frame *frame) {
    if (frame->fault != NSK_FAULT_NONE) {
        cli_json_text(b, "fault", cli_watch_fault(frame->fault));
    } else {
        add_probabilities(b, "integer", frame->by_integer, watch->model.classes);
        add_probabilities(b, "float", frame->by_float, watch->model.classes);
        add_said(b, watch, frame);
        cli_json_real(b, "likely", likely(watch, frame));
    }
    cli_json_int(b, "line", frame->line);
    cli_json_int(b, "decided", frame->decided);
    cli_json_int(b, "standing", frame->standing);
}

/* A file, and the folder that it stands in. */
static const char *short_name(const char *path) {
    const char *at = path + strlen(path);
    for (int slashes = 0; at > path && slashes < 2; at--) {
        slashes += at[-1] == G_DIR_SEPARATOR;
        if (slashes == 2) {
            break;
        }
    }
    return at;
}

char *cli_watch_seen(const cli_watch *watch, const nsk_live_frame *frame, const char *worth) {
    const nsk_on_board *board = watch->context->on_board;
    JsonBuilder *b = start();
    char *picture = nsk_live_picture(frame, MOST_SIDE);
    char *pixels = pixels_of(watch, frame);
    cli_json_int(b, "number", frame->number);
    cli_json_real(b, "at", (double)(g_get_monotonic_time() - watch->began) / 1e6);
    cli_json_text(b, "name", short_name(frame->name));
    cli_json_int(b, "truth", frame->truth);
    cli_json_int(b, "width", frame->width);
    cli_json_int(b, "height", frame->height);
    cli_json_text(b, "picture", picture);
    cli_json_text(b, "frame", pixels);
    add_answers(b, watch, frame);
    if (worth != NULL) {
        cli_json_text(b, "worth", worth);
    }
    cli_json_int(b, "dropped", frame->dropped);
    cli_json_real(b, "fps", watch->rate);
    cli_json_int(b, "differ", watch->differ);
    if (board != NULL && frame->ticks > 0.0) {
        const nsk_board_self *self = nsk_on_board_self(board);
        cli_json_real(b, "clocks", frame->ticks * self->clock / self->tick);
    }
    json_builder_set_member_name(b, "light");
    json_builder_begin_array(b);
    for (int k = 0; k < NSK_LIGHTS; k++) {
        json_builder_add_double_value(b, frame->light[k]);
    }
    json_builder_end_array(b);
    json_builder_set_member_name(b, "took");
    json_builder_begin_array(b);
    for (int i = 0; i < NSK_LIVE_PARTS; i++) {
        json_builder_add_double_value(b, frame->took[i]);
    }
    json_builder_end_array(b);
    g_free(pixels);
    nsk_string_free(picture);
    return finish(b);
}

char *cli_watch_pace(bool paused, double speed) {
    JsonBuilder *b = start();
    add_truth(b, "paused", paused);
    cli_json_real(b, "speed", speed);
    return finish(b);
}

char *cli_watch_end(const char *why) {
    JsonBuilder *b = start();
    cli_json_text(b, "why", why);
    return finish(b);
}
