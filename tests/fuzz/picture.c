/* Any bytes as a picture. */
#include "images/picture.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    nsk_error error;
    nsk_picture picture;
    if (nsk_picture_decode(data, size, &picture, &error)) {
        nsk_picture fitted;
        const nsk_input input = {
            .width = 8, .height = 8, .fit = NSK_CROP, .resample = size % NSK_RESAMPLES};
        nsk_picture_fit(&picture, &input, &fitted);
        nsk_picture_clear(&fitted);
        nsk_picture_clear(&picture);
    }
    return 0;
}
