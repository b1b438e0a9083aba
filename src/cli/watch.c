/* netsuke watch: what a camera sees, and what the networks and the rule make of it, as it happens.
 */
#include "watch.h"

#include <glib-unix.h>
#include <signal.h>
#include <stdio.h>
#include <string.h>

#include "netsuke/classify.h"
#include "table.h"
#include "watch_keep.h"
#include "watch_serve.h"

typedef struct watch_options {
    char *camera, *listen, *into;
    gint frames, rate;
    gboolean plain;
} watch_options;

/* The page and the thread that looks, which share a pace. */
typedef struct show {
    cli_watch *watch;
    cli_serve *serve;
    cli_set *set;   /* NULL: nothing is kept */
    cli_keep *keep; /* NULL then, too */
    GMainLoop *loop;
    GThread *thread;
    const watch_options *own;
    nsk_live_state state; /* how it ended; THERE: it was told to */
    GMutex lock;
    GCond changed;
    bool stops, paused;
    int steps;    /* pictures that are wanted while it is paused */
    double speed; /* times its own rate; 0: as it comes */
    bool is_live; /* nobody can wait for it */
} show;

enum { USUAL_RATE = 10, MOST_SPEED = 64, SHOWN_CAMERA = 64 };

/* ---- the pace ---- */

/* By the lock: called with it. */
static void tell_pace(const show *s) {
    cli_serve_event(s->serve, "pace", cli_watch_pace(s->paused, s->speed), true);
}

/* By the lock. */
static bool change_pace(show *s, const char *what) {
    if (strcmp(what, "pause") == 0) {
        s->paused = !s->paused;
    } else if (strcmp(what, "step") == 0) {
        s->steps += s->paused;
    } else if (strcmp(what, "slower") == 0 || strcmp(what, "faster") == 0) {
        const double factor = what[0] == 's' ? 0.5 : 2.0;
        s->speed = s->speed > 0.0 ? CLAMP(s->speed * factor, 1.0 / MOST_SPEED, MOST_SPEED) : 0.0;
    } else {
        return false;
    }
    tell_pace(s);
    return true;
}

/* Whether it is something of the set's; `good`: and done. */
static bool change_set(const show *s, const cli_request *request, bool *good) {
    const char *what = request->what;
    if (strcmp(what, "keep") == 0) {
        *good = cli_keep_take(s->keep, request->number, request->label);
    } else if (strcmp(what, "back") == 0) {
        *good = cli_set_back(s->set);
    } else if (strcmp(what, "look") == 0) {
        *good = cli_set_look(s->set);
    } else if (strcmp(what, "move") == 0 || strcmp(what, "aside") == 0) {
        *good = cli_set_move(s->set, request, what[0] == 'a');
    } else {
        return false;
    }
    return true;
}

static bool asked(void *context, const cli_request *request) {
    show *s = context;
    bool known = true;
    if (s->set != NULL && change_set(s, request, &known)) {
        return known;
    }
    g_mutex_lock(&s->lock);
    known = change_pace(s, request->what);
    g_cond_signal(&s->changed);
    g_mutex_unlock(&s->lock);
    return known;
}

/* The set: its list, and the pictures in it. */
static char *shown(void *context, const cli_request *request, size_t *size, const char **type) {
    const show *s = context;
    if (s->set != NULL && strcmp(request->what, "set") == 0) {
        char *list = cli_set_list(s->set);
        *type = "application/json";
        *size = strlen(list);
        return list;
    }
    *type = "image/jpeg";
    return s->set != NULL && strcmp(request->what, "still") == 0
               ? cli_set_still(s->set, request, size)
               : NULL;
}

/* Until the next picture is due: false where it is to end. */
static bool wait_for_turn(show *s, double rate, gint64 *due) {
    bool waits = true;
    g_mutex_lock(&s->lock);
    while (waits && !s->stops) {
        const gint64 now = g_get_monotonic_time();
        if (s->paused && s->steps == 0) {
            g_cond_wait(&s->changed, &s->lock);
            *due = g_get_monotonic_time();
        } else if (s->paused || s->is_live || now >= *due) {
            s->steps -= s->paused;
            waits = false;
        } else {
            g_cond_wait_until(&s->changed, &s->lock, *due);
        }
    }
    const gint64 step = s->is_live ? 0 : (gint64)(1e6 / (rate * s->speed));
    *due = MAX(*due, g_get_monotonic_time() - step) + step;
    const bool goes_on = !s->stops;
    g_mutex_unlock(&s->lock);
    return goes_on;
}

