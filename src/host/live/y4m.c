/* YUV4MPEG2: what its lines say, and its planes as red, green and blue. */
#include "live/y4m.h"

#include <string.h>

enum { MOST_LINE = 1024, MOST_SIDE = 16384 };

/* ---- lines ---- */

/* A line without its end: how long it is; -1 where the stream ends before its first byte, -2 where
 * it ends in it, or does not end. */
static int read_line(GInputStream *in, char *line, GCancellable *cancel) {
    for (int i = 0; i < MOST_LINE; i++) {
        gsize some = 0;
        if (!g_input_stream_read_all(in, line + i, 1, &some, cancel, NULL) || some == 0) {
            return i == 0 ? -1 : -2;
        }
        if (line[i] == '\n') {
            line[i] = '\0';
            return i;
        }
    }
    return -2;
}

/* How colour is stored, by the name of it. */
static const struct {
    const char *name;
    int across, down;
} stored[] = {{"420", 2, 2}, {"420jpeg", 2, 2},  {"420mpeg2", 2, 2}, {"420paldv", 2, 2},
              {"422", 2, 1}, {"444", 1, 1},      {"411", 4, 1},      {"410", 4, 4},
              {"440", 1, 2}, {"444alpha", 1, 1}, {"mono", 0, 0}};

static bool read_colour(const char *name, nsk_y4m *f, bool *alpha, nsk_error *error) {
    for (size_t i = 0; i < G_N_ELEMENTS(stored); i++) {
        if (strcmp(name, stored[i].name) == 0) {
            f->across = stored[i].across;
            f->down = stored[i].down;
            *alpha = strcmp(name, "444alpha") == 0;
            return true;
        }
    }
    return nsk_fail(
        error,
        "the Y4M stream's pictures are stored as '%s', which is not read: 8 bits a sample "
        "are; ffmpeg makes them so by -pix_fmt yuv420p",
        name);
}

static bool read_side(const char *text, int *side) {
    guint64 number;
    const bool good = g_ascii_string_to_unsigned(text, 10, 1, MOST_SIDE, &number, NULL);
    *side = good ? (int)number : 0;
    return good;
}

/* "30000:1001"; "0:0" is not known. */
static double read_rate(const char *text) {
    char *end;
    const double above = g_ascii_strtod(text, &end);
    const double below = *end == ':' ? g_ascii_strtod(end + 1, NULL) : 1.0;
    const double rate = below > 0.0 ? above / below : 0.0;
    return rate > 0.0 && rate < 1e6 ? rate : 0.0;
}

static bool read_word(const char *word, nsk_y4m *f, bool *alpha, nsk_error *error) {
    switch (word[0]) {
    case 'W':
        return read_side(word + 1, &f->width) ||
               nsk_fail(error, "the Y4M stream's width '%s' is none", word + 1);
    case 'H':
        return read_side(word + 1, &f->height) ||
               nsk_fail(error, "the Y4M stream's height '%s' is none", word + 1);
    case 'F':
        f->rate = read_rate(word + 1);
        return true;
    case 'C':
        return read_colour(word + 1, f, alpha, error);
    case 'X':
        f->full = f->full || strcmp(word, "XCOLORRANGE=FULL") == 0;
        return true;
    default: /* how lines are interlaced, what shape a pixel has, comments */
        return true;
    }
}

static size_t plane_bytes(const nsk_y4m *f, bool alpha) {
    const size_t luma = (size_t)f->width * (size_t)f->height;
    if (f->across == 0) {
        return luma;
    }
    const size_t colour = (size_t)((f->width + f->across - 1) / f->across) *
                          (size_t)((f->height + f->down - 1) / f->down);
    return luma + 2 * colour + (alpha ? luma : 0);
}

bool nsk_y4m_begin(GInputStream *in, nsk_y4m *format, GCancellable *cancel, nsk_error *error) {
    char line[MOST_LINE];
    bool alpha = false;
    bool good = true;
    *format = (nsk_y4m){.across = 2, .down = 2};
    if (read_line(in, line, cancel) < 0 ||
        (strcmp(line, "YUV4MPEG2") != 0 && !g_str_has_prefix(line, "YUV4MPEG2 "))) {
        return nsk_fail(error,
                        "this is no Y4M stream: it would begin with YUV4MPEG2; ffmpeg makes one "
                        "by -f yuv4mpegpipe");
    }
    char **words = g_strsplit(line, " ", -1);
    nsk_make_visible(line);
    for (char **word = words + 1; *word != NULL && good; word++) {
        nsk_make_visible(*word);
        good = read_word(*word, format, &alpha, error);
    }
    g_strfreev(words);
    if (good && (format->width == 0 || format->height == 0)) {
        good = nsk_fail(error, "the Y4M stream does not say how large its pictures are");
    }
    format->bytes = plane_bytes(format, alpha);
    return good;
}

int nsk_y4m_next(GInputStream *in, const nsk_y4m *format, uint8_t *planes, GCancellable *cancel,
                 nsk_error *error) {
    char line[MOST_LINE];
    const int length = read_line(in, line, cancel);
    if (length == -1) {
        return 0;
    }
    if (length < 0 || !g_str_has_prefix(line, "FRAME")) {
        nsk_fail(error, "the Y4M stream is damaged: a picture would begin with FRAME");
        return -1;
    }
    gsize some = 0;
    if (!g_input_stream_read_all(in, planes, format->bytes, &some, cancel, NULL) ||
        some < format->bytes) {
        nsk_fail(error, "the Y4M stream ends in the middle of a picture");
        return -1;
    }
    return 1;
}

/* ---- colours ---- */

static uint8_t byte_of(int sum) {
    const int level = sum / 256;
    return (uint8_t)CLAMP(level, 0, 255);
}

/* What 256ths of a level a sample adds: luma, and both colours' to red, green and blue; ITU-R
 * BT.601, luma of 219 levels and of 255. */
static const struct {
    int black, luma, red_of_v, green_of_u, green_of_v, blue_of_u;
} weights[] = {{16, 298, 409, -100, -208, 516}, {0, 256, 359, -88, -183, 454}};

void nsk_y4m_rgb(const nsk_y4m *format, const uint8_t *planes, uint8_t *rgb) {
    const int width = format->width;
    const int down = MAX(format->down, 1);
    const int across = MAX(format->across, 1);
    const int step = (width + across - 1) / across; /* samples of colour in a row */
    const uint8_t *u = planes + (size_t)width * (size_t)format->height;
    const uint8_t *v = u + (size_t)step * (size_t)((format->height + down - 1) / down);
    const bool grey = format->across == 0;
    for (int y = 0; y < format->height; y++) {
        const size_t row = (size_t)(y / down) * (size_t)step;
        for (int x = 0; x < width; x++) {
            const int luma =
                weights[format->full].luma * (*planes++ - weights[format->full].black) + 128;
            const int cb = grey ? 0 : u[row + (size_t)(x / across)] - 128;
            const int cr = grey ? 0 : v[row + (size_t)(x / across)] - 128;
            *rgb++ = byte_of(luma + weights[format->full].red_of_v * cr);
            *rgb++ = byte_of(luma + weights[format->full].green_of_u * cb +
                             weights[format->full].green_of_v * cr);
            *rgb++ = byte_of(luma + weights[format->full].blue_of_u * cb);
        }
    }
}
