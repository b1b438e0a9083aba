/* Every picture format and variant, from bytes written out here or by the format's own library. */
#include <png.h>
#include <string.h>

#include <jpeglib.h>

#include "../suites.h"
#include "../support.h"
#include "images/picture.h"

/* "00 ff" to bytes. */
static uint8_t *bytes_of(const char *hex, size_t *size) {
    uint8_t *bytes = g_malloc0(strlen(hex));
    *size = 0;
    for (; *hex != '\0'; hex++) {
        if (g_ascii_isxdigit(*hex)) {
            bytes[(*size)++] =
                (uint8_t)(16 * g_ascii_xdigit_value(hex[0]) + g_ascii_xdigit_value(hex[1]));
            hex++;
        }
    }
    return bytes;
}

/* Decodes, and refuses, without touching what is not there, every shorter file. */
static void check_bytes(const char *name, const uint8_t *bytes, size_t size, int width, int height,
                        const char *wanted) {
    nsk_error error = {.text = ""};
    nsk_picture picture;
    size_t count;
    uint8_t *rgb = bytes_of(wanted, &count);
    bool good = nsk_picture_decode(bytes, size, &picture, &error) && picture.width == width &&
                picture.height == height && count == (size_t)(3 * width * height) &&
                memcmp(picture.rgb, rgb, count) == 0;
    if (!good) {
        fprintf(stderr, "\n    %s: %s", name, error.text);
        for (size_t i = 0; picture.rgb != NULL && i < count; i++) {
            fprintf(stderr, " %02x", picture.rgb[i]);
        }
    }
    CU_ASSERT(good);
    nsk_picture_clear(&picture);
    g_free(rgb);
    for (size_t cut = 0; cut + 2 < size; cut++) {
        uint8_t *part = g_memdup2(bytes, cut + 1);
        bool read = nsk_picture_decode(part, cut, &picture, &error);
        CU_ASSERT_FALSE(read && cut + 8 < size); /* the end of run lengths may be left out */
        nsk_picture_clear(&picture);
        g_free(part);
    }
}

