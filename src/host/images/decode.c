/* PNG through libpng's simplified interface, JPEG through libjpeg. */
#include "images/picture.h"

#include <png.h>
#include <setjmp.h>
#include <stdio.h>
#include <string.h>

#include <jpeglib.h>

enum { MOST_PIXELS = 64 * 1000 * 1000 };
static const size_t MOST_BYTES = (size_t)256 << 20;

static bool take_size(nsk_picture *picture, unsigned long width, unsigned long height,
                      nsk_error *error) {
    if (width == 0 || height == 0 || width > 65535 || height > 65535 ||
        width * height > MOST_PIXELS) {
        return nsk_fail(error, "the picture claims %lu x %lu pixels; at most 64 million are read",
                        width, height);
    }
    picture->width = (int)width;
    picture->height = (int)height;
    picture->rgb = g_malloc(3 * width * height);
    return true;
}

static bool decode_png(const uint8_t *bytes, size_t size, nsk_picture *picture, nsk_error *error) {
    png_image image = {.version = PNG_IMAGE_VERSION};
    if (!png_image_begin_read_from_memory(&image, bytes, size)) {
        return nsk_fail(error, "not a readable PNG (%s); replace the file", image.message);
    }
    image.format = PNG_FORMAT_RGB;
    if (!take_size(picture, image.width, image.height, error)) {
        png_image_free(&image);
        return false;
    }
    const png_color black = {0, 0, 0};
    if (!png_image_finish_read(&image, &black, picture->rgb, 0, NULL)) {
        nsk_picture_clear(picture);
        return nsk_fail(error, "not a readable PNG (%s); replace the file", image.message);
    }
    return true;
}

typedef struct jpeg_trouble {
    struct jpeg_error_mgr manager;
    jmp_buf escape;
    char text[JMSG_LENGTH_MAX];
} jpeg_trouble;

static void jpeg_escape(j_common_ptr info) {
    jpeg_trouble *trouble = (jpeg_trouble *)info->err;
    info->err->format_message(info, trouble->text);
    longjmp(trouble->escape, 1);
}

/* A warning (a negative level) means damaged data: the picture would be grey from there on. */
static void jpeg_message(j_common_ptr info, int level) {
    if (level < 0) {
        jpeg_escape(info);
    }
}

static bool decode_jpeg(const uint8_t *bytes, size_t size, nsk_picture *picture, nsk_error *error) {
    struct jpeg_decompress_struct info;
    jpeg_trouble trouble;
    info.err = jpeg_std_error(&trouble.manager);
    trouble.manager.error_exit = jpeg_escape;
    trouble.manager.emit_message = jpeg_message;
    if (setjmp(trouble.escape) != 0) {
        jpeg_destroy_decompress(&info);
        nsk_picture_clear(picture);
        return nsk_fail(error, "not a readable JPEG (%s); replace the file", trouble.text);
    }
    jpeg_create_decompress(&info);
    jpeg_mem_src(&info, bytes, (unsigned long)size);
    jpeg_read_header(&info, TRUE);
    if (!take_size(picture, info.image_width, info.image_height, error)) {
        jpeg_destroy_decompress(&info);
        return false;
    }
    info.out_color_space = JCS_RGB;
    jpeg_start_decompress(&info); /* not scaled: the output has the picture's size */
    while (info.output_scanline < info.output_height) {
        JSAMPROW row = picture->rgb + (size_t)3 * info.output_width * info.output_scanline;
        jpeg_read_scanlines(&info, &row, 1);
    }
    jpeg_finish_decompress(&info);
    jpeg_destroy_decompress(&info);
    return true;
}

bool nsk_picture_decode(const uint8_t *bytes, size_t size, nsk_picture *picture, nsk_error *error) {
    *picture = (nsk_picture){0};
    if (size >= 8 && memcmp(bytes, "\x89PNG\r\n\x1a\n", 8) == 0) {
        return decode_png(bytes, size, picture, error);
    }
    if (size >= 3 && memcmp(bytes, "\xff\xd8\xff", 3) == 0) {
        return decode_jpeg(bytes, size, picture, error);
    }
    return nsk_fail(error, "neither a PNG nor a JPEG; convert or remove the file");
}

bool nsk_picture_read(const char *path, nsk_picture *picture, nsk_error *error) {
    *picture = (nsk_picture){0};
    size_t size;
    uint8_t *bytes = nsk_file_read(path, MOST_BYTES, &size, error);
    if (bytes == NULL) {
        return false;
    }
    bool good = nsk_picture_decode(bytes, size, picture, error);
    g_free(bytes);
    return good || nsk_fail_in(error, "%s", path);
}

bool nsk_picture_write_png(const nsk_picture *picture, const char *path, nsk_error *error) {
    png_image image = {.version = PNG_IMAGE_VERSION,
                       .width = (png_uint_32)picture->width,
                       .height = (png_uint_32)picture->height,
                       .format = PNG_FORMAT_RGB};
    png_alloc_size_t size = PNG_IMAGE_PNG_SIZE_MAX(image);
    uint8_t *bytes = g_malloc(size);
    bool good = png_image_write_to_memory(&image, bytes, &size, 0, picture->rgb, 0, NULL) != 0;
    good = good ? nsk_file_write(path, bytes, size, error)
                : nsk_fail(error, "%s: cannot be encoded: %s", path, image.message);
    g_free(bytes);
    return good;
}

void nsk_picture_clear(nsk_picture *picture) {
    g_free(picture->rgb);
    *picture = (nsk_picture){0};
}
