/* Any text as what a board printed of a model, as what it said over a link before, as a linker's
 * map, and as an injection. */
#include <string.h>

#include "estimate/clock.h"
#include "estimate/link_map.h"
#include "link/kept.h"
#include "netsuke/rehearse.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    static nsk_model_file *file; /* of the program's whole life */
    static nsk_model model;
    nsk_error error;
    nsk_clocked clocked = {0};
    nsk_injection injection;
    if (file == NULL) {
        file = nsk_model_file_read("tests/fuzz/seeds/model/2.nsk", &error);
        if (file == NULL || nsk_open(&model, file->bytes, file->size) != NSK_STATUS_OK) {
            return -1;
        }
    }
    char *text = g_strndup((const char *)data, size);
    nsk_clocked_parse(text, "log", &model, &clocked, &error);
    nsk_clocked_clear(&clocked);
    nsk_link_map_free(nsk_link_map_parse(text, "map", &error));
    nsk_kept_close(nsk_kept_parse(text, size, &model));
    nsk_injection_parse(text, &injection, &error);
    g_free(text);
    return 0;
}
