/* BMP: 1, 4, 8, 16, 24 and 32 bits, palettes, bit fields, run lengths, either way up. */
#include <string.h>

#include "images/decoders.h"

enum { RGB = 0, RUNS_OF_8 = 1, RUNS_OF_4 = 2, FIELDS = 3, FIELDS_WITH_ALPHA = 6 };

typedef struct bitmap {
    const uint8_t *bytes;
    size_t size;
    size_t header;  /* bytes of the second header */
    size_t pixels;  /* where they start */
    size_t palette; /* where it starts */
    unsigned bits, compression, colours;
    unsigned entry;    /* bytes of a palette's entry */
    uint32_t field[3]; /* masks of red, green, blue */
    bool from_top;
    nsk_picture *picture;
} bitmap;

static uint32_t number(const bitmap *b, size_t at, unsigned width) {
    uint32_t value = 0;
    for (unsigned i = width; i > 0 && at + width <= b->size; i--) {
        value = value << 8 | b->bytes[at + i - 1U];
    }
    return value;
}

static uint8_t *pixel_at(const bitmap *b, int x, int y) {
    int row = b->from_top ? y : b->picture->height - 1 - y;
    return b->picture->rgb + 3 * ((size_t)row * (size_t)b->picture->width + (size_t)x);
}

static void put_index(const bitmap *b, int x, int y, unsigned index) {
    size_t at = b->palette + (size_t)b->entry * index;
    uint8_t *to = pixel_at(b, x, y);
    for (size_t c = 0; c < 3; c++) {
        to[c] = index < b->colours ? (uint8_t)number(b, at + 2 - c, 1) : 0;
    }
}

/* The bits of a mask as a number from 0 to 255. */
static uint8_t field_of(uint32_t value, uint32_t mask) {
    if (mask == 0) {
        return 0;
    }
    value &= mask;
    while ((mask & 1U) == 0) {
        mask >>= 1;
        value >>= 1;
    }
    return (uint8_t)(((uint64_t)value * 255 + mask / 2) / mask);
}

static void put_fields(const bitmap *b, int x, int y, uint32_t value) {
    uint8_t *to = pixel_at(b, x, y);
    for (int c = 0; c < 3; c++) {
        to[c] = field_of(value, b->field[c]);
    }
}

static bool read_rows(const bitmap *b) {
    size_t row = ((size_t)b->bits * (size_t)b->picture->width + 31) / 32 * 4;
    if (b->pixels > b->size || row * (size_t)b->picture->height > b->size - b->pixels) {
        return false;
    }
    for (int y = 0; y < b->picture->height; y++) {
        size_t from = b->pixels + row * (size_t)y;
        for (int x = 0; x < b->picture->width; x++) {
            size_t bit = (size_t)b->bits * (size_t)x;
            if (b->bits > 8) {
                put_fields(b, x, y, number(b, from + bit / 8, b->bits / 8));
            } else {
                unsigned shift = (unsigned)(8 - b->bits - bit % 8);
                put_index(b, x, y, b->bytes[from + bit / 8] >> shift & ((1U << b->bits) - 1U));
            }
        }
    }
    return true;
}

/* One index of a run: of four bits, the upper half first. */
static unsigned run_index(const bitmap *b, const uint8_t *from, unsigned i) {
    if (b->bits == 8) {
        return from[i];
    }
    return i % 2 == 0 ? from[i / 2] >> 4 : from[i / 2] & 15U;
}

static void put_run(const bitmap *b, int *x, int y, unsigned index) {
    if (*x < b->picture->width) {
        put_index(b, *x, y, index);
        ++*x;
    }
}

/* So many indices as they are, padded to two bytes. */
static bool put_literal(const bitmap *b, size_t *at, int *x, int y, unsigned count) {
    size_t bytes = ((size_t)count * b->bits + 15) / 16 * 2;
    if (bytes > b->size - *at) {
        return false;
    }
    for (unsigned i = 0; i < count; i++) {
        put_run(b, x, y, run_index(b, b->bytes + *at, i));
    }
    *at += bytes;
    return true;
}

