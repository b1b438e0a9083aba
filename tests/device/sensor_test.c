/* What sensors send: every format held against formulas written anew, the order in which lines are
 * asked for, and the whole way from the sensor to the scores, as the host half has it. */
#include <math.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "brief/rule.h"
#include "images/sensor.h"
#include "netsuke/film.h"
#include "netsuke/firmware.h"
#include "netsuke/sensor.h"

/* ---- formats, over again ---- */

/* What a sensor of that size sends, and how it is to be read. */
typedef struct sending {
    nsk_sensor sensor;
    unsigned width, height;
    nsk_colour colour;
    const uint8_t *lines;
    size_t line_bytes;
    unsigned asked; /* lines so far */
    int cut_at;     /* after so many lines the picture ends; -1: never */
} sending;

static int clamped(int value, int from, int to) {
    return value < from ? from : value > to ? to : value;
}

static uint8_t byte_at(const sending *s, unsigned line, unsigned i) {
    return s->lines[line * s->line_bytes + i];
}

/* Of a mosaic: 0 red, 1 green, 2 blue. */
static int colour_at(const sending *s, int x, int y) {
    static const char *const orders[] = {"0112", "1021", "1201", "2110"};
    return orders[s->sensor.format - NSK_SENSOR_RGGB][2 * (y & 1) + (x & 1)] - '0';
}

/* The mean of those of the nine around it that have the colour, halves up. Beyond an edge stands
 * what lies as far on this side. */
static int mosaic(const sending *s, int x, int y, int colour) {
    int sum = 0;
    int count = 0;
    if (colour_at(s, x, y) == colour) {
        return byte_at(s, (unsigned)y, (unsigned)x);
    }
    for (int i = 0; i < 9; i++) {
        int column = abs(x + i % 3 - 1);
        int row = abs(y + i / 3 - 1);
        column = column >= (int)s->width ? 2 * (int)s->width - 2 - column : column;
        row = row >= (int)s->height ? 2 * (int)s->height - 2 - row : row;
        if (colour_at(s, column, row) == colour) {
            sum += byte_at(s, (unsigned)row, (unsigned)column);
            count++;
        }
    }
    return (int)floor((double)sum / count + 0.5);
}

/* In units of 2^-8: docs/sensors.md. */
static int of_yuv(const sending *s, int luma, int u, int v, int channel) {
    static const int numbers[2][6] = {{16, 298, 409, 100, 208, 516}, {0, 256, 359, 88, 183, 454}};
    const int *n = numbers[s->sensor.full];
    const int y = n[1] * (luma - n[0]) + 128;
    const int sums[] = {y + n[2] * (v - 128), y - n[3] * (u - 128) - n[4] * (v - 128),
                        y + n[5] * (u - 128)};
    const int sum = s->colour == NSK_COLOUR_GREY ? y : sums[channel];
    return clamped((int)floor(sum / 256.0), 0, 255);
}

static int of_565(unsigned word, int channel) {
    static const int shifts[] = {11, 5, 0};
    static const int bits[] = {5, 6, 5};
    const unsigned value = word >> shifts[channel] & ((1U << bits[channel]) - 1U);
    return (int)(value << (8 - bits[channel]) | value >> (2 * bits[channel] - 8));
}

/* A channel of a pixel of the sensor's whole picture, by its format; of YUV and grey models that is
 * Y. */
