/* A picture as a JPEG, for showing. */
#include <stdio.h>
#include <stdlib.h>

#include <jpeglib.h>

#include "live/camera.h"

enum { QUALITY = 92 };

/* By whole steps: what is only looked at need not be exact. */
static void shrink(const nsk_live_frame *frame, int step, uint8_t *to) {
    for (int y = 0; y < frame->height / step; y++) {
        for (int x = 0; x < frame->width / step; x++) {
            const uint8_t *from =
                frame->rgb + 3 * ((size_t)(y * step) * (size_t)frame->width + (size_t)(x * step));
            for (int k = 0; k < 3; k++) {
                *to++ = from[k];
            }
        }
    }
}

char *nsk_live_picture(const nsk_live_frame *frame, int most) {
    const int side = MAX(frame->width, frame->height);
    const int step = MIN((side + most - 1) / most, MIN(frame->width, frame->height));
    const int width = frame->width / step;
    const int height = frame->height / step;
    uint8_t *pixels = g_malloc((gsize)width * (gsize)height * 3);
    struct jpeg_compress_struct info;
    struct jpeg_error_mgr manager; /* its way is to end the process: nothing here can go wrong but
                                    * memory that runs out */
    unsigned char *made = NULL;
    unsigned long bytes = 0;
    shrink(frame, step, pixels);
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
    char *text = g_base64_encode(made, bytes);
    char *url = g_strconcat("data:image/jpeg;base64,", text, NULL);
    g_free(text);
    free(made);
    g_free(pixels);
    return url;
}
