#include "images/picture.h"

#include <math.h>
#include <string.h>

/* The source pixels that make one output pixel along an axis, and their weights (sum 1). */
typedef struct tap_run {
    int first, count;
    double *weight;
} tap_run;

static void area_taps(tap_run *taps, double from, double to, int limit) {
    taps->first = (int)floor(from);
    int last = (int)ceil(to) - 1;
    last = last < limit ? last : limit - 1;
    taps->count = last - taps->first + 1;
    for (int i = 0; i < taps->count; i++) {
        double left = fmax(from, taps->first + i);
        double right = fmin(to, taps->first + i + 1);
        taps->weight[i] = (right - left) / (to - from);
    }
}

static void linear_taps(tap_run *taps, double centre, int limit) {
    double place = fmin(fmax(centre - 0.5, 0.0), limit - 1.0);
    taps->first = (int)floor(place);
    taps->count = taps->first + 1 < limit ? 2 : 1;
    taps->weight[0] = 1.0 - (place - taps->first);
    taps->weight[1] = place - taps->first;
}

/* A triangle around the centre, as wide as `step` to both sides, cut at the picture's edges. */
static void triangle_taps(tap_run *taps, double centre, double step, int limit) {
    double sum = 0.0;
    taps->first = (int)fmax(floor(centre - step), 0.0);
    int last = (int)fmin(ceil(centre + step), limit) - 1;
    taps->count = last - taps->first + 1;
    for (int i = 0; i < taps->count; i++) {
        double away = fabs(taps->first + i + 0.5 - centre) / step;
        taps->weight[i] = fmax(1.0 - away, 0.0);
        sum += taps->weight[i];
    }
    for (int i = 0; i < taps->count; i++) {
        taps->weight[i] /= sum;
    }
}

static tap_run *axis_taps(int source, int result, nsk_resample resample) {
    double step = (double)source / result;
    size_t most = (size_t)ceil(2.0 * step) + 3;
    tap_run *all = g_new(tap_run, result);
    double *weights = g_new0(double, most *(size_t)result);
    for (int i = 0; i < result; i++) {
        double centre = (i + 0.5) * step;
        all[i].weight = weights + most * (size_t)i;
        if (resample == NSK_RESAMPLE_NEAREST) {
            all[i].first = (int)((2 * (int64_t)i + 1) * source / (2 * (int64_t)result));
            all[i].count = 1;
            all[i].weight[0] = 1.0;
        } else if (resample == NSK_RESAMPLE_AREA && step >= 1.0) {
            area_taps(&all[i], i * step, fmin((i + 1) * step, source), source);
        } else if (resample == NSK_RESAMPLE_BILINEAR_SMOOTH && step > 1.0) {
            triangle_taps(&all[i], centre, step, source);
        } else {
            linear_taps(&all[i], centre, source);
        }
    }
    return all;
}

static void free_taps(tap_run *all) {
    g_free(all[0].weight);
    g_free(all);
}

/* `source` without its pixels, of another size. */
static nsk_picture blank(const nsk_picture *source, int width, int height) {
    nsk_picture result = *source;
    result.width = width;
    result.height = height;
    result.rgb = g_malloc0((size_t)3 * (size_t)width * (size_t)height);
    return result;
}

void nsk_picture_resize(const nsk_picture *source, int width, int height, nsk_resample resample,
                        nsk_picture *result) {
    *result = blank(source, width, height);
    if (width == source->width && height == source->height) {
        memcpy(result->rgb, source->rgb, (size_t)3 * (size_t)width * (size_t)height);
        return;
    }
    tap_run *across = axis_taps(source->width, width, resample);
    tap_run *down = axis_taps(source->height, height, resample);
    size_t row = (size_t)3 * (size_t)source->width;
    double *line = g_new(double, row);
    for (int y = 0; y < height; y++) {
        memset(line, 0, row * sizeof *line);
        for (int i = 0; i < down[y].count; i++) {
            const uint8_t *from = source->rgb + row * (size_t)(down[y].first + i);
            for (size_t x = 0; x < row; x++) {
                line[x] += down[y].weight[i] * from[x];
            }
        }
        uint8_t *to = result->rgb + (size_t)3 * (size_t)width * (size_t)y;
        for (int x = 0; x < 3 * width; x++) {
            const tap_run *tap = &across[x / 3];
            double sum = 0.0;
            for (int i = 0; i < tap->count; i++) {
                sum += tap->weight[i] * line[3 * (tap->first + i) + x % 3];
            }
            /* weights like 1/3 leave a half a little short: the last term brings it back */
            to[x] = (uint8_t)floor(fmin(sum + 0.5 + 1e-9, 255.0));
        }
    }
    g_free(line);
    free_taps(across);
    free_taps(down);
}