static int expected(const sending *s, unsigned x, unsigned y, int channel) {
    const unsigned pair = x / 2 * 4;
    switch (s->sensor.format) {
    case NSK_SENSOR_RGB565:
        return of_565(byte_at(s, y, 2 * x) | (unsigned)byte_at(s, y, 2 * x + 1) << 8, channel);
    case NSK_SENSOR_RGB565_HIGH:
        return of_565((unsigned)byte_at(s, y, 2 * x) << 8 | byte_at(s, y, 2 * x + 1), channel);
    case NSK_SENSOR_YUYV:
        return of_yuv(s, byte_at(s, y, 2 * x), byte_at(s, y, pair + 1), byte_at(s, y, pair + 3),
                      channel);
    case NSK_SENSOR_UYVY:
        return of_yuv(s, byte_at(s, y, 2 * x + 1), byte_at(s, y, pair), byte_at(s, y, pair + 2),
                      channel);
    case NSK_SENSOR_NV12:
        return of_yuv(s, byte_at(s, y, x), byte_at(s, s->height + y / 2, x / 2 * 2),
                      byte_at(s, s->height + y / 2, x / 2 * 2 + 1), channel);
    case NSK_SENSOR_GREY10:
        return (byte_at(s, y, 2 * x) | byte_at(s, y, 2 * x + 1) << 8) >> 2 & 255;
    default:
        return mosaic(s, (int)x, (int)y, channel);
    }
}

static bool is_yuv(const sending *s) {
    return s->sensor.format >= NSK_SENSOR_YUYV && s->sensor.format <= NSK_SENSOR_NV12;
}

/* A byte of the picture that is looked at. */
static int expected_byte(const sending *s, unsigned x, unsigned y, int channel) {
    const unsigned width = nsk_sensor_width(&s->sensor, s->width);
    const unsigned height = nsk_sensor_height(&s->sensor, s->height);
    const unsigned column = s->sensor.left + (s->sensor.mirrored ? width - 1 - x : x);
    const unsigned row = s->sensor.top + (s->sensor.upside_down ? height - 1 - y : y);
    if (s->sensor.format == NSK_SENSOR_PIXELS) {
        const unsigned channels = s->colour == NSK_COLOUR_GREY ? 1 : 3;
        return byte_at(s, row, column * channels + (unsigned)channel);
    }
    if (s->colour != NSK_COLOUR_GREY || is_yuv(s)) {
        return expected(s, column, row, s->colour == NSK_COLOUR_BGR ? 2 - channel : channel);
    }
    return (77 * expected(s, column, row, 0) + 150 * expected(s, column, row, 1) +
            29 * expected(s, column, row, 2) + 128) >>
           8;
}

/* Which line the n-th is that is asked for. */
static unsigned nth_line(const sending *s, unsigned n) {
    const bool is_nv12 = s->sensor.format == NSK_SENSOR_NV12;
    const unsigned come = is_nv12 ? n / 3 * 2 + (n % 3 == 2) : n;
    const unsigned line = s->sensor.upside_down ? s->height - 1 - come : come;
    return is_nv12 && n % 3 == 1 ? s->height + line / 2 : line;
}

static nsk_row give_line(void *context, uint8_t *to, size_t bytes, unsigned y) {
    sending *s = context;
    CU_ASSERT_EQUAL(bytes, s->line_bytes);
    CU_ASSERT_EQUAL(y, nth_line(s, s->asked));
    if ((int)s->asked == s->cut_at) {
        return NSK_ROW_CUT;
    }
    s->asked++;
    memcpy(to, s->lines + bytes * y, bytes);
    return NSK_ROW_THERE;
}

static unsigned some(random_state *r, int least, int most, unsigned step) {
    return (unsigned)(least + random_below(r, most - least + 1)) / step * step;
}

static sending drawn(random_state *r, int round) {
    sending s = {.colour = (nsk_colour)(round / NSK_SENSOR_FORMATS % 3), .cut_at = -1};
    s.sensor.format = (uint8_t)(round % NSK_SENSOR_FORMATS);
    s.sensor.full = random_below(r, 2) == 1;
    s.sensor.mirrored = random_below(r, 2) == 1;
    s.sensor.upside_down = random_below(r, 2) == 1;
    const bool paired = is_yuv(&s);
    s.width = some(r, 2, 23, paired ? 2 : 1);
    s.height = some(r, 2, 13, s.sensor.format == NSK_SENSOR_NV12 ? 2 : 1);
    if (random_below(r, 2) == 1) {
        s.sensor.width = (uint16_t)(1 + random_below(r, (int)s.width));
        s.sensor.height = (uint16_t)(1 + random_below(r, (int)s.height));
        s.sensor.left = (uint16_t)random_below(r, (int)s.width - s.sensor.width + 1);
        s.sensor.top = (uint16_t)random_below(r, (int)s.height - s.sensor.height + 1);
    }
    return s;
}

