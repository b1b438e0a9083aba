/* JPEG through libjpeg: grey, colour, CMYK; turned upright by EXIF's orientation. */
#include <setjmp.h>
#include <stdio.h>
#include <string.h>

#include <jpeglib.h>

#include "images/decoders.h"

typedef struct fault {
    struct jpeg_error_mgr manager;
    jmp_buf escape;
    char text[JMSG_LENGTH_MAX];
} fault;

static void escape(j_common_ptr info) {
    fault *t = (fault *)info->err;
    info->err->format_message(info, t->text);
    longjmp(t->escape, 1);
}

/* A warning (a negative level) means damaged data: the picture would be grey from there on. */
static void message(j_common_ptr info, int level) {
    if (level < 0) {
        escape(info);
    }
}

/* A number of a TIFF structure; 0 where it would stand past the end. */
static unsigned tiff_number(const uint8_t *tiff, size_t size, size_t at, unsigned width) {
    unsigned value = 0;
    for (unsigned i = 0; i < width && at + width <= size; i++) {
        unsigned byte = tiff[0] == 'I' ? width - 1U - i : i;
        value = value << 8 | tiff[at + byte];
    }
    return value;
}

/* The orientation tag (0x0112) of the first directory, 1 where there is none. EXIF 2.3, 4.6.4. */
static int orientation_in(const uint8_t *tiff, size_t size) {
    enum { ENTRY = 12, ORIENTATION = 0x0112, SHORT = 3 };
    if (size < 14 || tiff_number(tiff, size, 2, 2) != 42) {
        return 1;
    }
    size_t directory = tiff_number(tiff, size, 4, 4);
    unsigned count = tiff_number(tiff, size, directory, 2);
    for (unsigned i = 0; i < count; i++) {
        size_t at = directory + 2 + (size_t)ENTRY * i;
        if (at + ENTRY > size) {
            break;
        }
        if (tiff_number(tiff, size, at, 2) == ORIENTATION &&
            tiff_number(tiff, size, at + 2, 2) == SHORT) {
            return (int)tiff_number(tiff, size, at + 8, 2);
        }
    }
    return 1;
}

static int orientation_of(const struct jpeg_decompress_struct *info) {
    for (jpeg_saved_marker_ptr m = info->marker_list; m != NULL; m = m->next) {
        if (m->marker == JPEG_APP0 + 1 && m->data_length > 6 && memcmp(m->data, "Exif\0", 6) == 0) {
            return orientation_in(m->data + 6, m->data_length - 6);
        }
    }
    return 1;
}

/* Four inks, stored inverted, as every writer of such files does. */
static void inks_to_rgb(const uint8_t *inks, int pixels, uint8_t *rgb) {
    for (int i = 0; i < pixels; i++) {
        for (int c = 0; c < 3; c++) {
            rgb[3 * i + c] = (uint8_t)((inks[4 * i + c] * inks[4 * i + 3] + 127) / 255);
        }
    }
}

static void read_rows(struct jpeg_decompress_struct *info, const nsk_picture *picture) {
    bool inks = info->jpeg_color_space == JCS_CMYK || info->jpeg_color_space == JCS_YCCK;
    info->out_color_space = inks ? JCS_CMYK : JCS_RGB;
    jpeg_start_decompress(info); /* not scaled: the output has the picture's size */
    /* the decoder's own memory, so that an escape frees it */
    JSAMPARRAY line =
        info->mem->alloc_sarray((j_common_ptr)info, JPOOL_IMAGE, 4 * info->output_width, 1);
    while (info->output_scanline < info->output_height) {
        uint8_t *to = picture->rgb + (size_t)3 * info->output_width * info->output_scanline;
        JSAMPROW row = inks ? line[0] : to;
        jpeg_read_scanlines(info, &row, 1);
        if (inks) {
            inks_to_rgb(line[0], picture->width, to);
        }
    }
}

bool nsk_decode_jpeg(const uint8_t *bytes, size_t size, nsk_picture *picture, nsk_error *error) {
    struct jpeg_decompress_struct info;
    fault t;
    info.err = jpeg_std_error(&t.manager);
    t.manager.error_exit = escape;
    t.manager.emit_message = message;
    if (setjmp(t.escape) != 0) {
        jpeg_destroy_decompress(&info);
        return nsk_picture_refuse(picture, "JPEG", t.text, error);
    }
    jpeg_create_decompress(&info);
    jpeg_mem_src(&info, bytes, (unsigned long)size);
    jpeg_save_markers(&info, JPEG_APP0 + 1, 0xffff);
    jpeg_read_header(&info, TRUE);
    if (!nsk_picture_start(picture, info.image_width, info.image_height, error)) {
        jpeg_destroy_decompress(&info);
        return false;
    }
    picture->colour = info.jpeg_color_space != JCS_GRAYSCALE;
    read_rows(&info, picture);
    nsk_picture_turn(picture, orientation_of(&info));
    jpeg_finish_decompress(&info);
    jpeg_destroy_decompress(&info);
    return true;
}
