/* A picture as a JPEG, for showing. */
#include <stdio.h>
#include <stdlib.h>

#include <jpeglib.h>

#include "live/jpeg.h"
#include "netsuke/live.h"

enum { QUALITY = 92 };

/* By whole steps: what is only looked at need not be exact. */
static void shrink(const nsk_picture *picture, int step, uint8_t *to) {
    for (int y = 0; y < picture->height / step; y++) {
        for (int x = 0; x < picture->width / step; x++) {
            const uint8_t *from = picture->rgb + 3 * ((size_t)(y * step) * (size_t)picture->width +
                                                      (size_t)(x * step));
            for (int k = 0; k < 3; k++) {
                *to++ = from[k];
            }
        }
    }
}

uint8_t *nsk_small_jpeg(const nsk_picture *picture, int most, size_t *size) {
    const int side = MAX(picture->width, picture->height);
    const int step = MIN((side + most - 1) / most, MIN(picture->width, picture->height));
    const int width = picture->width / step;
    const int height = picture->height / step;
    uint8_t *pixels = g_malloc((gsize)width * (gsize)height * 3);
    struct jpeg_compress_struct info;
    struct jpeg_error_mgr manager; /* its way is to end the process: nothing here can go wrong but
                                    * memory that runs out */
    unsigned char *made = NULL;
    unsigned long bytes = 0;
    shrink(picture, step, pixels);
    info.err = jpeg_std_error(&manager);
    jpeg_create_compress(&info);
    jpeg_mem_dest(&info, &made, &bytes);
    info.image_width = (JDIMENSION)width;
    info.image_height = (JDIMENSION)height;
    info.input_components = 3;
    info.in_color_space = JCS_RGB;
    jpeg_set_defaults(&info);
    jpeg_set_quality(&info, QUALITY, TRUE);
    info.comp_info[0].h_samp_factor = info.comp_info[0].v_samp_factor = 1; /* colours as fine */
    jpeg_start_compress(&info, TRUE);
    while (info.next_scanline < info.image_height) {
        JSAMPROW row = pixels + (size_t)info.next_scanline * (size_t)width * 3;
        jpeg_write_scanlines(&info, &row, 1);
    }
    jpeg_finish_compress(&info);
    jpeg_destroy_compress(&info);
    uint8_t *copy = g_memdup2(made, bytes);
    *size = bytes;
    free(made);
    g_free(pixels);
    return copy;
}

char *nsk_live_picture(const nsk_live_frame *frame, int most) {
    const nsk_picture picture = {
        .width = frame->width, .height = frame->height, .rgb = (uint8_t *)frame->rgb};
    size_t size;
    uint8_t *bytes = nsk_small_jpeg(&picture, most, &size);
    char *text = g_base64_encode(bytes, size);
    char *url = g_strconcat("data:image/jpeg;base64,", text, NULL);
    g_free(text);
    g_free(bytes);
    return url;
}