/* Pixels that are not mentioned stay black. */
static bool read_runs(const bitmap *b) {
    enum { END_OF_ROW, END_OF_PICTURE, STEP };
    size_t at = b->pixels;
    int x = 0;
    int y = 0;
    while (at + 2 <= b->size && y < b->picture->height) {
        unsigned count = b->bytes[at];
        unsigned what = b->bytes[at + 1];
        at += 2;
        for (unsigned i = 0; i < count; i++) {
            put_run(b, &x, y, run_index(b, b->bytes + at - 1, b->bits == 8 ? 0 : i % 2));
        }
        if (count > 0) {
            continue;
        }
        if (what == END_OF_PICTURE) {
            return true;
        }
        if (what == END_OF_ROW) {
            x = 0;
            y++;
        } else if (what == STEP) {
            x = MIN(x + (int)number(b, at, 1), b->picture->width);
            y += (int)number(b, at + 1, 1);
            at += 2;
        } else if (!put_literal(b, &at, &x, y, what)) {
            return false;
        }
    }
    return y >= b->picture->height;
}

static void read_fields(bitmap *b) {
    static const uint32_t usual[2][3] = {{0x7c00, 0x03e0, 0x001f}, {0xff0000, 0xff00, 0xff}};
    memcpy(b->field, usual[b->bits == 16 ? 0 : 1], sizeof b->field);
    if (b->compression == FIELDS || b->compression == FIELDS_WITH_ALPHA) {
        for (size_t c = 0; c < 3; c++) { /* behind the short header, or in the longer ones */
            b->field[c] = number(b, 14 + 40 + 4 * c, 4);
        }
    }
}

/* NULL, or what is wrong with the headers. */
static const char *read_header(bitmap *b, uint64_t *width, uint64_t *height) {
    b->pixels = number(b, 10, 4);
    b->header = number(b, 14, 4);
    bool old = b->header == 12;
    if (b->size < 14 + 12 || (!old && (b->header < 40 || b->header > 124))) {
        return "its header is not one";
    }
    int32_t down = old ? (int32_t)number(b, 20, 2) : (int32_t)number(b, 22, 4);
    *width = number(b, 18, old ? 2 : 4);
    *height = down < 0 ? (uint64_t)(-(int64_t)down) : (uint64_t)down;
    b->from_top = down < 0;
    b->bits = number(b, old ? 24 : 28, 2);
    b->compression = old ? RGB : number(b, 30, 4);
    b->entry = old ? 3 : 4;
    b->palette = 14 + b->header;
    b->colours = old ? 0 : number(b, 46, 4);
    b->colours = b->colours == 0 || b->colours > 256 ? 256 : b->colours;
    bool plain = b->compression == RGB && (b->bits == 1 || b->bits == 4 || b->bits == 8 ||
                                           b->bits == 16 || b->bits == 24 || b->bits == 32);
    bool fields = (b->compression == FIELDS || b->compression == FIELDS_WITH_ALPHA) &&
                  (b->bits == 16 || b->bits == 32);
    bool runs = (b->compression == RUNS_OF_8 && b->bits == 8) ||
                (b->compression == RUNS_OF_4 && b->bits == 4);
    return plain || fields || runs ? NULL : "its depth or compression is not one of the usual";
}

static bool is_grey(const bitmap *b) {
    for (unsigned i = 0; b->bits <= 8 && i < b->colours; i++) {
        size_t at = b->palette + (size_t)b->entry * i;
        if (number(b, at, 1) != number(b, at + 1, 1) || number(b, at, 1) != number(b, at + 2, 1)) {
            return false;
        }
    }
    return b->bits <= 8;
}

bool nsk_decode_bmp(const uint8_t *bytes, size_t size, nsk_picture *picture, nsk_error *error) {
    bitmap b = {.bytes = bytes, .size = size, .picture = picture};
    uint64_t width = 0;
    uint64_t height = 0;
    const char *wrong = read_header(&b, &width, &height);
    if (wrong != NULL) {
        return nsk_picture_refuse(picture, "BMP", wrong, error);
    }
    if (!nsk_picture_start(picture, width, height, error)) {
        return false;
    }
    read_fields(&b);
    picture->colour = !is_grey(&b);
    bool runs = b.compression == RUNS_OF_8 || b.compression == RUNS_OF_4;
    return (runs ? read_runs(&b) : read_rows(&b)) ||
           nsk_picture_refuse(picture, "BMP", "the file is cut short", error);
}