static void every_format(void) {
    enum { ROUNDS = 3300 / TESTS_FEWER };
    random_state r = {517};
    for (int round = 0; round < ROUNDS; round++) {
        sending s = drawn(&r, round);
        const nsk_model model = {.channels = s.colour == NSK_COLOUR_GREY ? 1 : 3,
                                 .colour = s.colour};
        const unsigned channels = model.channels;
        s.line_bytes = nsk_sensor_line_bytes(&s.sensor, s.width, channels);
        const size_t size = s.line_bytes * nsk_sensor_lines(&s.sensor, s.height);
        uint8_t *lines = g_malloc(size);
        for (size_t i = 0; i < size; i++) {
            lines[i] = (uint8_t)random_below(&r, 256);
        }
        s.lines = lines;
        nsk_sensor_reader reader;
        void *memory = g_malloc(nsk_sensor_bytes(&s.sensor, s.width, channels));
        CU_ASSERT_EQUAL_FATAL(nsk_sensor_set(&reader, &s.sensor, &model, s.width, s.height, memory),
                              NSK_STATUS_OK);
        const unsigned width = nsk_sensor_width(&s.sensor, s.width);
        uint8_t *row = g_malloc((gsize)width * channels);
        int wrong = 0;
        for (int picture = 0; picture < 2; picture++) {
            s.asked = 0;
            for (unsigned y = 0; y < nsk_sensor_height(&s.sensor, s.height); y++) {
                CU_ASSERT_EQUAL(nsk_sensor_row(&reader, give_line, &s, row, y), NSK_ROW_THERE);
                for (unsigned i = 0; i < width * channels; i++) {
                    wrong += row[i] != expected_byte(&s, i / channels, y, (int)(i % channels));
                }
            }
        }
        CU_ASSERT_EQUAL(wrong, 0);
        s.asked = 0;
        s.cut_at = 0; /* what the camera says comes back */
        CU_ASSERT_EQUAL(nsk_sensor_row(&reader, give_line, &s, row, 0), NSK_ROW_CUT);
        g_free(row);
        g_free(memory);
        g_free(lines);
    }
}

static void sizes_that_there_are_not(void) {
    static const struct {
        nsk_sensor sensor;
        unsigned width, height;
        uint8_t channels;
        nsk_status status;
    } cases[] = {
        {{.format = NSK_SENSOR_YUYV}, 7, 4, 3, NSK_STATUS_INCONSISTENT},
        {{.format = NSK_SENSOR_UYVY}, 8, 5, 3, NSK_STATUS_OK},
        {{.format = NSK_SENSOR_NV12}, 8, 5, 3, NSK_STATUS_INCONSISTENT},
        {{.format = NSK_SENSOR_NV12}, 8, 6, 1, NSK_STATUS_OK},
        {{.format = NSK_SENSOR_BGGR}, 1, 6, 3, NSK_STATUS_INCONSISTENT},
        {{.format = NSK_SENSOR_BGGR}, 2, 2, 3, NSK_STATUS_OK},
        {{.format = NSK_SENSOR_RGB565}, 0, 1, 3, NSK_STATUS_INCONSISTENT},
        {{.format = NSK_SENSOR_RGB565}, 1, 1, 3, NSK_STATUS_OK},
        {{.format = NSK_SENSOR_RGB565}, 65536, 1, 3, NSK_STATUS_INCONSISTENT},
        {{.format = NSK_SENSOR_RGB565}, 4, 4, 4, NSK_STATUS_INCONSISTENT},
        {{.format = NSK_SENSOR_FORMATS}, 4, 4, 3, NSK_STATUS_INCONSISTENT},
        {{.width = 4, .height = 4, .left = 1}, 4, 4, 3, NSK_STATUS_INCONSISTENT},
        {{.width = 4, .height = 4, .top = 65535}, 4, 4, 3, NSK_STATUS_INCONSISTENT},
        {{.width = 4, .height = 0}, 4, 4, 3, NSK_STATUS_INCONSISTENT},
        {{.width = 3, .height = 3, .left = 1, .top = 1}, 4, 4, 3, NSK_STATUS_OK},
    };
    uint8_t memory[64];
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        const nsk_model model = {.channels = cases[i].channels};
        nsk_sensor_reader reader;
        CU_ASSERT_EQUAL(nsk_sensor_set(&reader, &cases[i].sensor, &model, cases[i].width,
                                       cases[i].height, memory),
                        cases[i].status);
    }
}

