/* Any bytes as a CSV of path,label. */
#include "images/list.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    nsk_error error;
    nsk_list_free(nsk_list_parse((const char *)data, size, size % 2 == 1, &error));
    return 0;
}
