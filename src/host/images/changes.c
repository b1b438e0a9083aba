#include "images/changes.h"

#include <math.h>
#include <stdio.h> /* jpeglib.h wants it */
#include <stdlib.h>
#include <string.h>

#include <jpeglib.h>

#include "base/random.h"
#include "images/decoders.h"

static double draw(random_state *random) {
    return random_between(random, 0.0, 1.0);
}

static double draw_sign(random_state *random) {
    return draw(random) < 0.5 ? -1.0 : 1.0;
}

static uint8_t to_byte(double value) {
    return (uint8_t)CLAMP(value + 0.5, 0.0, 255.0);
}

static size_t bytes_of(const nsk_frame *f) {
    return (size_t)f->width * (size_t)f->height * (size_t)f->channels;
}

/* ---- light and colour ---- */

static bool light(nsk_frame *f, double percent, random_state *random, nsk_error *error) {
    (void)random;
    (void)error;
    for (size_t i = 0; i < bytes_of(f); i++) {
        f->bytes[i] = to_byte(f->bytes[i] * percent / 100.0);
    }
    return true;
}

/* Nearer to the frame's mean. */
static bool contrast(nsk_frame *f, double percent, random_state *random, nsk_error *error) {
    double sum = 0.0;
    (void)random;
    (void)error;
    for (size_t i = 0; i < bytes_of(f); i++) {
        sum += f->bytes[i];
    }
    double mean = sum / (double)bytes_of(f);
    for (size_t i = 0; i < bytes_of(f); i++) {
        f->bytes[i] = to_byte(mean + (f->bytes[i] - mean) * percent / 100.0);
    }
    return true;
}

/* More of one of red and blue, less of the other. */
static bool cast(nsk_frame *f, double percent, random_state *random, nsk_error *error) {
    double part = draw_sign(random) * percent / 100.0;
    (void)error;
    for (size_t i = 0; i + 2 < bytes_of(f); i += 3) {
        f->bytes[i] = to_byte(f->bytes[i] * (1.0 + part));
        f->bytes[i + 2] = to_byte(f->bytes[i + 2] * (1.0 - part));
    }
    return true;
}

/* ---- sharpness ---- */

/* One axis: `step` bytes from a pixel to the next, the edge going on outside. */
static void blur_line(const double *weights, int reach, uint8_t *at, int count, size_t step,
                      double *line) {
    for (int i = 0; i < count; i++) {
        line[i] = 0.0;
        for (int k = -reach; k <= reach; k++) {
            line[i] += weights[k + reach] * at[(size_t)CLAMP(i + k, 0, count - 1) * step];
        }
    }
    for (int i = 0; i < count; i++) {
        at[(size_t)i * step] = to_byte(line[i]);
    }
}

/* By a Gaussian. */
static bool blur(nsk_frame *f, double sigma, random_state *random, nsk_error *error) {
    int reach = (int)ceil(3.0 * sigma);
    double *weights = g_new0(double, 2 * reach + 1);
    double *line = g_new0(double, MAX(f->width, f->height));
    size_t channels = (size_t)f->channels;
    size_t row = (size_t)f->width * channels;
    double sum = 0.0;
    (void)random;
    (void)error;
    for (int k = -reach; k <= reach; k++) {
        sum += weights[k + reach] = exp(-k * k / (2.0 * sigma * sigma));
    }
    for (int k = 0; k <= 2 * reach; k++) {
        weights[k] /= sum;
    }
    for (size_t c = 0; c < channels; c++) {
        for (size_t y = 0; y < (size_t)f->height; y++) {
            blur_line(weights, reach, f->bytes + y * row + c, f->width, channels, line);
        }
        for (size_t x = 0; x < (size_t)f->width; x++) {
            blur_line(weights, reach, f->bytes + x * channels + c, f->height, row, line);
        }
    }
    g_free(weights);
    g_free(line);
    return true;
}

static bool noise(nsk_frame *f, double sigma, random_state *random, nsk_error *error) {
    (void)error;
    for (size_t i = 0; i < bytes_of(f); i++) {
        f->bytes[i] = to_byte(f->bytes[i] + sigma * random_normal(random));
    }
    return true;
}

