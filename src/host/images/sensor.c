#include "images/sensor.h"

#include <string.h>

/* ---- one line ---- */

/* What a line is written of. */
typedef struct sight {
    const nsk_picture *picture; /* as the sensor sees it */
    const nsk_input *input;
} sight;

static const uint8_t *at(const sight *s, int x, int y) {
    return s->picture->rgb + 3 * ((size_t)y * (size_t)s->picture->width + (size_t)x);
}

/* ITU-R BT.601, in units of 2^-8: of Y, U, V the weights of red, green, blue, and what is added. */
static const int weights[2][3][4] = {
    {{66, 129, 25, 16}, {-38, -74, 112, 128}, {112, -94, -18, 128}}, /* Y from 16 to 235 */
    {{77, 150, 29, 0}, {-43, -85, 128, 128}, {128, -107, -21, 128}}, /* all levels */
};

static uint8_t part_of(const nsk_sensor *sensor, int part, const int *rgb) {
    const int *k = weights[sensor->full][part];
    const int sum = k[0] * rgb[0] + k[1] * rgb[1] + k[2] * rgb[2] + 128 + 256 * k[3];
    return (uint8_t)CLAMP(sum >= 0 ? sum / 256 : 0, 0, 255);
}

/* The mean of some pixels, halves rounded up. */
static void mean(const sight *s, int x, int y, int across, int down, int *rgb) {
    const int count = across * down;
    for (int k = 0; k < 3; k++) {
        int sum = 0;
        for (int i = 0; i < count; i++) {
            sum += at(s, x + i % across, y + i / across)[k];
        }
        rgb[k] = (2 * sum + count) / (2 * count);
    }
}

static uint8_t luma(const sight *s, int x, int y) {
    const int rgb[3] = {at(s, x, y)[0], at(s, x, y)[1], at(s, x, y)[2]};
    return part_of(&s->input->sensor, 0, rgb);
}

static void send_pixels(const sight *s, int y, uint8_t *to) {
    const nsk_picture row = {
        .width = s->picture->width, .height = 1, .rgb = (uint8_t *)at(s, 0, y)};
    nsk_picture_channels(&row, s->input->colour, to);
}

static void send_565(const sight *s, int y, uint8_t *to) {
    const bool high = s->input->sensor.format == NSK_SENSOR_RGB565_HIGH;
    for (int x = 0; x < s->picture->width; x++) {
        const uint8_t *p = at(s, x, y);
        const int word =
            (p[0] * 31 + 127) / 255 << 11 | (p[1] * 63 + 127) / 255 << 5 | (p[2] * 31 + 127) / 255;
        to[2 * x + high] = (uint8_t)(word & 255);
        to[2 * x + !high] = (uint8_t)(word >> 8);
    }
}

static void send_422(const sight *s, int y, uint8_t *to) {
    const bool u_first = s->input->sensor.format == NSK_SENSOR_UYVY;
    for (int x = 0; x < s->picture->width; x += 2, to += 4) {
        int rgb[3];
        mean(s, x, y, 2, 1, rgb);
        for (int k = 0; k < 2; k++) {
            to[2 * k + u_first] = luma(s, x + k, y);
            to[2 * k + !u_first] = part_of(&s->input->sensor, 1 + k, rgb);
        }
    }
}

/* Lines of Y, and behind them those of U V. */
static void send_420(const sight *s, int y, uint8_t *to) {
    const int height = s->picture->height;
    for (int x = 0; x < s->picture->width; x++) {
        int rgb[3];
        if (y < height) {
            to[x] = luma(s, x, y);
        } else {
            mean(s, x & ~1, 2 * (y - height), 2, 2, rgb);
            to[x] = part_of(&s->input->sensor, 1 + (x & 1), rgb);
        }
    }
}