/* Files are not begun before somebody looks. */
static bool wait_for_lookers(show *s) {
    g_mutex_lock(&s->lock);
    while (!s->stops && !s->is_live && cli_serve_lookers(s->serve) == 0) {
        g_cond_wait_until(&s->changed, &s->lock, g_get_monotonic_time() + 50000);
    }
    const bool goes_on = !s->stops;
    g_mutex_unlock(&s->lock);
    return goes_on;
}

/* ---- the thread that looks ---- */

static double rate_of(const cli_watch *watch, const watch_options *own) {
    const double its = nsk_live_rate(watch->live);
    return own->rate > 0 ? own->rate : its > 0.0 ? its : USUAL_RATE;
}

static void tell_end(const show *s) {
    const cli_watch *w = s->watch;
    char *why = s->state == NSK_LIVE_FAILED
                    ? g_strdup_printf("it has ended: %s", w->context->error.text)
                    : g_strdup_printf("the camera has ended, after %ld pictures", w->seen);
    cli_serve_event(s->serve, "end", cli_watch_end(why), true);
    g_free(why);
}

static gpointer look(gpointer data) {
    show *s = data;
    cli_watch *w = s->watch;
    const double rate = rate_of(w, s->own);
    gint64 due = g_get_monotonic_time();
    s->state = NSK_LIVE_THERE;
    bool goes_on = wait_for_lookers(s);
    while (goes_on && s->state == NSK_LIVE_THERE &&
           (s->own->frames == 0 || w->seen < s->own->frames)) {
        nsk_live_frame frame;
        goes_on = wait_for_turn(s, rate, &due);
        if (!goes_on) {
            break;
        }
        s->state = nsk_live_next(w->live, &frame, &w->context->error);
        if (s->state == NSK_LIVE_THERE) {
            const char *worth = cli_watch_worth(w, &frame);
            cli_watch_count(w, &frame);
            if (s->keep != NULL) {
                cli_keep_note(s->keep, &frame, worth);
            }
            cli_serve_event(s->serve, "seen", cli_watch_seen(w, &frame, worth), false);
        }
    }
    g_mutex_lock(&s->lock);
    goes_on = goes_on && !s->stops;
    g_mutex_unlock(&s->lock);
    if (!goes_on) { /* it was told to end, whatever the camera said to that */
        s->state = NSK_LIVE_THERE;
    } else {
        tell_end(s);
    }
    if (s->state == NSK_LIVE_FAILED) {
        g_main_loop_quit(s->loop);
    }
    return NULL;
}

static gboolean quit(gpointer data) {
    g_main_loop_quit(((show *)data)->loop);
    return G_SOURCE_CONTINUE;
}

/* Until it is interrupted, or the camera fails. */
static bool run_page(cli_watch *watch) {
    const watch_options *own = watch->context->own;
    show s = {.watch = watch, .own = own};
    s.is_live = strcmp(watch->camera, "-") == 0 || strcmp(watch->camera, "board") == 0;
    s.speed = s.is_live ? 0.0 : 1.0;
    g_mutex_init(&s.lock);
    g_cond_init(&s.changed);
    const cli_page page = {asked, shown, &s};
    s.serve = cli_serve_start(own->listen, &page, &watch->context->error);
    bool good = s.serve != NULL;
    if (good && own->into != NULL) {
        s.set = cli_set_open(own->into, watch, s.serve, &watch->context->error);
        good = s.set != NULL;
    }
    if (good && s.set != NULL) {
        s.keep = cli_keep_open(watch, s.set);
    }
    if (good) {
        s.loop = g_main_loop_new(NULL, FALSE);
        const guint signals[] = {g_unix_signal_add(SIGINT, quit, &s),
                                 g_unix_signal_add(SIGTERM, quit, &s)};
        cli_serve_event(s.serve, "about", cli_watch_about(watch), true);
        tell_pace(&s);
        printf("%s\nOpen this address in a browser of this machine. Ctrl-C ends.\n",
               cli_serve_address(s.serve));
        fflush(stdout);
        s.thread = g_thread_new("look", look, &s);
        g_main_loop_run(s.loop);
        g_mutex_lock(&s.lock);
        s.stops = true;
        g_cond_signal(&s.changed);
        g_mutex_unlock(&s.lock);
        nsk_live_stop(watch->live);
        g_thread_join(s.thread);
        g_source_remove(signals[0]);
        g_source_remove(signals[1]);
        good = s.state != NSK_LIVE_FAILED;
        g_main_loop_unref(s.loop);
    }
    cli_keep_close(s.keep);
    cli_set_close(s.set);
    cli_serve_stop(s.serve);
    g_mutex_clear(&s.lock);
    g_cond_clear(&s.changed);
    return good;
}