/* The frame as a JPEG in memory. */
static unsigned char *compress(const nsk_frame *f, int quality, unsigned long *size) {
    struct jpeg_compress_struct c;
    struct jpeg_error_mgr manager;
    unsigned char *bytes = NULL;
    c.err = jpeg_std_error(&manager);
    jpeg_create_compress(&c);
    jpeg_mem_dest(&c, &bytes, size);
    c.image_width = (JDIMENSION)f->width;
    c.image_height = (JDIMENSION)f->height;
    c.input_components = f->channels;
    c.in_color_space = f->channels == 3 ? JCS_RGB : JCS_GRAYSCALE;
    jpeg_set_defaults(&c);
    jpeg_set_quality(&c, quality, TRUE);
    jpeg_start_compress(&c, TRUE);
    while (c.next_scanline < c.image_height) {
        JSAMPROW row = f->bytes + (size_t)c.next_scanline * (size_t)f->width * (size_t)f->channels;
        jpeg_write_scanlines(&c, &row, 1);
    }
    jpeg_finish_compress(&c);
    jpeg_destroy_compress(&c);
    return bytes;
}

/* There and back. */
static bool jpeg(nsk_frame *f, double quality, random_state *random, nsk_error *error) {
    unsigned long size = 0;
    nsk_picture picture = {0};
    (void)random;
    unsigned char *bytes = compress(f, (int)quality, &size);
    bool good = nsk_decode_jpeg(bytes, size, &picture, error);
    for (size_t i = 0; good && i < bytes_of(f); i++) {
        f->bytes[i] = picture.rgb[f->channels == 3 ? i : 3 * i];
    }
    nsk_picture_clear(&picture);
    free(bytes); /* the library's malloc */
    return good;
}

/* ---- place ---- */

/* Where a pixel of the result comes from, about the middle of the frame. */
typedef struct motion {
    double xx, xy, yx, yy, x, y;
} motion;

static double sample(const nsk_frame *f, const uint8_t *from, double x, double y, int channel) {
    x = CLAMP(x, 0.0, f->width - 1.0);
    y = CLAMP(y, 0.0, f->height - 1.0);
    int left = (int)x;
    int top = (int)y;
    int right = MIN(left + 1, f->width - 1);
    int bottom = MIN(top + 1, f->height - 1);
    double across = x - left;
    double down = y - top;
#define AT(px, py)                                                                                 \
    from[((size_t)(py) * (size_t)f->width + (size_t)(px)) * (size_t)f->channels + (size_t)channel]
    double above = AT(left, top) * (1.0 - across) + AT(right, top) * across;
    double below = AT(left, bottom) * (1.0 - across) + AT(right, bottom) * across;
#undef AT
    return above * (1.0 - down) + below * down;
}

/* Linear between pixels; the edge goes on outside. */
static bool move(nsk_frame *f, const motion *m) {
    uint8_t *from = g_memdup2(f->bytes, bytes_of(f));
    uint8_t *to = f->bytes;
    for (int y = 0; y < f->height; y++) {
        double down = y - (f->height - 1) / 2.0;
        for (int x = 0; x < f->width; x++) {
            double across = x - (f->width - 1) / 2.0;
            double at_x = m->xx * across + m->xy * down + m->x + (f->width - 1) / 2.0;
            double at_y = m->yx * across + m->yy * down + m->y + (f->height - 1) / 2.0;
            for (int c = 0; c < f->channels; c++) {
                *to++ = to_byte(sample(f, from, at_x, at_y, c));
            }
        }
    }
    g_free(from);
    return true;
}

static bool shift(nsk_frame *f, double percent, random_state *random, nsk_error *error) {
    double angle = 2.0 * G_PI * draw(random);
    double length = percent / 100.0 * f->width;
    (void)error;
    const motion m = {1.0, 0.0, 0.0, 1.0, length * cos(angle), length * sin(angle)};
    return move(f, &m);
}

static bool turn(nsk_frame *f, double degrees, random_state *random, nsk_error *error) {
    double angle = draw_sign(random) * degrees * G_PI / 180.0;
    (void)error;
    const motion m = {cos(angle), -sin(angle), sin(angle), cos(angle), 0.0, 0.0};
    return move(f, &m);
}

/* Nearer or farther. */
static bool zoom(nsk_frame *f, double percent, random_state *random, nsk_error *error) {
    double scale = draw(random) < 0.5 ? percent / 100.0 : 100.0 / percent;
    (void)error;
    const motion m = {scale, 0.0, 0.0, scale, 0.0, 0.0};
    return move(f, &m);
}

/* A grey square over some of the frame. */
static bool hide(nsk_frame *f, double percent, random_state *random, nsk_error *error) {
    int width = (int)(f->width * sqrt(percent / 100.0) + 0.5);
    int height = (int)(f->height * sqrt(percent / 100.0) + 0.5);
    int left = (int)(draw(random) * (f->width - width + 1));
    int top = (int)(draw(random) * (f->height - height + 1));
    (void)error;
    for (int y = top; y < top + height; y++) {
        size_t at = ((size_t)y * (size_t)f->width + (size_t)left) * (size_t)f->channels;
        memset(f->bytes + at, 128, (size_t)width * (size_t)f->channels);
    }
    return true;
}