static void cut(const nsk_picture *source, int left, int top, nsk_picture *part) {
    size_t row = (size_t)3 * (size_t)part->width;
    for (int y = 0; y < part->height; y++) {
        size_t from = (size_t)(top + y) * (size_t)source->width + (size_t)left;
        memcpy(part->rgb + row * (size_t)y, source->rgb + 3 * from, row);
    }
}

static void fit_stretch(const nsk_picture *source, const nsk_input *input, nsk_picture *result) {
    nsk_picture_resize(source, input->width, input->height, input->resample, result);
}

static void fit_crop(const nsk_picture *source, const nsk_input *input, nsk_picture *result) {
    int w = source->width;
    int h = source->height;
    if ((int64_t)w * input->height > (int64_t)h * input->width) {
        w = (int)(((int64_t)h * input->width + input->height / 2) / input->height);
    } else {
        h = (int)(((int64_t)w * input->height + input->width / 2) / input->width);
    }
    nsk_picture part = blank(source, MAX(w, 1), MAX(h, 1));
    cut(source, (source->width - part.width) / 2, (source->height - part.height) / 2, &part);
    fit_stretch(&part, input, result);
    nsk_picture_clear(&part);
}

static void fit_pad(const nsk_picture *source, const nsk_input *input, nsk_picture *result) {
    int w = input->width;
    int h = input->height;
    if ((int64_t)source->width * h > (int64_t)source->height * w) {
        h = (int)(((int64_t)source->height * w + source->width / 2) / source->width);
    } else {
        w = (int)(((int64_t)source->width * h + source->height / 2) / source->height);
    }
    nsk_picture part;
    nsk_picture_resize(source, MAX(w, 1), MAX(h, 1), input->resample, &part);
    *result = blank(source, input->width, input->height);
    size_t row = (size_t)3 * (size_t)part.width;
    int left = (result->width - part.width) / 2;
    int top = (result->height - part.height) / 2;
    for (int y = 0; y < part.height; y++) {
        size_t to = (size_t)(top + y) * (size_t)result->width + (size_t)left;
        memcpy(result->rgb + 3 * to, part.rgb + row * (size_t)y, row);
    }
    nsk_picture_clear(&part);
}

void nsk_picture_fit(const nsk_picture *source, const nsk_input *input, nsk_picture *result) {
    void (*const ways[])(const nsk_picture *, const nsk_input *, nsk_picture *) = {
        [NSK_FIT_STRETCH] = fit_stretch, [NSK_FIT_CROP] = fit_crop, [NSK_FIT_PAD] = fit_pad};
    ways[input->fit](source, input, result);
}

void nsk_picture_channels(const nsk_picture *picture, nsk_colour colour, uint8_t *frame) {
    size_t pixels = (size_t)picture->width * (size_t)picture->height;
    for (size_t i = 0; i < pixels; i++) {
        const uint8_t *rgb = picture->rgb + 3 * i;
        if (colour == NSK_COLOUR_GREY) {
            frame[i] = (uint8_t)((77 * rgb[0] + 150 * rgb[1] + 29 * rgb[2] + 128) >> 8);
        } else {
            int red = colour == NSK_COLOUR_RGB ? 0 : 2;
            frame[3 * i + (size_t)red] = rgb[0];
            frame[3 * i + 1] = rgb[1];
            frame[3 * i + (size_t)(2 - red)] = rgb[2];
        }
    }
}

void nsk_picture_from_channels(const uint8_t *frame, nsk_colour colour, nsk_picture *picture) {
    const size_t pixels = (size_t)picture->width * (size_t)picture->height;
    const size_t red = colour == NSK_COLOUR_BGR ? 2 : 0;
    for (size_t i = 0; i < pixels; i++) {
        uint8_t *rgb = picture->rgb + 3 * i;
        if (colour == NSK_COLOUR_GREY) {
            rgb[0] = rgb[1] = rgb[2] = frame[i];
        } else {
            rgb[0] = frame[3 * i + red];
            rgb[1] = frame[3 * i + 1];
            rgb[2] = frame[3 * i + 2 - red];
        }
    }
}