static void pnm(void) {
    static const struct {
        const char *text; /* header and, of raw ones, the samples in hexadecimal behind '|' */
        int width, height;
        const char *rgb;
    } cases[] = {
        {"P1 # bits\n2 2\n0110|", 2, 2, "ffffff 000000 000000 ffffff"},
        {"P4\n3 2\n|a0 40", 3, 2, "000000 ffffff 000000 ffffff 000000 ffffff"},
        {"P2\n2 1\n# most\n4\n1 4|", 2, 1, "404040 ffffff"}, /* 63.75 */
        {"P5 2 1 255\n|07 80", 2, 1, "070707 808080"},
        {"P5 1 1 65535\n|80 00", 1, 1, "808080"}, /* 127.5 and a little */
        {"P3 1 2 255 1 2 3  4 5 6|", 1, 2, "010203 040506"},
        {"P6\n1\n1\n255\n|0a 0b 0c", 1, 1, "0a0b0c"},
        {"P6 1 1 1023\n|03ff 0200 0001", 1, 1, "ff8000"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        const char *bar = strchr(cases[i].text, '|');
        size_t size;
        uint8_t *samples = bytes_of(bar, &size);
        size_t header = (size_t)(bar - cases[i].text);
        uint8_t *all = g_malloc(header + size);
        memcpy(all, cases[i].text, header);
        memcpy(all + header, samples, size);
        check_bytes(cases[i].text, all, header + size, cases[i].width, cases[i].height,
                    cases[i].rgb);
        g_free(samples);
        g_free(all);
    }
}

/* Headers of 40 bytes: size, offset of the pixels, width, height, bits, compression, colours. */
#define BMP(pixels, width, height, bits, compression, colours)                                     \
    "42 4d 00000000 00000000" pixels "000000 28000000" width "000000" height "0100" bits           \
    "00" compression "000000 00000000 00000000 00000000" colours "000000 00000000"

static void bmp(void) {
    static const struct {
        const char *name, *hex;
        int width, height;
        const char *rgb;
    } cases[] = {
        {"24 bits, bottom up",
         BMP("36", "02", "02000000", "18", "00", "00") "010203 040506 0000"
                                                       "070809 0a0b0c 0000",
         2, 2, "090807 0c0b0a 030201 060504"},
        {"24 bits, top down", BMP("36", "01", "feffffff", "18", "00", "00") "010203 00 040506 00",
         1, 2, "030201 060504"},
        {"32 bits", BMP("36", "01", "01000000", "20", "00", "00") "01020300", 1, 1, "030201"},
        {"16 bits, 5 each", BMP("36", "02", "01000000", "10", "00", "00") "007c 1f00", 2, 1,
         "ff0000 0000ff"},
        {"16 bits, fields 5 6 5",
         BMP("42", "01", "01000000", "10", "03", "00") "00f80000 e0070000 1f000000 e007 0000", 1, 1,
         "00ff00"},
        {"8 bits", BMP("3e", "02", "01000000", "08", "00", "02") "01020300 0a0b0c00 01 00 0000", 2,
         1, "0c0b0a 030201"},
        {"4 bits", BMP("3e", "03", "01000000", "04", "00", "02") "01020300 0a0b0c00 01 10 0000", 3,
         1, "030201 0c0b0a 0c0b0a"},
        {"1 bit", BMP("3e", "03", "01000000", "01", "00", "02") "00000000 ffffff00 a0 000000", 3, 1,
         "ffffff 000000 ffffff"},
        {"runs of 8",
         BMP("3e", "04", "02000000", "08", "01", "02") "01020300 0a0b0c00 0301 0100 0000 "
                                                       "0003 00 01 00 00 0001",
         4, 2, "030201 0c0b0a 030201 000000 0c0b0a 0c0b0a 0c0b0a 030201"},
        {"runs of 4",
         BMP("3e", "04", "01000000", "04", "02", "02") "01020300 0a0b0c00 0301 0110 0001", 4, 1,
         "030201 0c0b0a 030201 0c0b0a"},
        {"old header", "424d 00000000 00000000 1a000000 0c000000 0100 0100 0100 1800 010203 00", 1,
         1, "030201"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        size_t size;
        uint8_t *bytes = bytes_of(cases[i].hex, &size);
        check_bytes(cases[i].name, bytes, size, cases[i].width, cases[i].height, cases[i].rgb);
        g_free(bytes);
    }
}

typedef struct png_case {
    const char *name;
    int kind, depth, interlace;
    const char *row; /* the one row's bytes */
    int width;
    const char *rgb;
} png_case;

static void append_bytes(png_structp png, png_bytep bytes, size_t size) {
    g_byte_array_append(png_get_io_ptr(png), bytes, (guint)size);
}

static GByteArray *encode_png(const png_case *c) {
    static const png_color palette[2] = {{10, 20, 30}, {40, 50, 60}};
    static const uint8_t clear[1] = {0};
    GByteArray *bytes = g_byte_array_new();
    png_structp png = png_create_write_struct(PNG_LIBPNG_VER_STRING, NULL, NULL, NULL);
    png_infop info = png_create_info_struct(png);
    size_t size;
    uint8_t *row = bytes_of(c->row, &size);
    png_bytep rows[1] = {row};
    png_set_write_fn(png, bytes, append_bytes, NULL);
    png_set_IHDR(png, info, (png_uint_32)c->width, 1, c->depth, c->kind, c->interlace, 0, 0);
    png_set_gAMA_fixed(png, info, 100000); /* to be ignored */
    if (c->kind == PNG_COLOR_TYPE_PALETTE) {
        png_set_PLTE(png, info, palette, 2);
        png_set_tRNS(png, info, clear, 1, NULL);
    }
    png_write_info(png, info);
    png_write_image(png, rows);
    png_write_end(png, info);
    png_destroy_write_struct(&png, &info);
    g_free(row);
    return bytes;
}

static void png(void) {
    static const png_case cases[] = {
        {"grey 1", PNG_COLOR_TYPE_GRAY, 1, 0, "a0", 3, "ffffff 000000 ffffff"},
        {"grey 2", PNG_COLOR_TYPE_GRAY, 2, 0, "1b", 4, "000000 555555 aaaaaa ffffff"},
        {"grey 4", PNG_COLOR_TYPE_GRAY, 4, 0, "0f", 2, "000000 ffffff"},
        {"grey 8", PNG_COLOR_TYPE_GRAY, 8, 0, "07", 1, "070707"},
        {"grey 16", PNG_COLOR_TYPE_GRAY, 16, 0, "8000 007f", 2, "808080 000000"},
        {"grey and alpha", PNG_COLOR_TYPE_GRAY_ALPHA, 8, 0, "0700 09ff", 2, "070707 090909"},
        {"palette", PNG_COLOR_TYPE_PALETTE, 1, 0, "40", 2, "0a141e 28323c"},
        {"colour", PNG_COLOR_TYPE_RGB, 8, 0, "010203", 1, "010203"},
        {"colour 16", PNG_COLOR_TYPE_RGB, 16, 0, "ffff 0101 7fff", 1, "ff017f"},
        {"colour and alpha", PNG_COLOR_TYPE_RGBA, 8, 0, "01020300", 1, "010203"},
        {"interlaced", PNG_COLOR_TYPE_RGB, 8, 1, "010203 040506 070809", 3, "010203 040506 070809"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        GByteArray *bytes = encode_png(&cases[i]);
        check_bytes(cases[i].name, bytes->data, bytes->len, cases[i].width, 1, cases[i].rgb);
        g_byte_array_free(bytes, TRUE);
    }
}

/* A JPEG of flat 8 x 8 blocks in a row, with an EXIF marker of that orientation, or without. */
static uint8_t *encode_jpeg(J_COLOR_SPACE space, const uint8_t *pixels, int blocks, int orientation,
                            unsigned long *size) {
    struct jpeg_compress_struct info;
    struct jpeg_error_mgr manager;
    uint8_t *bytes = NULL;
    int each = space == JCS_GRAYSCALE ? 1 : space == JCS_CMYK ? 4 : 3;
    uint8_t *row = g_malloc((gsize)(8 * blocks * each));
    for (int i = 0; i < 8 * blocks * each; i++) {
        row[i] = pixels[i / (8 * each) * each + i % each];
    }
    info.err = jpeg_std_error(&manager);
    jpeg_create_compress(&info);
    jpeg_mem_dest(&info, &bytes, size);
    info.image_width = (JDIMENSION)(8 * blocks);
    info.image_height = 8;
    info.input_components = each;
    info.in_color_space = space;
    jpeg_set_defaults(&info);
    jpeg_set_quality(&info, 100, TRUE);
    jpeg_start_compress(&info, TRUE);
    if (orientation > 0) { /* the same structure in either byte order */
        static const uint8_t little[] =
            "Exif\0\0II*\0\10\0\0\0\1\0\22\1\3\0\1\0\0\0\0\0\0\0\0\0\0\0";
        static const uint8_t big[] = "Exif\0\0MM\0*\0\0\0\10\0\1\1\22\0\3\0\0\0\1\0\0\0\0\0\0\0\0";
        uint8_t marker[32];
        memcpy(marker, orientation % 2 == 0 ? little : big, sizeof marker);
        marker[orientation % 2 == 0 ? 24 : 25] = (uint8_t)orientation;
        jpeg_write_marker(&info, JPEG_APP0 + 1, marker, sizeof marker);
    }
    for (int y = 0; y < 8; y++) {
        jpeg_write_scanlines(&info, &row, 1);
    }
    jpeg_finish_compress(&info);
    jpeg_destroy_compress(&info);
    g_free(row);
    return bytes;
}

static bool near_to(const nsk_picture *p, int x, int y, int r, int g, int b) {
    const uint8_t *at = p->rgb + 3 * (y * p->width + x);
    return abs(at[0] - r) <= 3 && abs(at[1] - g) <= 3 && abs(at[2] - b) <= 3;
}

static void jpeg_colours(void) {
    static const struct {
        J_COLOR_SPACE space;
        uint8_t pixel[4];
        int r, g, b;
        bool colour;
    } cases[] = {
        {JCS_GRAYSCALE, {90}, 90, 90, 90, false},
        {JCS_RGB, {200, 100, 50}, 200, 100, 50, true},
        {JCS_CMYK, {255, 128, 0, 200}, 200, 100, 0, true}, /* inverted inks */
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        unsigned long size = 0;
        nsk_error error = {.text = ""};
        nsk_picture p;
        uint8_t *bytes = encode_jpeg(cases[i].space, cases[i].pixel, 1, 0, &size);
        CU_ASSERT_FATAL(nsk_picture_decode(bytes, size, &p, &error));
        CU_ASSERT(near_to(&p, 4, 4, cases[i].r, cases[i].g, cases[i].b));
        CU_ASSERT_EQUAL(p.colour, cases[i].colour);
        nsk_picture_clear(&p);
        free(bytes);
    }
}

/* Black on the left, white on the right, as stored: where black stands once it is upright. */
static void jpeg_is_turned_upright(void) {
    static const char black[] = "llrrlttbb"; /* left, right, top, bottom; orientation 0: no EXIF */
    const uint8_t pixels[2] = {0, 255};
    for (int orientation = 0; orientation <= 8; orientation++) {
        unsigned long size = 0;
        nsk_error error = {.text = ""};
        nsk_picture p;
        uint8_t *bytes = encode_jpeg(JCS_GRAYSCALE, pixels, 2, orientation, &size);
        CU_ASSERT_FATAL(nsk_picture_decode(bytes, size, &p, &error));
        CU_ASSERT_EQUAL(p.width, orientation >= 5 ? 8 : 16);
        char found = near_to(&p, 0, 0, 0, 0, 0) ? (near_to(&p, p.width - 1, 0, 0, 0, 0) ? 't' : 'l')
                     : near_to(&p, p.width - 1, 0, 0, 0, 0) ? 'r'
                                                            : 'b';
        CU_ASSERT_EQUAL(found, black[orientation]);
        nsk_picture_clear(&p);
        free(bytes);
    }
}

/* The eight ways to turn 1 2 / 3 4 / 5 6. */
static void orientations_by_hand(void) {
    static const char *const turned[] = {"123456", "214365", "654321", "563412",
                                         "135246", "531642", "642531", "246135"};
    for (int orientation = 1; orientation <= 8; orientation++) {
        nsk_picture p = {.width = 2, .height = 3, .rgb = g_malloc(18)};
        for (int i = 0; i < 18; i++) {
            p.rgb[i] = (uint8_t)('1' + i / 3);
        }
        nsk_picture_turn(&p, orientation);
        CU_ASSERT_EQUAL(p.width, orientation >= 5 ? 3 : 2);
        for (int i = 0; i < 18; i++) {
            CU_ASSERT_EQUAL(p.rgb[i], turned[orientation - 1][i / 3]);
        }
        nsk_picture_clear(&p);
    }
}

CU_TestInfo format_tests[] = {
    {"PNM", pnm},
    {"BMP", bmp},
    {"PNG", png},
    {"JPEG: grey, colour, inks", jpeg_colours},
    {"JPEG: turned upright", jpeg_is_turned_upright},
    {"orientations, worked by hand", orientations_by_hand},
    CU_TEST_INFO_NULL,
};