/* ---- what stands behind ---- */

nsk_backdrop *nsk_backdrop_new(uint8_t *frames, int count, size_t bytes) {
    nsk_backdrop *b = g_new0(nsk_backdrop, 1);
    b->count = count;
    b->frames = frames;
    b->mean = g_new0(float, bytes);
    b->deviation = g_new0(float, bytes);
    for (size_t i = 0; i < bytes; i++) {
        double sum = 0.0;
        double squares = 0.0;
        for (int k = 0; k < count; k++) {
            double x = frames[(size_t)k * bytes + i];
            sum += x;
            squares += x * x;
        }
        b->mean[i] = (float)(sum / count);
        b->deviation[i] = (float)sqrt(fmax(squares / count - sum / count * sum / count, 0.0));
    }
    return b;
}

void nsk_backdrop_free(nsk_backdrop *b) {
    if (b != NULL) {
        g_free(b->frames);
        g_free(b->mean);
        g_free(b->deviation);
        g_free(b);
    }
}

/* How much each pixel is of the thing in front, from 0 to 1: by how many deviations it differs from
 * what stands there when nothing does. */
static float *find_front(const nsk_frame *f) {
    const float NOISE = 6.0F; /* levels that a byte may differ by anyhow */
    const float FROM = 2.0F;  /* deviations at which a pixel begins to be in front ... */
    const float OVER = 3.0F;  /* ... and so many more at which it wholly is */
    size_t pixels = (size_t)f->width * (size_t)f->height;
    size_t channels = (size_t)f->channels;
    float *front = g_new0(float, pixels);
    for (size_t i = 0; i < pixels * channels; i++) {
        float apart = fabsf((float)f->bytes[i] - f->backdrop->mean[i]) /
                      fmaxf(f->backdrop->deviation[i], NOISE);
        float part = fminf(fmaxf((apart - FROM) / OVER, 0.0F), 1.0F);
        front[i / channels] = fmaxf(front[i / channels], part);
    }
    return front;
}

/* A thing has no holes of a pixel, and no pixel is a thing: the mean of three by three. */
static float *smooth_front(const nsk_frame *f) {
    float *front = find_front(f);
    float *smooth = g_new0(float, (size_t)f->width *(size_t)f->height);
    for (int y = 0; y < f->height; y++) {
        for (int x = 0; x < f->width; x++) {
            float sum = 0.0F;
            for (int k = 0; k < 9; k++) {
                int at_y = CLAMP(y + k / 3 - 1, 0, f->height - 1);
                int at_x = CLAMP(x + k % 3 - 1, 0, f->width - 1);
                sum += front[at_y * f->width + at_x];
            }
            smooth[y * f->width + x] = sum / 9.0F;
        }
    }
    g_free(front);
    return smooth;
}

/* What is behind gives way to another frame with nothing in it. */
static bool swap_background(nsk_frame *f, double percent, random_state *random, nsk_error *error) {
    float *front = smooth_front(f);
    int chosen = (int)(draw(random) * f->backdrop->count);
    const uint8_t *other = f->backdrop->frames + (size_t)chosen * bytes_of(f);
    (void)error;
    for (size_t i = 0; i < bytes_of(f); i++) {
        double by = (1.0 - (double)front[i / (size_t)f->channels]) * percent / 100.0;
        f->bytes[i] = to_byte(f->bytes[i] + by * (other[i] - f->bytes[i]));
    }
    g_free(front);
    return true;
}

const nsk_change nsk_changes[] = {
    {"darker", "% of the light", {85, 70, 55, 40, 25}, false, false, light},
    {"brighter", "% of the light", {115, 135, 160, 190, 230}, false, false, light},
    {"flatter", "% of the contrast", {80, 60, 45, 30, 20}, false, false, contrast},
    {"colour cast", "% more red or blue", {5, 10, 18, 27, 40}, true, false, cast},
    {"blur", "pixels of sigma", {0.5, 0.8, 1.2, 1.8, 2.6}, false, false, blur},
    {"noise", "levels of sigma", {4, 8, 16, 28, 44}, false, false, noise},
    {"JPEG", "quality", {60, 35, 20, 10, 5}, false, false, jpeg},
    {"shift", "% of the width", {2, 4, 7, 11, 16}, false, false, shift},
    {"turn", "degrees", {3, 7, 12, 20, 32}, false, false, turn},
    {"zoom", "% in or out", {105, 112, 122, 135, 155}, false, false, zoom},
    {"hidden", "% of the frame", {2, 5, 10, 18, 30}, false, false, hide},
    {"background", "% of another", {20, 40, 60, 80, 100}, false, true, swap_background},
};
const int nsk_change_count = G_N_ELEMENTS(nsk_changes);
