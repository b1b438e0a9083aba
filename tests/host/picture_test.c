/* Decoding and resizing. */
#include <stdio.h>
#include <string.h>

#include <jpeglib.h>

#include "../suites.h"
#include "../support.h"
#include "images/picture.h"

static nsk_picture grey_picture(int width, int height, const uint8_t *values) {
    nsk_picture p = {
        .width = width, .height = height, .rgb = g_malloc((gsize)(3 * width * height))};
    for (int i = 0; i < 3 * width * height; i++) {
        p.rgb[i] = values[i / 3];
    }
    return p;
}

/* Worked by hand from the definition in images/picture.h. */
static void resizing_by_hand(void) {
    static const struct {
        int width, height, to_width, to_height;
        uint8_t from[16], to[16];
    } cases[] = {
        {2, 2, 1, 1, {0, 10, 20, 31}, {15}},   /* 15.25 */
        {2, 1, 1, 1, {0, 1}, {1}},             /* 0.5 goes up */
        {3, 1, 2, 1, {0, 90, 240}, {30, 190}}, /* (0 + 45) / 1.5, (45 + 240) / 1.5 */
        {4, 1, 2, 1, {10, 20, 30, 50}, {15, 40}},
        {1, 4, 1, 2, {10, 20, 30, 50}, {15, 40}},
        {2, 1, 4, 1, {0, 100}, {0, 25, 75, 100}}, /* linear, edges repeated */
        {1, 1, 3, 2, {77}, {77, 77, 77, 77, 77, 77}},
        {3, 2, 3, 2, {1, 2, 3, 4, 5, 6}, {1, 2, 3, 4, 5, 6}},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_picture from = grey_picture(cases[i].width, cases[i].height, cases[i].from);
        nsk_picture to;
        nsk_picture_resize(&from, cases[i].to_width, cases[i].to_height, NSK_RESAMPLE_AREA, &to);
        for (int k = 0; k < to.width * to.height; k++) {
            CU_ASSERT_EQUAL(to.rgb[3 * k], cases[i].to[k]);
            CU_ASSERT_EQUAL(to.rgb[3 * k + 2], cases[i].to[k]);
        }
        nsk_picture_clear(&from);
        nsk_picture_clear(&to);
    }
}

/* A line of four pixels in each way, and the same down. */
static void resampling_by_hand(void) {
    static const uint8_t from[4] = {0, 100, 200, 40};
    static const struct {
        nsk_resample resample;
        int size;
        uint8_t to[6];
    } cases[] = {
        {NSK_RESAMPLE_AREA, 2, {50, 120}},
        {NSK_RESAMPLE_BILINEAR, 2, {50, 120}}, /* centres 1 and 3: halfway */
        /* triangles of 2 to both sides around 1 and 3: 3/8 3/8 1/8 0 over 7/8 */
        {NSK_RESAMPLE_BILINEAR_SMOOTH,
         2,
         {71, 117}}, /* (37.5 + 25) / 0.875; (12.5 + 75 + 15) / 0.875 */
        {NSK_RESAMPLE_NEAREST, 2, {100, 40}},
        {NSK_RESAMPLE_BILINEAR, 1, {150}},       /* centre 2: halfway between 100 and 200 */
        {NSK_RESAMPLE_BILINEAR_SMOOTH, 1, {96}}, /* 5/8 7/8 7/8 5/8: (87.5 + 175 + 25) / 3 = 95.8 */
        {NSK_RESAMPLE_NEAREST, 6, {0, 100, 100, 200, 40, 40}}, /* at 1/3, 1, 5/3, 7/3, 3, 11/3 */
        {NSK_RESAMPLE_BILINEAR, 6, {0, 50, 117, 183, 120, 40}},
        {NSK_RESAMPLE_AREA, 6, {0, 50, 117, 183, 120, 40}},
        {NSK_RESAMPLE_BILINEAR_SMOOTH, 6, {0, 50, 117, 183, 120, 40}},
    };
    for (size_t i = 0; i < 2 * G_N_ELEMENTS(cases); i++) {
        bool down = i % 2 == 1;
        int size = cases[i / 2].size;
        nsk_picture line = grey_picture(down ? 1 : 4, down ? 4 : 1, from);
        nsk_picture to;
        nsk_picture_resize(&line, down ? 1 : size, down ? size : 1, cases[i / 2].resample, &to);
        for (int k = 0; k < size; k++) {
            CU_ASSERT_EQUAL(to.rgb[3 * k + 1], cases[i / 2].to[k]);
        }
        nsk_picture_clear(&line);
        nsk_picture_clear(&to);
    }
}