/* ---- the whole way ---- */

/* The product's loop in front of one picture of a scene, as its sensor sends it. */
typedef struct looking {
    const uint8_t *lines;
    unsigned first, pictures;
    int32_t scores[8];
    unsigned classes;
    GPtrArray *memory;
} looking;

static void *take(void *context, size_t bytes) {
    void *memory = g_malloc0(bytes);
    g_ptr_array_add(((looking *)context)->memory, memory);
    return memory;
}

static nsk_row show_line(void *context, uint8_t *to, size_t bytes, unsigned y) {
    looking *l = context;
    if (y == l->first && l->pictures++ > 0) {
        return NSK_ROW_END;
    }
    memcpy(to, l->lines + bytes * y, bytes);
    return NSK_ROW_THERE;
}

static void nothing(void *context) {
    (void)context;
}

static void no_layer(void *context, const nsk_model *model, unsigned layer) {
    (void)context;
    (void)model;
    (void)layer;
}

static void hear(void *context, const nsk_answered *answer) {
    looking *l = context;
    l->classes = answer->model->classes;
    memcpy(l->scores, answer->scores, answer->model->classes * sizeof *l->scores);
}

static void no_fault(void *context, nsk_fault fault) {
    (void)context;
    CU_ASSERT_EQUAL(fault, NSK_FAULT_NONE);
}

static void look_through(const kiln *k, const nsk_film *film, const uint8_t *pixels,
                         const nsk_input *input) {
    nsk_product product = {.camera_width = 64, .camera_height = 64, .sensor = input->sensor};
    const nsk_decision decision = {.threshold = 0.5, .frames = 1};
    nsk_rule_lists lists;
    nsk_model model;
    uint8_t *lines = g_malloc(nsk_film_sent(film));
    nsk_film_send(film, pixels, lines);
    looking l = {.lines = lines, .memory = g_ptr_array_new_with_free_func(g_free)};
    l.first = input->sensor.upside_down ? 63 : 0;
    const nsk_port port = {.context = &l,
                           .memory = take,
                           .row = show_line,
                           .prepared = nothing,
                           .layer_done = no_layer,
                           .answer = hear,
                           .fault = no_fault};
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, k->file->bytes, k->file->size), NSK_STATUS_OK);
    const nsk_firmware firmware = nsk_firmware_of(&product, &decision, &model, &lists);
    CU_ASSERT_PTR_NOT_NULL_FATAL(firmware.sensing);
    CU_ASSERT_EQUAL(nsk_firmware_run(&port, &firmware), NSK_STATUS_OK);
    /* and what the host makes of the same picture */
    nsk_picture picture = {.width = 64, .height = 64, .rgb = (uint8_t *)pixels};
    uint8_t frame[48 * 48 * 3];
    int32_t scores[8];
    nsk_picture_to_frame(&picture, input, frame);
    model_scores(k->file, frame, scores);
    CU_ASSERT_EQUAL(l.classes, 6);
    CU_ASSERT_EQUAL(memcmp(scores, l.scores, l.classes * sizeof *scores), 0);
    g_ptr_array_free(l.memory, TRUE);
    g_free(lines);
}

