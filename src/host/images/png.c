/* PNG through libpng: all depths, palettes, interlaced. Sample values are taken as they stand,
 * without gamma, 16 bits scaled to 8; transparency is dropped: so do the readers that training
 * uses. */
#include <png.h>
#include <setjmp.h>
#include <string.h>

#include "images/decoders.h"

typedef struct reading {
    const uint8_t *bytes;
    size_t left;
    char reason[128];
    png_structp png;
    png_infop info;
    png_bytepp rows;
} reading;

static void take_bytes(png_structp png, png_bytep to, size_t count) {
    reading *r = png_get_io_ptr(png);
    if (count > r->left) {
        png_error(png, "the file is cut short");
    }
    memcpy(to, r->bytes, count);
    r->bytes += count;
    r->left -= count;
}

static void keep_reason(png_structp png, png_const_charp text) {
    reading *r = png_get_error_ptr(png);
    g_strlcpy(r->reason, text, sizeof r->reason);
    png_longjmp(png, 1);
}

static void ignore_warning(png_structp png, png_const_charp text) {
    (void)png;
    (void)text;
}

/* Everything becomes three bytes a pixel. */
static void ask_for_rgb(const reading *r) {
    png_set_palette_to_rgb(r->png);
    png_set_expand_gray_1_2_4_to_8(r->png);
    png_set_scale_16(r->png);
    png_set_gray_to_rgb(r->png);
    png_set_strip_alpha(r->png);
    png_set_interlace_handling(r->png);
    png_read_update_info(r->png, r->info);
}

static bool read_all(reading *r, nsk_picture *picture, nsk_error *error) {
    if (setjmp(png_jmpbuf(r->png)) != 0) {
        return nsk_picture_refuse(picture, "PNG", r->reason, error);
    }
    png_set_read_fn(r->png, r, take_bytes);
    png_read_info(r->png, r->info);
    if (!nsk_picture_start(picture, png_get_image_width(r->png, r->info),
                           png_get_image_height(r->png, r->info), error)) {
        return false;
    }
    int kind = png_get_color_type(r->png, r->info);
    picture->colour = (kind & PNG_COLOR_MASK_COLOR) != 0;
    picture->alpha =
        (kind & PNG_COLOR_MASK_ALPHA) != 0 || png_get_valid(r->png, r->info, PNG_INFO_tRNS) != 0;
    ask_for_rgb(r);
    size_t row = (size_t)3 * (size_t)picture->width;
    if (png_get_rowbytes(r->png, r->info) != row) {
        png_error(r->png, "its rows have another length than its header says");
    }
    r->rows = g_new(png_bytep, picture->height);
    for (int y = 0; y < picture->height; y++) {
        r->rows[y] = picture->rgb + row * (size_t)y;
    }
    png_read_image(r->png, r->rows);
    png_read_end(r->png, NULL);
    return true;
}

bool nsk_decode_png(const uint8_t *bytes, size_t size, nsk_picture *picture, nsk_error *error) {
    reading r = {.bytes = bytes, .left = size};
    r.png = png_create_read_struct(PNG_LIBPNG_VER_STRING, &r, keep_reason, ignore_warning);
    r.info = r.png != NULL ? png_create_info_struct(r.png) : NULL;
    if (r.info == NULL) {
        png_destroy_read_struct(&r.png, NULL, NULL);
        return nsk_fail(error, "libpng does not start");
    }
    bool good = read_all(&r, picture, error);
    png_destroy_read_struct(&r.png, &r.info, NULL);
    g_free(r.rows);
    return good;
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