/* Which of the first two pixels is red: across and down. */
static void send_mosaic(const sight *s, int y, uint8_t *to) {
    const int order = s->input->sensor.format - NSK_SENSOR_RGGB;
    for (int x = 0; x < s->picture->width; x++) {
        to[x] = at(s, x, y)[((x + order) & 1) + ((y + order / 2) & 1)];
    }
}

static void send_grey10(const sight *s, int y, uint8_t *to) {
    for (int x = 0; x < s->picture->width; x++) {
        uint8_t grey;
        const nsk_picture one = {.width = 1, .height = 1, .rgb = (uint8_t *)at(s, x, y)};
        nsk_picture_channels(&one, NSK_COLOUR_GREY, &grey);
        to[2 * x] = (uint8_t)(grey << 2 | grey >> 6);
        to[2 * x + 1] = grey >> 6;
    }
}

static void (*const senders[NSK_SENSOR_FORMATS])(const sight *sight, int y, uint8_t *to) = {
    [NSK_SENSOR_PIXELS] = send_pixels,   [NSK_SENSOR_RGB565] = send_565,
    [NSK_SENSOR_RGB565_HIGH] = send_565, [NSK_SENSOR_YUYV] = send_422,
    [NSK_SENSOR_UYVY] = send_422,        [NSK_SENSOR_NV12] = send_420,
    [NSK_SENSOR_RGGB] = send_mosaic,     [NSK_SENSOR_GRBG] = send_mosaic,
    [NSK_SENSOR_GBRG] = send_mosaic,     [NSK_SENSOR_BGGR] = send_mosaic,
    [NSK_SENSOR_GREY10] = send_grey10,
};

/* ---- a picture ---- */

bool nsk_input_is_sensed(const nsk_input *input) {
    return !nsk_sensor_is_plain(&input->sensor);
}

static unsigned channels_of(const nsk_input *input) {
    return input->colour == NSK_COLOUR_GREY ? 1U : 3U;
}

static size_t line_bytes(const nsk_input *input, int width) {
    return nsk_sensor_line_bytes(&input->sensor, (unsigned)width, channels_of(input));
}

size_t nsk_sent_bytes(const nsk_input *input, int width, int height) {
    return line_bytes(input, width) * nsk_sensor_lines(&input->sensor, (unsigned)height);
}

/* As a sensor that is mounted so sees it: the same change back and forth. */
static void turn(const nsk_picture *picture, const nsk_sensor *sensor, nsk_picture *result) {
    const int width = picture->width;
    const int height = picture->height;
    nsk_error never;
    nsk_picture_start(result, (uint64_t)width, (uint64_t)height, &never);
    for (int y = 0; y < height; y++) {
        const int from = sensor->upside_down ? height - 1 - y : y;
        for (int x = 0; x < width; x++) {
            const int column = sensor->mirrored ? width - 1 - x : x;
            memcpy(result->rgb + 3 * ((size_t)y * (size_t)width + (size_t)x),
                   picture->rgb + 3 * ((size_t)from * (size_t)width + (size_t)column), 3);
        }
    }
}

static void send_seen(const nsk_picture *seen, const nsk_input *input, uint8_t *lines) {
    const sight s = {seen, input};
    const size_t bytes = line_bytes(input, seen->width);
    const int count = (int)nsk_sensor_lines(&input->sensor, (unsigned)seen->height);
    for (int y = 0; y < count; y++) {
        senders[input->sensor.format](&s, y, lines + bytes * (size_t)y);
    }
}

void nsk_picture_send(const nsk_picture *picture, const nsk_input *input, uint8_t *lines) {
    nsk_picture seen;
    turn(picture, &input->sensor, &seen);
    send_seen(&seen, input, lines);
    nsk_picture_clear(&seen);
}

/* As large as every format can be; what is missing at the right and below is what stands at the
 * edge. */