static void the_device_sees_what_the_host_sees(void) {
    kiln k;
    nsk_error error = {.text = ""};
    uint8_t *pixels = g_malloc((gsize)64 * 64 * 3);
    kiln_load(&k, 6);
    for (int i = 0; i < 2 * NSK_SENSOR_FORMATS; i++) {
        nsk_input input = k.brief->input;
        nsk_product product = {.camera_width = 64, .camera_height = 64};
        input.sensor = (nsk_sensor){.format = (uint8_t)(i % NSK_SENSOR_FORMATS),
                                    .full = i % 3 == 1,
                                    .mirrored = i % 4 != 1,
                                    .upside_down = i % 5 == 2};
        if (i >= NSK_SENSOR_FORMATS) {
            input.sensor.width = 57;
            input.sensor.height = 51;
            input.sensor.left = 3;
            input.sensor.top = 7;
        }
        input.sensor_width = input.sensor_height = 64;
        nsk_film *film =
            nsk_film_read("demo/scenes/plain.csv", &k.brief->labels, &input, &product, 20, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(film);
        CU_ASSERT_FATAL(nsk_film_picture(film, 8, pixels, &error));
        if (!nsk_sensor_is_plain(&input.sensor)) {
            look_through(&k, film, pixels, &input);
        }
        nsk_film_free(film);
    }
    g_free(pixels);
    kiln_free(&k);
}

/* A picture of any size, odd ones too: turned back and forth it is itself, in grey at ten bits too;
 * what other formats change is bounded. */
static void sizes_of_pictures(void) {
    random_state r = {9};
    for (int round = 0; round < 60; round++) {
        const int width = 1 + random_below(&r, 30);
        const int height = 1 + random_below(&r, 30);
        nsk_picture picture;
        nsk_picture seen;
        nsk_error error;
        nsk_input input = {.width = width, .height = height, .top = 1.0};
        CU_ASSERT_FATAL(nsk_picture_start(&picture, (uint64_t)width, (uint64_t)height, &error));
        const int level = random_below(&r, 256);
        for (int i = 0; i < 3 * width * height; i++) {
            picture.rgb[i] = (uint8_t)(round % 2 == 0 ? level : random_below(&r, 256));
        }
        input.sensor_width = 48; /* of another size */
        input.sensor_height = 64;
        for (int format = 0; format < NSK_SENSOR_FORMATS; format++) {
            input.sensor = (nsk_sensor){.format = (uint8_t)format,
                                        .full = round % 4 < 2,
                                        .mirrored = true,
                                        .upside_down = round % 3 == 0};
            nsk_picture_sense(&picture, &input, &seen);
            CU_ASSERT_FATAL(seen.width == width && seen.height == height);
            int most = 0;
            for (int i = 0; i < 3 * width * height; i++) {
                most = MAX(most, abs(seen.rgb[i] - picture.rgb[i]));
            }
            if (format == NSK_SENSOR_PIXELS) {
                CU_ASSERT_EQUAL(most, 0);
            } else if (format <= NSK_SENSOR_RGB565_HIGH || round % 2 == 0) {
                CU_ASSERT(most <= 5); /* of what has no pixels' colours in common, or one colour */
            }
            nsk_picture_clear(&seen);
        }
        nsk_picture_clear(&picture);
    }
}

CU_TestInfo sensor_tests[] = {
    {"every format", every_format},
    {"sizes that there are not", sizes_that_there_are_not},
    {"the device sees what the host sees", the_device_sees_what_the_host_sees},
    {"sizes of pictures", sizes_of_pictures},
    CU_TEST_INFO_NULL,
};
