/* Brightness, contrast and warmth. */
#include "images/light.h"

#include <math.h>
#include <stdlib.h>

#include "base/base.h"

enum { MOST_LOOKED_AT = 400 };

void nsk_light_of(const uint8_t *frame, const nsk_input *input, double *light) {
    const size_t pixels = (size_t)input->width * (size_t)input->height;
    const bool grey = input->colour == NSK_COLOUR_GREY;
    const size_t red = input->colour == NSK_COLOUR_BGR ? 2 : 0;
    double sum = 0.0;
    double squares = 0.0;
    double warm = 0.0;
    for (size_t i = 0; i < pixels; i++) {
        const uint8_t *p = frame + (grey ? i : 3 * i);
        const double luma = grey ? p[0] : 0.299 * p[red] + 0.587 * p[1] + 0.114 * p[2 - red];
        sum += luma;
        squares += luma * luma;
        warm += grey ? 0.0 : (double)p[red] - (double)p[2 - red];
    }
    const double count = (double)pixels;
    light[NSK_LIGHT_BRIGHTNESS] = sum / count;
    light[NSK_LIGHT_CONTRAST] = sqrt(fmax(squares / count - sum / count * (sum / count), 0.0));
    light[NSK_LIGHT_WARMTH] = warm / count;
}

static int by_size(const void *a, const void *b) {
    const double *x = a;
    const double *y = b;
    return (*x > *y) - (*x < *y);
}

void nsk_light_between(double *values, int count, double *low, double *high) {
    qsort(values, (size_t)count, sizeof *values, by_size);
    *low = values[count / 100];
    *high = values[count - 1 - count / 100];
}

bool nsk_light_range(const nsk_images *images, double *low, double *high, nsk_error *error) {
    const int all = nsk_images_count(images);
    const int count = MIN(all, MOST_LOOKED_AT);
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(images));
    double *values = g_new(double, (gsize)MAX(count, 1) * NSK_LIGHTS);
    bool good = true;
    for (int i = 0; i < count && good; i++) {
        double light[NSK_LIGHTS];
        good = nsk_images_frame(images, (int)((gint64)i * all / count), frame, error);
        nsk_light_of(frame, nsk_images_input(images), light);
        for (int k = 0; k < NSK_LIGHTS; k++) {
            values[k * count + i] = light[k];
        }
    }
    for (int k = 0; k < NSK_LIGHTS && good && count > 0; k++) {
        nsk_light_between(values + (size_t)k * (size_t)count, count, &low[k], &high[k]);
    }
    g_free(values);
    g_free(frame);
    return good;
}
