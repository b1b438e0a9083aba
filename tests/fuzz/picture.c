/* Any bytes as a picture of one format (NSK_FORMAT): decoded, fitted in each way. */
#include <string.h>

#include "images/decoders.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static const struct {
    const char *format, *start;
} starts[] = {{"png", "\x89PNG\r\n\x1a\n"}, {"jpeg", "\xff\xd8\xff"}, {"bmp", "BM"}, {"pnm", "P"}};

/* The format's first bytes stand before what was drawn, so that nothing is wasted on others. */
static uint8_t *with_start(const uint8_t *data, size_t size, size_t *whole) {
    size_t length = 0;
    const char *start = "";
    for (size_t i = 0; i < G_N_ELEMENTS(starts); i++) {
        if (strcmp(starts[i].format, NSK_FORMAT) == 0) {
            start = starts[i].start;
            length = strlen(start);
        }
    }
    bool there = size >= length && memcmp(data, start, length) == 0;
    *whole = there ? size : size + length;
    uint8_t *bytes = g_malloc(*whole + 1);
    memcpy(bytes, start, there ? 0 : length);
    memcpy(bytes + (there ? 0 : length), data, size);
    return bytes;
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    nsk_error error;
    nsk_picture picture;
    size_t whole;
    uint8_t *bytes = with_start(data, size, &whole);
    if (nsk_picture_decode(bytes, whole, &picture, &error)) {
        const nsk_input input = {.width = 8,
                                 .height = 8,
                                 .fit = (nsk_fit)(size % 3),
                                 .resample = (nsk_resample)(size % NSK_RESAMPLES)};
        nsk_picture fitted;
        if (picture.width < 2000 && picture.height < 2000) { /* a second for each else */
            nsk_picture_fit(&picture, &input, &fitted);
            nsk_picture_clear(&fitted);
        }
        nsk_picture_clear(&picture);
    }
    g_free(bytes);
    return 0;
}
