/* Any bytes as a brief, a board and a cost table. */
#include <glib/gstdio.h>
#include <unistd.h>

#include "base/base.h"
#include "budget/costs.h"

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size);

int LLVMFuzzerTestOneInput(const uint8_t *data, size_t size) {
    char *path = g_strdup_printf("%s/fuzz-settings-%d", g_get_tmp_dir(), (int)getpid());
    nsk_error error;
    if (g_file_set_contents_full(path, (const char *)data, (gssize)size, G_FILE_SET_CONTENTS_NONE,
                                 0600, NULL)) {
        nsk_kernel_cost cost;
        nsk_brief_free(nsk_brief_read(path, &error));
        nsk_board_free(nsk_board_read(path, &error));
        nsk_costs *costs = nsk_costs_read(path, &error);
        if (costs != NULL) {
            double bytes;
            nsk_costs_kernel(costs, "conv", &cost, &error);
            nsk_costs_code(costs, &bytes, &error);
        }
        nsk_costs_free(costs);
    }
    g_unlink(path);
    g_free(path);
    return 0;
}
