/* Board descriptions. */
#include "brief/settings.h"

static const nsk_setting_name known[] = {
    {"board", "name"},        {"board", "core"},         {"board", "clock"},
    {"board", "flash"},       {"board", "ram"},          {"board", "wait-states"},
    {"board", "camera-rate"}, {"board", "active-power"}, {"board", "idle-power"},
    {"board", "sleep-power"}, {"costs", "file"},         {NULL, NULL},
};

static bool fill(nsk_board *board, const nsk_settings *s, nsk_error *error) {
    static const char *const needed[] = {"name", "core", "clock", "flash", "ram"};
    for (size_t i = 0; i < G_N_ELEMENTS(needed); i++) {
        if (nsk_settings_need(s, "board", needed[i], error) == NULL) {
            return false;
        }
    }
    const char *costs = nsk_settings_need(s, "costs", "file", error);
    if (costs == NULL) {
        return false;
    }
    board->name = g_strdup(nsk_settings_text(s, "board", "name"));
    board->core = g_strdup(nsk_settings_text(s, "board", "core"));
    board->costs = nsk_path_beside(board->path, costs);
    board->frame_rate = 1.0;
    board->active_power = board->idle_power = board->sleep_power = -1.0;
    return nsk_settings_number(s, "board", "clock", NSK_HERTZ, 1e3, 1e11, &board->clock, error) &&
           nsk_settings_number(s, "board", "flash", NSK_BYTES, 1, 1e12, &board->flash, error) &&
           nsk_settings_number(s, "board", "ram", NSK_BYTES, 1, 1e9, &board->ram, error) &&
           nsk_settings_number(s, "board", "wait-states", NSK_NUMBER, 0, 100, &board->wait_states,
                               error) &&
           nsk_settings_number(s, "board", "camera-rate", NSK_PER_SECOND, 1e-3, 1e4,
                               &board->frame_rate, error) &&
           nsk_settings_number(s, "board", "active-power", NSK_WATTS, 0, 1e3, &board->active_power,
                               error) &&
           nsk_settings_number(s, "board", "idle-power", NSK_WATTS, 0, 1e3, &board->idle_power,
                               error) &&
           nsk_settings_number(s, "board", "sleep-power", NSK_WATTS, 0, 1e3, &board->sleep_power,
                               error);
}

nsk_board *nsk_board_read(const char *path, nsk_error *error) {
    if (path == NULL) {
        nsk_fail(error, "the brief names no board; add 'file' under [board], or use --board");
        return NULL;
    }
    nsk_settings *s = nsk_settings_read(path, known, error);
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
