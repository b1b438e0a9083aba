/* Formats of image sensors: docs/sensors.md. */
#include "netsuke/sensor.h"

#include <string.h>

/* ---- what each format is ---- */

typedef struct writer {
    uint8_t *to;
    uint8_t colour;
} writer;

typedef struct format_of {
    /* Row `y` of the sensor's picture, from the lines that are held. */
    void (*make)(const nsk_sensor_reader *reader, unsigned y, writer *to);
    uint8_t bytes;    /* of a pixel in a line; 0: the model's channels */
    uint8_t held;     /* lines at a time */
    uint8_t step[2];  /* width and height are multiples of these */
    uint8_t least;    /* pixels each way */
    uint8_t phase[2]; /* of a mosaic: where red is, across and down; of YUV: where the first Y is */
} format_of;

enum { MOSAIC_LINES = 3 };

/* ---- pixels ---- */

static inline void put(writer *w, unsigned red, unsigned green, unsigned blue) {
    if (w->colour == NSK_COLOUR_GREY) { /* the weights of ITU-R BT.601, as the host half has them */
        *w->to++ = (uint8_t)((77U * red + 150U * green + 29U * blue + 128U) >> 8);
        return;
    }
    const bool turned = w->colour == NSK_COLOUR_BGR;
    w->to[0] = (uint8_t)(turned ? blue : red);
    w->to[1] = (uint8_t)green;
    w->to[2] = (uint8_t)(turned ? red : blue);
    w->to += 3;
}

static void put_pixels(const nsk_sensor_reader *r, unsigned y, writer *w) {
    (void)y;
    memcpy(w->to, r->lines + (size_t)r->sensor.left * r->channels,
           (size_t)r->sensor.width * r->channels);
}

static void put_565(const nsk_sensor_reader *r, unsigned y, writer *w) {
    const unsigned low = r->phase[0];
    const uint8_t *at = r->lines + 2U * r->sensor.left;
    (void)y;
    for (unsigned x = 0; x < r->sensor.width; x++, at += 2) {
        const unsigned word = at[low] | (unsigned)at[1U - low] << 8;
        const unsigned red = word >> 11;
        const unsigned green = word >> 5 & 63U;
        const unsigned blue = word & 31U;
        put(w, red << 3 | red >> 2, green << 2 | green >> 4, blue << 3 | blue >> 2);
    }
}

static void put_grey10(const nsk_sensor_reader *r, unsigned y, writer *w) {
    const uint8_t *at = r->lines + 2U * r->sensor.left;
    (void)y;
    for (unsigned x = 0; x < r->sensor.width; x++, at += 2) {
        const unsigned grey = (at[0] | (unsigned)at[1] << 8) >> 2 & 255U;
        put(w, grey, grey, grey);
    }
}

/* ---- ITU-R BT.601 ---- */

/* In units of 2^-8. */
typedef struct weights {
    int16_t black, luma, red_v, green_u, green_v, blue_u;
} weights;
static const weights ways[2] = {/* 219 levels */ {16, 298, 409, 100, 208, 516},
                                /* all levels */ {0, 256, 359, 88, 183, 454}};

static inline unsigned to_byte(int32_t v) {
    return v < 0 ? 0U : v > 65535 ? 255U : (unsigned)v >> 8;
}

static inline void put_yuv(const weights *k, writer *w, unsigned luma, unsigned u, unsigned v) {
    const int32_t y = k->luma * ((int32_t)luma - k->black) + 128;
    const int32_t du = (int32_t)u - 128;
    const int32_t dv = (int32_t)v - 128;
    if (w->colour == NSK_COLOUR_GREY) { /* that is Y */
        *w->to++ = (uint8_t)to_byte(y);
        return;
    }
    put(w, to_byte(y + k->red_v * dv), to_byte(y - k->green_u * du - k->green_v * dv),
        to_byte(y + k->blue_u * du));
}

static void put_422(const nsk_sensor_reader *r, unsigned y, writer *w) {
    const weights *k = &ways[r->sensor.full];
    const unsigned first = r->phase[0];
    (void)y;
    for (unsigned i = 0; i < r->sensor.width; i++) {
        const unsigned x = r->sensor.left + i;
        const uint8_t *pair = r->lines + 4U * (x / 2U);
        put_yuv(k, w, pair[first + 2U * (x & 1U)], pair[1U - first], pair[3U - first]);
    }
}

static void put_420(const nsk_sensor_reader *r, unsigned y, writer *w) {
    const weights *k = &ways[r->sensor.full];
    const uint8_t *colours = r->lines + r->line_bytes;
    (void)y;
    for (unsigned i = 0; i < r->sensor.width; i++) {
        const unsigned x = r->sensor.left + i;
        put_yuv(k, w, r->lines[x], colours[x & ~1U], colours[x | 1U]);
    }
}