/* ---- in a terminal ---- */

/* Where light is another one than in calibration. */
static void print_light(const nsk_live_frame *frame) {
    static const char *const words[NSK_LIGHTS][2] = {
        {"darker", "brighter"}, {"flatter", "of more contrast"}, {"bluer", "redder"}};
    const char *before = "  ";
    for (int k = 0; k < NSK_LIGHTS; k++) {
        if (frame->outside[k] != 0) {
            printf("%s%s", before, words[k][frame->outside[k] > 0]);
            before = ", ";
        }
    }
    fputs(before[0] == ',' ? " than in calibration" : "", stdout);
}

static void print_frame(const cli_watch *watch, const nsk_live_frame *frame) {
    const nsk_labels *labels = &watch->context->brief->labels;
    if (watch->seen == 1) {
        printf("%8s  %-18s  %-18s  %-14s  %s\n", "picture", "integer", "float", "rule", "decided");
    }
    if (frame->fault != NSK_FAULT_NONE) {
        printf("%8ld  %s\n", frame->number, cli_watch_fault(frame->fault));
        return;
    }
    const int best[] = {nsk_ranked(frame->by_integer, labels->count, 0),
                        nsk_ranked(frame->by_float, labels->count, 0)};
    printf("%8ld  %-9.9s %6.1f %%  %-9.9s %6.1f %%  %-14.14s  %s%s", frame->number,
           labels->names[best[0]], 100.0 * (double)frame->by_integer[best[0]],
           labels->names[best[1]], 100.0 * (double)frame->by_float[best[1]],
           cli_watch_line(watch, frame->line),
           frame->decided >= 0 ? cli_watch_line(watch, frame->decided) : "",
           frame->differs ? "  NOT THE SAME SCORES" : "");
    print_light(frame);
    putchar('\n');
    fflush(stdout);
}

static void print_summary(const cli_watch *watch) {
    char text[NSK_LIVE_PARTS][CLI_TEXT];
    const double pictures = (double)MAX(watch->seen, 1);
    for (int i = 0; i < NSK_LIVE_PARTS; i++) {
        cli_time(watch->took[i] / pictures, text[i]);
    }
    printf("\n%ld pictures, %ld dropped, %ld faults, %ld decisions, %ld in other light than "
           "calibration; "
           "a picture took camera %s, prepare %s, float %s, integer %s\n",
           watch->seen, watch->dropped, watch->faulted, watch->decided, watch->outside,
           text[NSK_LIVE_CAMERA], text[NSK_LIVE_PREPARE], text[NSK_LIVE_FLOAT],
           text[NSK_LIVE_INTEGERS]);
}

static void print_json(const cli_watch *watch) {
    static const char *const parts[NSK_LIVE_PARTS] = {"camera", "prepare", "float", "integer"};
    JsonBuilder *b = cli_json_start(watch->context);
    cli_json_int(b, "pictures", watch->seen);
    cli_json_int(b, "dropped", watch->dropped);
    cli_json_int(b, "faults", watch->faulted);
    cli_json_int(b, "decisions", watch->decided);
    cli_json_int(b, "differ", watch->differ);
    cli_json_int(b, "other_light", watch->outside);
    cli_json_real(b, "frames_per_second", watch->rate);
    json_builder_set_member_name(b, "seconds");
    json_builder_begin_object(b);
    for (int i = 0; i < NSK_LIVE_PARTS; i++) {
        cli_json_real(b, parts[i], watch->took[i] / (double)MAX(watch->seen, 1));
    }
    json_builder_end_object(b);
    json_builder_end_object(b);
    cli_print_json(b);
}

/* Each picture as soon as it can be had. */
static bool run_plain(cli_watch *watch) {
    const watch_options *own = watch->context->own;
    nsk_live_frame frame;
    nsk_live_state state = NSK_LIVE_THERE;
    while (state == NSK_LIVE_THERE && (own->frames == 0 || watch->seen < own->frames)) {
        state = nsk_live_next(watch->live, &frame, &watch->context->error);
        if (state == NSK_LIVE_THERE) {
            cli_watch_count(watch, &frame);
        }
        if (state == NSK_LIVE_THERE && !watch->context->json) {
            print_frame(watch, &frame);
        }
    }
    if (watch->context->json && state != NSK_LIVE_FAILED) {
        print_json(watch);
    } else if (!watch->context->json && watch->seen > 0) {
        print_summary(watch);
    }
    return state != NSK_LIVE_FAILED;
}

