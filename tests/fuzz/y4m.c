/* Any bytes as a Y4M stream. */
#include "live/y4m.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    nsk_error error;
    nsk_y4m format;
    nsk_picture picture = {0};
    GInputStream *in = g_memory_input_stream_new_from_data(data, (gssize)size, NULL);
    if (nsk_y4m_begin(in, &format, NULL, &error) && format.bytes <= 4 * size &&
        nsk_picture_start(&picture, (uint64_t)format.width, (uint64_t)format.height, &error)) {
        uint8_t *planes = g_malloc(format.bytes);
        while (nsk_y4m_next(in, &format, planes, NULL, &error) == 1) {
            nsk_y4m_rgb(&format, planes, picture.rgb);
        }
        g_free(planes);
    }
    nsk_picture_clear(&picture);
    g_object_unref(in);
    return 0;
}