static void fits_by_hand(void) {
    static const uint8_t from[8] = {10, 20, 30, 40, 50, 60, 70, 80}; /* 4 x 2 */
    static const struct {
        nsk_fit fit;
        uint8_t to[4];
    } cases[] = {
        {NSK_FIT_STRETCH, {15, 35, 55, 75}},
        {NSK_FIT_CROP, {20, 30, 60, 70}},
        {NSK_FIT_PAD, {35, 55, 0, 0}}, /* one row of the whole, black below */
    };
    nsk_picture picture = grey_picture(4, 2, from);
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_picture to;
        const nsk_input input = {.width = 2, .height = 2, .fit = cases[i].fit};
        nsk_picture_fit(&picture, &input, &to);
        for (int k = 0; k < 4; k++) {
            CU_ASSERT_EQUAL(to.rgb[3 * k], cases[i].to[k]);
        }
        nsk_picture_clear(&to);
    }
    nsk_picture_clear(&picture);
}

static void colour_orders(void) {
    uint8_t rgb[3] = {200, 100, 50};
    const nsk_picture picture = {.width = 1, .height = 1, .rgb = rgb};
    uint8_t frame[3];
    nsk_picture_channels(&picture, NSK_COLOUR_RGB, frame);
    CU_ASSERT(frame[0] == 200 && frame[1] == 100 && frame[2] == 50);
    nsk_picture_channels(&picture, NSK_COLOUR_BGR, frame);
    CU_ASSERT(frame[0] == 50 && frame[1] == 100 && frame[2] == 200);
    nsk_picture_channels(&picture, NSK_COLOUR_GREY, frame);
    CU_ASSERT_EQUAL(frame[0], (77 * 200 + 150 * 100 + 29 * 50 + 128) / 256);
}

static uint8_t *encode_jpeg(int width, int height, unsigned long *size) {
    struct jpeg_compress_struct info;
    struct jpeg_error_mgr manager;
    uint8_t *bytes = NULL;
    uint8_t *row = g_malloc0((gsize)(3 * width));
    memset(row, 90, (size_t)(3 * width));
    info.err = jpeg_std_error(&manager);
    jpeg_create_compress(&info);
    jpeg_mem_dest(&info, &bytes, size);
    info.image_width = (JDIMENSION)width;
    info.image_height = (JDIMENSION)height;
    info.input_components = 3;
    info.in_color_space = JCS_RGB;
    jpeg_set_defaults(&info);
    jpeg_start_compress(&info, TRUE);
    for (int y = 0; y < height; y++) {
        jpeg_write_scanlines(&info, &row, 1);
    }
    jpeg_finish_compress(&info);
    jpeg_destroy_compress(&info);
    g_free(row);
    return bytes;
}

static void jpeg_is_read(void) {
    nsk_error error;
    nsk_picture picture;
    unsigned long size = 0;
    uint8_t *bytes = encode_jpeg(20, 12, &size);
    CU_ASSERT(nsk_picture_decode(bytes, size, &picture, &error));
    CU_ASSERT(picture.width == 20 && picture.height == 12);
    CU_ASSERT(picture.rgb[100] >= 88 && picture.rgb[100] <= 92);
    nsk_picture_clear(&picture);
    for (unsigned long cut = 0; cut + 2 < size; cut += 7) {
        uint8_t *part = g_memdup2(bytes, cut + 1);
        CU_ASSERT_FALSE(nsk_picture_decode(part, cut, &picture, &error));
        CU_ASSERT_PTR_NULL(picture.rgb);
        g_free(part);
    }
    free(bytes);
}

static void png_is_read_and_written(void) {
    static const uint8_t values[6] = {0, 50, 100, 150, 200, 255};
    char *folder = scratch_new();
    char *path = scratch_path(folder, "p.png");
    nsk_error error;
    nsk_picture from = grey_picture(3, 2, values);
    nsk_picture to;
    CU_ASSERT(nsk_picture_write_png(&from, path, &error));
    CU_ASSERT(nsk_picture_read(path, &to, &error));
    CU_ASSERT(to.width == 3 && to.height == 2 && memcmp(from.rgb, to.rgb, 18) == 0);
    nsk_picture_clear(&to);
    size_t size;
    uint8_t *bytes = nsk_file_read(path, 1 << 20, &size, &error);
    for (size_t cut = 0; cut < size - 12; cut++) { /* without its last, empty chunk it is whole */
        CU_ASSERT_FALSE(nsk_picture_decode(bytes, cut, &to, &error));
    }
    bytes[16] = 0x7f; /* two thousand million columns */
    CU_ASSERT_FALSE(nsk_picture_decode(bytes, size, &to, &error));
    g_free(bytes);
    scratch_write_text(path, "GIF89a");
    CU_ASSERT_FALSE(nsk_picture_read(path, &to, &error));
    assert_error(&error, "p.png: not a PNG, JPEG, BMP or PNM");
    nsk_picture_clear(&from);
    g_free(path);
    scratch_remove(folder);
}

CU_TestInfo picture_tests[] = {
    {"resizing, worked by hand", resizing_by_hand},
    {"each way of resampling, worked by hand", resampling_by_hand},
    {"stretch, crop and pad, worked by hand", fits_by_hand},
    {"colour orders", colour_orders},
    {"JPEG, whole and cut", jpeg_is_read},
    {"PNG, whole, cut and absurd", png_is_read_and_written},
    CU_TEST_INFO_NULL,
};
