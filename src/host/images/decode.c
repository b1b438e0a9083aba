/* Which decoder reads a file, told by its first bytes. */
#include <string.h>

#include "images/decoders.h"

static const size_t MOST_BYTES = (size_t)256 << 20;

static const struct {
    const char *start;
    size_t length;
    nsk_decoder *decode;
} formats[] = {
    {"\x89PNG\r\n\x1a\n", 8, nsk_decode_png},
    {"\xff\xd8\xff", 3, nsk_decode_jpeg},
    {"BM", 2, nsk_decode_bmp},
    {"P1", 2, nsk_decode_pnm},
    {"P2", 2, nsk_decode_pnm},
    {"P3", 2, nsk_decode_pnm},
    {"P4", 2, nsk_decode_pnm},
    {"P5", 2, nsk_decode_pnm},
    {"P6", 2, nsk_decode_pnm},
};

bool nsk_picture_decode(const uint8_t *bytes, size_t size, nsk_picture *picture, nsk_error *error) {
    *picture = (nsk_picture){0};
    for (size_t i = 0; i < G_N_ELEMENTS(formats); i++) {
        if (size >= formats[i].length && memcmp(bytes, formats[i].start, formats[i].length) == 0) {
            return formats[i].decode(bytes, size, picture, error);
        }
    }
    return nsk_fail(error, "not a PNG, JPEG, BMP or PNM; convert or remove the file");
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
