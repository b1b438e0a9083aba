/* resave PICTURE WIDTH HEIGHT F.jpg: the picture, resized, as a JPEG. */
#include <stdio.h>
#include <stdlib.h>

#include <jpeglib.h>

#include "images/picture.h"

static void write_jpeg(const nsk_picture *picture, FILE *file) {
    struct jpeg_compress_struct info;
    struct jpeg_error_mgr manager;
    info.err = jpeg_std_error(&manager);
    jpeg_create_compress(&info);
    jpeg_stdio_dest(&info, file);
    info.image_width = (JDIMENSION)picture->width;
    info.image_height = (JDIMENSION)picture->height;
    info.input_components = 3;
    info.in_color_space = JCS_RGB;
    jpeg_set_defaults(&info);
    jpeg_set_quality(&info, 95, TRUE);
    jpeg_start_compress(&info, TRUE);
    while (info.next_scanline < info.image_height) {
        JSAMPROW row = picture->rgb + (size_t)3 * info.image_width * info.next_scanline;
        jpeg_write_scanlines(&info, &row, 1);
    }
    jpeg_finish_compress(&info);
    jpeg_destroy_compress(&info);
}

int main(int argc, char **argv) {
    nsk_picture from;
    nsk_picture to;
    nsk_error error;
    if (argc != 5 || !nsk_picture_read(argv[1], &from, &error)) {
        return 2;
    }
    nsk_picture_resize(&from, atoi(argv[2]), atoi(argv[3]), NSK_RESAMPLE_AREA, &to);
    FILE *file = fopen(argv[4], "wb");
    if (file == NULL) {
        return 2;
    }
    write_jpeg(&to, file);
    nsk_picture_clear(&from);
    nsk_picture_clear(&to);
    return fclose(file) == 0 ? 0 : 2;
}
