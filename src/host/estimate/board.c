/* Board descriptions. */
#include <string.h>

#include "base/shipped.h"
#include "brief/settings.h"
#include "estimate/costs.h"
#include "netsuke/tools.h"

const nsk_setting_name nsk_board_settings[] = {
    {"board", "name", "Its name"},
    {"board", "core",
     "cortex-m0, cortex-m0plus, cortex-m3, cortex-m4, cortex-m7, cortex-m23, cortex-m33, "
     "cortex-m55, rv32imac or rv32imac-zve32x"},
    {"board", "clock", "As in 80 MHz"},
    {"board", "flash", "As in 256 KiB"},
    {"board", "ram", "As in 64 KiB"},
    {"board", "wait-states", "Cycles that a taken branch waits for flash"},
    {"board", "camera-rate", "Frames a second, as in 3 /s"},
    {"board", "active-power", "Computing, as in 36 mW"},
    {"board", "idle-power", "Waiting for a frame"},
    {"board", "sleep-power", "Between times awake"},
    {"costs", "file", "The core's cost table; the one that came along, where it is not given"},
    {NULL, NULL, NULL},
};

static bool fill(nsk_board *board, const nsk_settings *s, nsk_error *error) {
    static const char *const needed[] = {"name", "core", "clock", "flash", "ram"};
    for (size_t i = 0; i < G_N_ELEMENTS(needed); i++) {
        if (nsk_settings_need(s, "board", needed[i], error) == NULL) {
            return false;
        }
    }
    const char *costs = nsk_settings_text(s, "costs", "file");
    board->name = g_strdup(nsk_settings_text(s, "board", "name"));
    board->core = g_strdup(nsk_settings_text(s, "board", "core"));
    board->costs = costs != NULL ? nsk_path_beside(board->path, costs)
                                 : nsk_shipped("costs", nsk_costs_of_core(board->core));
    board->frame_rate = 1.0;
    board->active_power = board->idle_power = board->sleep_power = -1.0;
    return nsk_settings_number(s, "board", "clock", NSK_UNIT_HERTZ, 1e3, 1e11, &board->clock,
                               error) &&
           nsk_settings_number(s, "board", "flash", NSK_UNIT_BYTES, 1, 1e12, &board->flash,
                               error) &&
           nsk_settings_number(s, "board", "ram", NSK_UNIT_BYTES, 1, 1e9, &board->ram, error) &&
           nsk_settings_number(s, "board", "wait-states", NSK_UNIT_NUMBER, 0, 100,
                               &board->wait_states, error) &&
           nsk_settings_number(s, "board", "camera-rate", NSK_UNIT_PER_SECOND, 1e-3, 1e4,
                               &board->frame_rate, error) &&
           nsk_settings_number(s, "board", "active-power", NSK_UNIT_WATTS, 0, 1e3,
                               &board->active_power, error) &&
           nsk_settings_number(s, "board", "idle-power", NSK_UNIT_WATTS, 0, 1e3, &board->idle_power,
                               error) &&
           nsk_settings_number(s, "board", "sleep-power", NSK_UNIT_WATTS, 0, 1e3,
                               &board->sleep_power, error);
}

static void fail_missing(const char *path, nsk_error *error) {
    char **names = nsk_shipped_names("boards");
    char *stem = nsk_stem(path);
    char *meant = nsk_did_you_mean(stem, (const char *const *)names);
    nsk_fail(error,
             "%s: No such file or directory%s 'netsuke shelf' lists the boards that came along",
             path, meant[0] != '\0' ? meant : ";");
    g_free(meant);
    g_free(stem);
    g_strfreev(names);
}

nsk_board *nsk_board_read(const char *path, nsk_error *error) {
    if (path == NULL) {
        nsk_fail(error, "the brief names no board; add 'file' under [board], or use --board");
        return NULL;
    }
    if (!g_file_test(path, G_FILE_TEST_EXISTS)) {
        fail_missing(path, error);
        return NULL;
    }
    nsk_settings *s = nsk_settings_read(path, nsk_board_settings, error);
    if (s == NULL) {
        return NULL;
    }
    nsk_board *board = g_new0(nsk_board, 1);
    board->path = g_strdup(path);
    bool good = fill(board, s, error);
    nsk_settings_free(s);
    if (!good) {
        nsk_board_free(board);
        return NULL;
    }
    return board;
}

void nsk_board_free(nsk_board *board) {
    if (board != NULL) {
        g_free(board->path);
        g_free(board->name);
        g_free(board->core);
        g_free(board->costs);
        g_free(board);
    }
}
