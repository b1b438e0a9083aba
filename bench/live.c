/* live BRIEF: a camera that writes Y4M into a pipe, 30 pictures a second, on one processor: how
 * long after a picture began to be written its answers are there, how many were dropped; beside
 * both networks alone, measured in the same run. */
#define _GNU_SOURCE
#include <glib.h>
#include <sched.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include "base/random.h"
#include "netsuke/live.h"

enum { RATE = 30, PICTURES = 90 };

typedef struct camera {
    int width, height, out;
    gint64 written[PICTURES]; /* monotonic, microseconds */
} camera;

static void put(const camera *c, const void *bytes, size_t count) {
    const char *at = bytes;
    while (count > 0) {
        const ssize_t some = write(c->out, at, count);
        if (some <= 0) {
            exit(2);
        }
        at += some;
        count -= (size_t)some;
    }
}

/* Noise, 4:2:0. */
static gpointer run_camera(gpointer data) {
    camera *c = data;
    uint32_t noise = 7;
    const size_t luma = (size_t)c->width * (size_t)c->height;
    const size_t bytes = luma + luma / 2;
    uint8_t *planes = g_malloc(bytes);
    char *head = g_strdup_printf("YUV4MPEG2 W%d H%d F%d:1 C420jpeg\n", c->width, c->height, RATE);
    put(c, head, strlen(head));
    const gint64 start = g_get_monotonic_time();
    for (int i = 0; i < PICTURES; i++) {
        for (size_t k = 0; k < bytes; k++) {
            noise = noise * 1664525U + 1013904223U;
            planes[k] = (uint8_t)(noise >> 24);
        }
        const gint64 left = start + (gint64)i * 1000000 / RATE - g_get_monotonic_time();
        g_usleep(left > 0 ? (gulong)left : 0);
        c->written[i] = g_get_monotonic_time();
        put(c, "FRAME\n", 6);
        put(c, planes, bytes);
    }
    close(c->out);
    g_free(head);
    g_free(planes);
    return NULL;
}

typedef struct figures {
    double mean, worst, networks; /* seconds */
    long seen, dropped;
} figures;

static bool measure(const nsk_live_setup *setup, int width, int height, figures *f,
                    nsk_error *error) {
    int ends[2];
    if (pipe(ends) != 0 || dup2(ends[0], 0) < 0) {
        return nsk_fail_system(error, "no pipe can be made");
    }
    close(ends[0]);
    camera c = {.width = width, .height = height, .out = ends[1]};
    GThread *thread = g_thread_new("camera", run_camera, &c);
    nsk_live *live = nsk_live_open(setup, error);
    nsk_live_state state = live != NULL ? NSK_LIVE_THERE : NSK_LIVE_FAILED;
    *f = (figures){0};
    while (state == NSK_LIVE_THERE) {
        nsk_live_frame frame;
        state = nsk_live_next(live, &frame, error);
        if (state == NSK_LIVE_THERE) {
            const double late = (double)(g_get_monotonic_time() - c.written[frame.number]) / 1e6;
            f->mean += late;
            f->worst = MAX(f->worst, late);
            f->networks += frame.took[NSK_LIVE_FLOAT] + frame.took[NSK_LIVE_INTEGERS];
            f->dropped = frame.dropped;
            f->seen++;
        }
    }
    g_thread_join(thread);
    nsk_live_close(live);
    f->mean /= (double)MAX(f->seen, 1);
    f->networks /= (double)MAX(f->seen, 1);
    return state == NSK_LIVE_ENDED;
}

static void stay_on_one(void) {
    cpu_set_t one;
    CPU_ZERO(&one);
    CPU_SET(0, &one);
    sched_setaffinity(0, sizeof one, &one);
}

int main(int argc, char **argv) {
    static const int sizes[][2] = {{48, 48}, {96, 96}, {640, 480}};
    nsk_error error = {.text = ""};
    nsk_brief *brief = argc == 2 ? nsk_brief_read(argv[1], &error) : NULL;
    if (brief == NULL) {
        fprintf(stderr, "live: %s\n", argc == 2 ? error.text : "give a brief");
        return 2;
    }
    stay_on_one();
    nsk_network *network = nsk_network_read(brief->model, &brief->input, brief->output, &error);
    nsk_images *images = network != NULL ? nsk_images_open(brief->calibration, &brief->labels,
                                                           &brief->input, 60, false, &error)
                                         : NULL;
    nsk_model_file *file =
        images != NULL ? nsk_quantise(network, images, &brief->recipe, &error) : NULL;
    bool good = file != NULL;
    const nsk_live_setup setup = {.camera = "-",
                                  .network = network,
                                  .model = file,
                                  .labels = &brief->labels,
                                  .input = &brief->input,
                                  .product = &brief->product,
                                  .decision = &brief->decision};
    for (size_t i = 0; i < G_N_ELEMENTS(sizes) && good; i++) {
        figures f = {0};
        good = measure(&setup, sizes[i][0], sizes[i][1], &f, &error);
        printf(
            "live %3d x %3d: %ld of %d pictures at %d a second, %ld dropped; answers %.1f ms after "
            "a picture (worst %.1f), %.1f times what both networks take\n",
            sizes[i][0], sizes[i][1], f.seen, PICTURES, RATE, f.dropped, 1e3 * f.mean,
            1e3 * f.worst, f.mean / f.networks);
    }
    if (!good) {
        fprintf(stderr, "live: %s\n", error.text);
    }
    nsk_model_file_free(file);
    nsk_images_free(images);
    nsk_network_free(network);
    nsk_brief_free(brief);
    return good ? 0 : 2;
}