/* ---- Bayer's mosaic ---- */

/* What stands beside it; at an edge what stands there on the other side, which has the same
 * colour. */
static inline unsigned before(unsigned at) {
    return at > 0 ? at - 1U : 1U;
}

static inline unsigned after(unsigned at, unsigned count) {
    return at + 1U < count ? at + 1U : count - 2U;
}

static void put_mosaic(const nsk_sensor_reader *r, unsigned y, writer *w) {
    const uint8_t *phase = r->phase;
    const uint8_t *up = r->lines + before(y) % MOSAIC_LINES * r->line_bytes;
    const uint8_t *own = r->lines + y % MOSAIC_LINES * r->line_bytes;
    const uint8_t *down = r->lines + after(y, r->height) % MOSAIC_LINES * r->line_bytes;
    const unsigned in_blue = (y + phase[1]) & 1U; /* the line has blue, not red */
    for (unsigned i = 0; i < r->sensor.width; i++) {
        const unsigned x = r->sensor.left + i;
        const unsigned left = before(x);
        const unsigned right = after(x, r->width);
        const unsigned across = (own[left] + (unsigned)own[right] + 1U) >> 1;
        const unsigned along = (up[x] + (unsigned)down[x] + 1U) >> 1;
        const unsigned cross =
            (own[left] + (unsigned)own[right] + (unsigned)up[x] + (unsigned)down[x] + 2U) >> 2;
        const unsigned corners =
            (up[left] + (unsigned)up[right] + (unsigned)down[left] + (unsigned)down[right] + 2U) >>
            2;
        if (((x + phase[0]) & 1U) !=
            in_blue) { /* green: the line's other colour stands beside it */
            put(w, in_blue ? along : across, own[x], in_blue ? across : along);
        } else {
            put(w, in_blue ? corners : own[x], cross, in_blue ? own[x] : corners);
        }
    }
}

/* ---- the table ---- */

static const format_of formats[NSK_SENSOR_FORMATS] = {
    /* pixels */ {put_pixels, 0, 1, {1, 1}, 1, {0, 0}},
    /* RGB565 */ {put_565, 2, 1, {1, 1}, 1, {0, 0}},
    /* high first */ {put_565, 2, 1, {1, 1}, 1, {1, 0}},
    /* YUYV */ {put_422, 2, 1, {2, 1}, 1, {0, 0}},
    /* UYVY */ {put_422, 2, 1, {2, 1}, 1, {1, 0}},
    /* NV12 */ {put_420, 1, 2, {2, 2}, 1, {0, 0}},
    /* RGGB */ {put_mosaic, 1, 3, {1, 1}, 2, {0, 0}},
    /* GRBG */ {put_mosaic, 1, 3, {1, 1}, 2, {1, 0}},
    /* GBRG */ {put_mosaic, 1, 3, {1, 1}, 2, {0, 1}},
    /* BGGR */ {put_mosaic, 1, 3, {1, 1}, 2, {1, 1}},
    /* 10-bit grey */ {put_grey10, 2, 1, {1, 1}, 1, {0, 0}},
};

/* Of one that there is not, pixels: nsk_sensor_set refuses it. */
static const format_of *format(const nsk_sensor *sensor) {
    return &formats[sensor->format < NSK_SENSOR_FORMATS ? sensor->format : 0];
}

bool nsk_sensor_is_plain(const nsk_sensor *sensor) {
    return sensor->format == NSK_SENSOR_PIXELS && !sensor->mirrored && !sensor->upside_down &&
           sensor->width == 0;
}

unsigned nsk_sensor_width(const nsk_sensor *sensor, unsigned width) {
    return sensor->width > 0 ? sensor->width : width;
}

unsigned nsk_sensor_height(const nsk_sensor *sensor, unsigned height) {
    return sensor->width > 0 ? sensor->height : height;
}

size_t nsk_sensor_line_bytes(const nsk_sensor *sensor, unsigned width, unsigned channels) {
    const unsigned bytes = format(sensor)->bytes;
    return (size_t)width * (bytes > 0 ? bytes : channels);
}

unsigned nsk_sensor_lines(const nsk_sensor *sensor, unsigned height) {
    return sensor->format == NSK_SENSOR_NV12 ? height + height / 2U : height;
}

size_t nsk_sensor_bytes(const nsk_sensor *sensor, unsigned width, unsigned channels) {
    return nsk_sensor_line_bytes(sensor, width, channels) * format(sensor)->held;
}