static void see(const nsk_picture *picture, const nsk_sensor *sensor, nsk_picture *seen) {
    const int width = MAX((picture->width + 1) / 2 * 2, 2);
    const int height = MAX((picture->height + 1) / 2 * 2, 2);
    nsk_picture turned;
    nsk_error never;
    turn(picture, sensor, &turned);
    nsk_picture_start(seen, (uint64_t)width, (uint64_t)height, &never);
    for (int y = 0; y < height; y++) {
        for (int x = 0; x < width; x++) {
            const size_t from = (size_t)MIN(y, picture->height - 1) * (size_t)picture->width +
                                (size_t)MIN(x, picture->width - 1);
            memcpy(seen->rgb + 3 * ((size_t)y * (size_t)width + (size_t)x), turned.rgb + 3 * from,
                   3);
        }
    }
    nsk_picture_clear(&turned);
}

/* ---- and read again, by the device's own code ---- */

typedef struct sent {
    const uint8_t *lines;
} sent;

static nsk_row give_line(void *context, uint8_t *to, size_t bytes, unsigned y) {
    const sent *s = context;
    memcpy(to, s->lines + bytes * y, bytes);
    return NSK_ROW_THERE;
}

/* Of all that is seen the part that the sensor's window has. */
static void read_lines(const uint8_t *lines, const nsk_input *input, const nsk_sensor *sensor,
                       int width, int height, nsk_picture *result) {
    const nsk_model model = {.channels = (uint8_t)channels_of(input), .colour = input->colour};
    const int columns = (int)nsk_sensor_width(sensor, (unsigned)width);
    const int rows = (int)nsk_sensor_height(sensor, (unsigned)height);
    uint8_t *memory = g_malloc(nsk_sensor_bytes(sensor, (unsigned)width, model.channels));
    uint8_t *pixels = g_malloc0((gsize)columns * (gsize)rows * model.channels);
    nsk_sensor_reader reader;
    nsk_error never;
    const nsk_status status =
        nsk_sensor_set(&reader, sensor, &model, (unsigned)width, (unsigned)height, memory);
    g_assert(status == NSK_STATUS_OK); /* nsk_brief_camera_suits has looked */
    sent from = {lines};
    for (int y = 0; y < rows; y++) {
        nsk_sensor_row(&reader, give_line, &from,
                       pixels + (size_t)y * (size_t)columns * model.channels, (unsigned)y);
    }
    nsk_picture_start(result, (uint64_t)columns, (uint64_t)rows, &never);
    nsk_picture_from_channels(pixels, input->colour, result);
    g_free(pixels);
    g_free(memory);
}

void nsk_picture_sense(const nsk_picture *picture, const nsk_input *input, nsk_picture *result) {
    const int width = input->sensor_width > 0 ? input->sensor_width : input->width;
    const int height = input->sensor_width > 0 ? input->sensor_height : input->height;
    nsk_sensor sensor = input->sensor;
    nsk_picture seen;
    if (picture->width == width && picture->height == height) {
        turn(picture, &sensor, &seen);
    } else {
        see(picture, &sensor, &seen);
        sensor.left = sensor.top = 0;
        sensor.width = (uint16_t)picture->width;
        sensor.height = (uint16_t)picture->height;
    }
    uint8_t *lines = g_malloc(nsk_sent_bytes(input, seen.width, seen.height));
    send_seen(&seen, input, lines);
    read_lines(lines, input, &sensor, seen.width, seen.height, result);
    nsk_picture_clear(&seen);
    g_free(lines);
}

void nsk_picture_to_frame(const nsk_picture *picture, const nsk_input *input, uint8_t *frame) {
    nsk_picture fitted;
    if (nsk_input_is_sensed(input) && MAX(picture->width, picture->height) < UINT16_MAX) {
        nsk_picture seen;
        nsk_picture_sense(picture, input, &seen);
        nsk_picture_fit(&seen, input, &fitted);
        nsk_picture_clear(&seen);
    } else {
        nsk_picture_fit(picture, input, &fitted);
    }
    nsk_picture_channels(&fitted, input->colour, frame);
    nsk_picture_clear(&fitted);
}