/* ---- the command ---- */

/* Where nobody says: the board's own, if it can show its pictures; a scene of the brief's; its
 * held-out images. */
static const char *usual_camera(const cli_context *context) {
    const nsk_board_self *self =
        context->on_board != NULL ? nsk_on_board_self(context->on_board) : NULL;
    if (self != NULL && self->camera_width > 0 && self->keeps_picture) {
        return "board";
    }
    return context->brief->scenes != NULL ? context->brief->scenes[0] : context->brief->held_out;
}

/* Some held-out images are what an emulated board's camera shows. */
static bool load(cli_context *context) {
    const watch_options *own = context->own;
    if (!cli_load_brief(context)) {
        return false;
    }
    if (context->on != NULL && context->brief->held_out != NULL) {
        context->sample = SHOWN_CAMERA;
        if (!cli_load_held_out(context)) {
            return false;
        }
        context->shows = context->held_out;
    }
    return cli_load_network(context) && cli_load_model(context) && cli_check_own_model(context) &&
           (own->into == NULL || cli_load_equalised(context)) &&
           (context->brief->calibration == NULL || cli_load_calibration(context));
}

static int run(cli_context *context) {
    const watch_options *own = context->own;
    cli_watch watch = {.context = context, .answer = -1};
    if (own->into != NULL && (own->plain || context->json)) {
        nsk_fail(&context->error, "--into %s: pictures are kept at the page alone, without %s",
                 own->into, own->plain ? "--plain" : "--json");
        return cli_fail(context);
    }
    if (!load(context)) {
        return cli_fail(context);
    }
    watch.camera = own->camera != NULL ? own->camera : usual_camera(context);
    if (watch.camera == NULL) {
        nsk_fail(&context->error, "say where pictures come from: --camera - for a Y4M stream on "
                                  "standard input, a file, a folder, a scene");
        return cli_fail(context);
    }
    const nsk_live_setup setup = {.camera = watch.camera,
                                  .network = context->network,
                                  .model = context->model,
                                  .labels = &context->brief->labels,
                                  .input = &context->brief->input,
                                  .product = &context->brief->product,
                                  .decision = &context->brief->decision,
                                  .board = context->on_board,
                                  .known = context->calibration};
    watch.live = nsk_live_open(&setup, &context->error);
    bool good = watch.live != NULL;
    if (good) {
        nsk_open(&watch.model, context->model->bytes, context->model->size);
        cli_watch_lines(&watch);
        watch.began = g_get_monotonic_time();
        good = own->plain || context->json ? run_plain(&watch) : run_page(&watch);
    }
    nsk_live_close(watch.live);
    return !good ? cli_fail(context) : watch.differ > 0 ? CLI_LIMIT_BROKEN : CLI_DONE;
}

static const cli_own own_options[] = {
    {"camera", offsetof(watch_options, camera), 0},
    {"listen", offsetof(watch_options, listen), 0},
    {"into", offsetof(watch_options, into), 0},
    {"rate", offsetof(watch_options, rate), 0},
    {"frames", offsetof(watch_options, frames), 0},
    {"plain", offsetof(watch_options, plain), 0},
    {NULL, 0, 0},
};

const cli_command cli_watch_command = {
    .name = "watch",
    .summary = "what a camera sees, and what the networks and the rule make of it, live",
    .arguments = "BRIEF",
    .example = "  netsuke watch demo/kiln.ini\n"
               "prints the address of a page of this machine that plays the brief's first scene. A "
               "camera is shown\n"
               "as it sees: ffmpeg -f v4l2 -i /dev/video0 -f yuv4mpegpipe - | netsuke watch "
               "demo/kiln.ini --camera -\n"
               "With --into DIR a key a class keeps the picture in view. With --on a board runs "
               "the integers, and its own camera looks, where it has one. "
               "--plain prints\n"
               "a line a picture, and serves no page.",
    .least = 1,
    .most = 1,
    .shared = "model calibration held-out tolerant on",
    .own = own_options,
    .own_size = sizeof(watch_options),
    .usual = "frames: all; rate: what the camera says, else 10; listen: 127.0.0.1, any free port",
    .run = run,
};
