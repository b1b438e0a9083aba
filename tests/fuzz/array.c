/* Any bytes as an IDX or NPY file, of pictures and of labels. */
#include "images/array.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    nsk_error error;
    nsk_array array;
    if (!nsk_array_of(data, size, &array, &error)) {
        return 0;
    }
    if (nsk_array_is_pictures(&array, &error)) {
        nsk_picture picture;
        nsk_array_picture(&array, array.dims[0] - 1, &picture);
        nsk_picture_clear(&picture);
    }
    if (nsk_array_is_labels(&array, &error)) {
        nsk_array_integer(&array, array.dims[0] - 1);
    }
    return 0;
}
