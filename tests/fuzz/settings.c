/* Any bytes as a brief, a board or a cost table (NSK_FILE). */
#include <glib/gstdio.h>
#include <string.h>
#include <unistd.h>

#include "base/base.h"
#include "estimate/costs.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

static void read_costs(const char *path, nsk_error *error) {
    nsk_kernel_cost cost;
    nsk_costs *costs = nsk_costs_read(path, error);
    if (costs != NULL) {
        double bytes;
        nsk_costs_kernel(costs, "conv", &cost, error);
        const nsk_model nothing = {0};
        nsk_costs_code(costs, &nothing, &bytes, error);
        nsk_costs_deepest(costs, &bytes, error);
    }
    nsk_costs_free(costs);
}

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    char *path = g_strdup_printf("%s/fuzz-%s-%d", g_get_tmp_dir(), NSK_FILE, (int)getpid());
    nsk_error error;
    if (g_file_set_contents_full(path, (const char *)data, (gssize)size, G_FILE_SET_CONTENTS_NONE,
                                 0600, NULL)) {
        if (strcmp(NSK_FILE, "brief") == 0) {
            nsk_brief_free(nsk_brief_read(path, &error));
            nsk_brief_free(nsk_brief_read_variant(path, 1, &error));
        } else if (strcmp(NSK_FILE, "board") == 0) {
            nsk_board_free(nsk_board_read(path, &error));
        } else {
            read_costs(path, &error);
        }
    }
    g_unlink(path);
    g_free(path);
    return 0;
}
