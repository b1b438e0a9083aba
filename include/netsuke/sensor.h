/* netsuke/sensor.h: what an image sensor sends, line by line, brought to rows of pixels as the
 * model wants them. Integers only, no heap. docs/sensors.md has the formulas. */
#ifndef NETSUKE_SENSOR_H
#define NETSUKE_SENSOR_H

#include "netsuke/port.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef enum nsk_sensor_format {
    NSK_SENSOR_PIXELS,      /* the model's own channels, a byte each */
    NSK_SENSOR_RGB565,      /* 16 bits a pixel, red in the highest five; the low byte comes first */
    NSK_SENSOR_RGB565_HIGH, /* the high byte comes first */
    NSK_SENSOR_YUYV,        /* 4:2:2, two pixels in four bytes: Y U Y V */
    NSK_SENSOR_UYVY,        /* U Y V Y */
    NSK_SENSOR_NV12,        /* 4:2:0: all lines of Y, then lines of U V, one for two of Y */
    NSK_SENSOR_RGGB,        /* Bayer's mosaic, 8 bits a pixel; two lines' first two pixels */
    NSK_SENSOR_GRBG,
    NSK_SENSOR_GBRG,
    NSK_SENSOR_BGGR,
    NSK_SENSOR_GREY10, /* 16 bits a pixel, the low byte first, of which the lowest ten count */
    NSK_SENSOR_FORMATS
} nsk_sensor_format;

/* What a sensor sends, how it is mounted, and which part of that is the picture. All zeroes: the
 * model's own pixels, all of them. */
typedef struct nsk_sensor {
    uint8_t format;                    /* nsk_sensor_format */
    bool full;                         /* of YUV: Y has all 256 levels, not 16 to 235 */
    bool mirrored, upside_down;        /* the picture is turned back */
    uint16_t left, top, width, height; /* the part, in the sensor's pixels; width 0: all */
} nsk_sensor;

/* Reads a sensor's lines: the caller's to keep, nobody's to look into. */
typedef struct nsk_sensor_reader {
    nsk_sensor sensor;
    uint8_t *lines; /* the last ones */
    size_t line_bytes;
    uint16_t width, height, read; /* of the sensor's picture; lines of it so far */
    uint8_t channels, colour, phase[2];
} nsk_sensor_reader;

/* Whether there is anything to do at all: rows can be taken as they come where not. */
bool nsk_sensor_is_plain(const nsk_sensor *sensor);
/* Pixels of the part that is the picture, where the sensor has that many. */
unsigned nsk_sensor_width(const nsk_sensor *sensor, unsigned width);
unsigned nsk_sensor_height(const nsk_sensor *sensor, unsigned height);
/* Of a sensor's whole picture: bytes of a line, and lines. */
size_t nsk_sensor_line_bytes(const nsk_sensor *sensor, unsigned width, unsigned channels);
unsigned nsk_sensor_lines(const nsk_sensor *sensor, unsigned height);

/* What a reader needs of the caller's memory. */
size_t nsk_sensor_bytes(const nsk_sensor *sensor, unsigned width, unsigned channels);
/* For pictures of `width` x `height` from the sensor and a model of so many channels, 1 or 3.
 * NSK_STATUS_INCONSISTENT where the part lies outside of that, or the format has no such size: even
 * widths for YUYV, UYVY and NV12, even heights for NV12, 2 x 2 at least for a mosaic. */
nsk_status nsk_sensor_set(nsk_sensor_reader *reader, const nsk_sensor *sensor,
                          const nsk_model *model, unsigned width, unsigned height, void *memory);
/* Writes row `y` of the picture, one after the other from 0, and asks `row` for the lines that it
 * takes, as nsk_port.row. They are asked for in order, those above the part as well, those below it
 * not; of NV12 each line of U V, counted on behind those of Y, after the first line of Y that it is
 * for. A sensor that hangs upside down is asked from its last line to its first, so that the
 * picture must stand in memory then: with whichever is the first, `row` waits for the next picture.
 * What `row` says comes back. */
nsk_row nsk_sensor_row(nsk_sensor_reader *reader,
                       nsk_row (*row)(void *context, uint8_t *to, size_t bytes, unsigned y),
                       void *context, uint8_t *to, unsigned y);

/* A sensor and what reads it, for nsk_firmware: what names none links none. */
typedef struct nsk_sensing {
    nsk_sensor sensor;
    size_t (*bytes)(const nsk_sensor *sensor, unsigned width, unsigned channels);
    nsk_status (*set)(nsk_sensor_reader *reader, const nsk_sensor *sensor, const nsk_model *model,
                      unsigned width, unsigned height, void *memory);
    nsk_row (*row)(nsk_sensor_reader *reader,
                   nsk_row (*row)(void *context, uint8_t *to, size_t bytes, unsigned y),
                   void *context, uint8_t *to, unsigned y);
} nsk_sensing; /* {sensor, nsk_sensor_bytes, nsk_sensor_set, nsk_sensor_row} */

#ifdef __cplusplus
}
#endif
#endif