nsk_status nsk_sensor_set(nsk_sensor_reader *reader, const nsk_sensor *sensor,
                          const nsk_model *model, unsigned width, unsigned height, void *memory) {
    memset(reader, 0, sizeof *reader);
    if (sensor->format >= NSK_SENSOR_FORMATS || (model->channels != 1 && model->channels != 3)) {
        return NSK_STATUS_INCONSISTENT;
    }
    const format_of *f = &formats[sensor->format];
    if (width < f->least || height < f->least || width % f->step[0] != 0 ||
        height % f->step[1] != 0 || width > UINT16_MAX || height > UINT16_MAX) {
        return NSK_STATUS_INCONSISTENT;
    }
    reader->sensor = *sensor;
    reader->phase[0] = f->phase[0];
    reader->phase[1] = f->phase[1];
    reader->sensor.width = (uint16_t)nsk_sensor_width(sensor, width);
    reader->sensor.height = (uint16_t)nsk_sensor_height(sensor, height);
    reader->lines = (uint8_t *)memory;
    reader->line_bytes = nsk_sensor_line_bytes(sensor, width, model->channels);
    reader->width = (uint16_t)width;
    reader->height = (uint16_t)height;
    reader->channels = model->channels;
    reader->colour = (uint8_t)model->colour;
    if (sensor->width == 0) {
        reader->sensor.left = reader->sensor.top = 0;
    }
    return reader->sensor.height > 0 &&
                   (unsigned)reader->sensor.left + reader->sensor.width <= width &&
                   (unsigned)reader->sensor.top + reader->sensor.height <= height
               ? NSK_STATUS_OK
               : NSK_STATUS_INCONSISTENT;
}

/* ---- rows ---- */

/* How many lines must have come before row `y` of the sensor's picture can be made; rows as they
 * come. */
static unsigned lines_for(const nsk_sensor_reader *r, unsigned y) {
    switch (format(&r->sensor)->held) {
    case MOSAIC_LINES:
        return y + 2U < r->height ? y + 2U : r->height;
    case 2:
        return y / 2U * 3U + 2U + (y & 1U);
    default:
        return y + 1U;
    }
}

/* Which line the next one is, and the place that is kept for it: of NV12 two lines of Y with one of
 * U V between them, which is kept behind them. */
static unsigned next_line(const nsk_sensor_reader *r, unsigned *place) {
    const unsigned last = r->height - 1U;
    if (r->sensor.format != NSK_SENSOR_NV12) {
        const unsigned line = r->sensor.upside_down ? last - r->read : r->read;
        *place = format(&r->sensor)->held == MOSAIC_LINES ? line % MOSAIC_LINES : 0U;
        return line;
    }
    const unsigned part = r->read % 3U;
    const unsigned come = r->read / 3U * 2U + (part == 2U ? 1U : 0U);
    const unsigned luma = r->sensor.upside_down ? last - come : come;
    *place = part == 1U ? 1U : 0U;
    return part == 1U ? r->height + luma / 2U : luma;
}

static void mirror(uint8_t *row, unsigned width, unsigned channels) {
    for (unsigned x = 0; x < width / 2U; x++) {
        uint8_t *a = row + (size_t)x * channels;
        uint8_t *b = row + (size_t)(width - 1U - x) * channels;
        for (unsigned k = 0; k < channels; k++) {
            const uint8_t kept = a[k];
            a[k] = b[k];
            b[k] = kept;
        }
    }
}

nsk_row nsk_sensor_row(nsk_sensor_reader *reader,
                       nsk_row (*row)(void *context, uint8_t *to, size_t bytes, unsigned y),
                       void *context, uint8_t *to, unsigned y) {
    nsk_sensor_reader *r = reader;
    const unsigned below = (unsigned)r->height - r->sensor.top - r->sensor.height;
    const unsigned come = y + (r->sensor.upside_down ? below : r->sensor.top);
    r->read = y == 0 ? 0 : r->read;
    for (const unsigned wanted = lines_for(r, come); r->read < wanted; r->read++) {
        unsigned place;
        const unsigned line = next_line(r, &place);
        const nsk_row came = row(context, r->lines + place * r->line_bytes, r->line_bytes, line);
        if (came != NSK_ROW_THERE) {
            return came;
        }
    }
    writer w = {to, r->colour};
    format(&r->sensor)->make(r, r->sensor.upside_down ? r->height - 1U - come : come, &w);
    if (r->sensor.mirrored) {
        mirror(to, r->sensor.width, r->channels);
    }
    return NSK_ROW_THERE;
}
