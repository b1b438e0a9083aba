/* What a row of each layer costs, for runs in slices. */
#include <math.h>

#include "device/firmware/slices.h"
#include "device/work.h"
#include "estimate/cost_kind.h"
#include "estimate/costs.h"

/* A row in the middle, where no tap is in the padding; of a layer that cannot be cut, all of it. */
static nsk_work row_work(const nsk_model *model, unsigned index) {
    nsk_layer l;
    nsk_layer_decode(model, index, &l);
    const int32_t rows = nsk_slice_rows(&l);
    if (rows > 1) {
        l = nsk_slice_of(&l, rows / 2, rows / 2 + 1);
    }
    return nsk_work_of(&l);
}

static uint32_t whole(double cost) {
    return (uint32_t)fmin(ceil(cost), UINT32_MAX);
}

static bool fill_cycles(const nsk_model *model, const nsk_board *board, const nsk_costs *table,
                        uint32_t *costs, nsk_error *error) {
    for (unsigned i = 0; i < model->layers; i++) {
        const nsk_work work = row_work(model, i);
        nsk_kernel_cost cost;
        if (!nsk_costs_kernel(table, nsk_cost_kind(model, i), &cost, error)) {
            return false;
        }
        costs[i] = whole(nsk_kernel_cost_of(&cost, &work, board->wait_states).cycles);
    }
    return true;
}

static void fill_macs(const nsk_model *model, uint32_t *costs) {
    for (unsigned i = 0; i < model->layers; i++) {
        const nsk_work work = row_work(model, i);
        costs[i] = whole((double)(work.macs > work.outputs ? work.macs : work.outputs));
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
