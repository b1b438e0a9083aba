/* A Y4M stream as a camera. From a pipe the newest picture counts: a thread takes what comes, so
 * that whoever writes it never waits for the networks. */
#include <gio/gunixinputstream.h>
#include <string.h>

#include "live/camera.h"
#include "live/y4m.h"

typedef struct stream {
    GInputStream *in;
    nsk_y4m format;
    GCancellable *cancel;
    nsk_picture picture;
    uint8_t *planes[2]; /* one that is looked at, one that comes */
    long number;        /* pictures that were read */
    /* from a pipe */
    GThread *thread;
    GMutex lock;
    GCond changed;
    uint8_t *newest; /* has not been looked at, where `is_new` */
    bool is_new;
    nsk_live_state state;
    nsk_error error;
    long dropped;
} stream;

static nsk_live_state state_of(int got) {
    return got > 0 ? NSK_LIVE_THERE : got == 0 ? NSK_LIVE_ENDED : NSK_LIVE_FAILED;
}

static gpointer take_all(gpointer data) {
    stream *s = data;
    nsk_live_state state = NSK_LIVE_THERE;
    uint8_t *coming = s->planes[1];
    while (state == NSK_LIVE_THERE) {
        nsk_error error;
        state = state_of(nsk_y4m_next(s->in, &s->format, coming, s->cancel, &error));
        g_mutex_lock(&s->lock);
        if (state == NSK_LIVE_THERE) {
            uint8_t *before = s->newest;
            s->dropped += s->is_new;
            s->is_new = true;
            s->newest = coming;
            coming = before;
            s->number++;
        } else {
            s->error = error;
        }
        s->state = state;
        g_cond_signal(&s->changed);
        g_mutex_unlock(&s->lock);
    }
    g_free(coming);
    return NULL;
}

static void show(stream *s, const uint8_t *planes, long number, nsk_shot *shot) {
    nsk_y4m_rgb(&s->format, planes, s->picture.rgb);
    shot->picture = s->picture;
    shot->number = number - 1;
}

/* The newest; waits for one that is new. What came before the end is shown before it. */
static nsk_live_state next_of_pipe(void *of, nsk_shot *shot, nsk_error *error) {
    stream *s = of;
    g_mutex_lock(&s->lock);
    while (!s->is_new && s->state == NSK_LIVE_THERE) {
        g_cond_wait(&s->changed, &s->lock);
    }
    const nsk_live_state state = s->is_new ? NSK_LIVE_THERE : s->state;
    if (s->is_new) {
        uint8_t *taken = s->newest;
        s->newest = s->planes[0];
        s->planes[0] = taken;
        s->is_new = false;
    }
    const long number = s->number;
    shot->dropped = s->dropped;
    if (state == NSK_LIVE_FAILED) {
        *error = s->error;
    }
    g_mutex_unlock(&s->lock);
    if (state == NSK_LIVE_THERE) {
        show(s, s->planes[0], number, shot);
    }
    return state;
}

static nsk_live_state next_of_file(void *of, nsk_shot *shot, nsk_error *error) {
    stream *s = of;
    const nsk_live_state state =
        state_of(nsk_y4m_next(s->in, &s->format, s->planes[0], NULL, error));
    if (state == NSK_LIVE_THERE) {
        show(s, s->planes[0], ++s->number, shot);
    }
    return state;
}

/* The thread that reads ends, and says so. */
static void stop_stream(void *of) {
    g_cancellable_cancel(((stream *)of)->cancel);
}

static void close_stream(void *of) {
    stream *s = of;
    if (s->thread != NULL) {
        g_cancellable_cancel(s->cancel);
        g_thread_join(s->thread);
        g_free(s->newest);
    } else {
        g_free(s->planes[1]);
    }
    g_free(s->planes[0]);
    g_mutex_clear(&s->lock);
    g_cond_clear(&s->changed);
    g_clear_object(&s->in);
    g_object_unref(s->cancel);
    nsk_picture_clear(&s->picture);
    g_free(s);
}

static GInputStream *open_input(const char *path, nsk_error *error) {
    if (strcmp(path, "-") == 0) {
        return g_unix_input_stream_new(0, FALSE);
    }
    GError *reason = NULL;
    GFile *file = g_file_new_for_path(path);
    GFileInputStream *in = g_file_read(file, NULL, &reason);
    g_object_unref(file);
    if (in == NULL) {
        nsk_fail(error, "%s", reason->message);
        g_error_free(reason);
    }
    return in != NULL ? G_INPUT_STREAM(in) : NULL;
}

bool nsk_camera_y4m(nsk_camera *camera, const char *path, nsk_error *error) {
    static const nsk_camera_kind file = {next_of_file, close_stream, NULL};
    static const nsk_camera_kind pipe = {next_of_pipe, close_stream, stop_stream};
    GInputStream *plain = open_input(path, error);
    if (plain == NULL) {
        return false;
    }
    const bool is_pipe = strcmp(path, "-") == 0;
    stream *s = g_new0(stream, 1);
    s->in = g_buffered_input_stream_new_sized(plain, 1 << 16);
    s->cancel = g_cancellable_new();
    g_object_unref(plain);
    g_mutex_init(&s->lock);
    g_cond_init(&s->changed);
    *camera = (nsk_camera){.kind = is_pipe ? &pipe : &file, .of = s, .same_size = true};
    if (!nsk_y4m_begin(s->in, &s->format, s->cancel, error) ||
        !nsk_picture_start(&s->picture, (uint64_t)s->format.width, (uint64_t)s->format.height,
                           error)) {
        return nsk_fail_in(error, "%s", is_pipe ? "standard input" : path);
    }
    camera->rate = s->format.rate;
    for (int i = 0; i < 2; i++) {
        s->planes[i] = g_malloc0(s->format.bytes);
    }
    if (is_pipe) {
        s->newest = g_malloc0(s->format.bytes);
        s->thread = g_thread_new("camera", take_all, s);
    }
    return true;
}
