/* What a row of each layer costs, for runs in slices. */
#include <math.h>

#include "device/firmware/slices.h"
#include "device/work.h"
#include "estimate/cost_kind.h"
#include "estimate/costs.h"

enum { ROWS = 3 };

/* The first row, one in the middle, and the last: taps in the padding are left out, which is less
 * to multiply and more to look after. Of a layer that cannot be cut, all of it, three times. */
static void find_works(const nsk_model *model, unsigned index, nsk_work works[ROWS]) {
    nsk_layer l;
    nsk_layer_decode(model, index, &l);
    const int32_t rows = nsk_slice_rows(&l);
    const int32_t at[ROWS] = {0, rows / 2, rows - 1};
    for (int i = 0; i < ROWS; i++) {
        const nsk_layer one = rows > 1 ? nsk_slice_of(&l, at[i], at[i] + 1) : l;
        works[i] = nsk_work_of(&one);
    }
}

static uint32_t whole(double cost) {
    return (uint32_t)fmin(ceil(cost), UINT32_MAX);
}

static bool fill_cycles(const nsk_model *model, const nsk_board *board, const nsk_costs *table,
                        uint32_t *costs, nsk_error *error) {
    for (unsigned i = 0; i < model->layers; i++) {
        nsk_work works[ROWS];
        nsk_kernel_cost cost;
        find_works(model, i, works);
        if (!nsk_costs_kernel(table, nsk_cost_kind(model, i), &cost, error)) {
            return false;
        }
        costs[i] = 0;
        for (int k = 0; k < ROWS; k++) {
            const double cycles = nsk_kernel_cost_of(&cost, &works[k], board->wait_states).cycles;
            costs[i] = MAX(costs[i], whole(cycles));
        }
    }
    return true;
}

static void fill_macs(const nsk_model *model, uint32_t *costs) {
    for (unsigned i = 0; i < model->layers; i++) {
        nsk_work works[ROWS];
        find_works(model, i, works);
        const nsk_work *middle = &works[ROWS / 2]; /* of no row are there more */
        costs[i] = whole((double)MAX(middle->macs, middle->outputs));
    }
}

bool nsk_has_costs(const nsk_board *board) {
    return board != NULL && board->costs != NULL && g_file_test(board->costs, G_FILE_TEST_EXISTS);
}

bool nsk_row_costs(const nsk_model_file *file, const nsk_board *board, uint32_t *costs,
                   nsk_error *error) {
    nsk_model model;
    if (!nsk_has_costs(board)) {
        nsk_open(&model, file->bytes, file->size);
        fill_macs(&model, costs);
        return true;
    }
    nsk_costs *table = nsk_costs_read(board->costs, error);
    if (table == NULL) {
        return false;
    }
    nsk_model_file *handed = nsk_model_file_for_core(file, nsk_costs_core(table));
    nsk_open(&model, handed->bytes, handed->size);
    bool good = fill_cycles(&model, board, table, costs, error);
    nsk_model_file_free(handed);
    nsk_costs_free(table);
    return good;
}
