/* Flash, RAM and time of a model on a board. */
#include <math.h>
#include <string.h>

#include "budget/cost_kind.h"
#include "budget/costs.h"

static bool estimate_layers(nsk_budget *b, const nsk_model *model, const nsk_costs *costs,
                            double wait_states, nsk_error *error) {
    nsk_kernel_cost cost;
    b->layers = model->layers;
    b->layer = g_new0(nsk_layer_cost, b->layers);
    for (int i = 0; i < b->layers; i++) {
        nsk_work work = nsk_layer_work(model, (unsigned)i);
        if (!nsk_costs_kernel(costs, nsk_cost_kind(model, (unsigned)i), &cost, error)) {
            return false;
        }
        b->layer[i] = nsk_kernel_cost_of(&cost, &work, wait_states);
        b->cycles += b->layer[i].cycles;
    }
    if (!nsk_costs_kernel(costs, "prepare", &cost, error)) {
        return false;
    }
    const nsk_work frame = {.outputs = (uint64_t)model->width * model->height * model->channels,
                            .calls = 1,
                            .rows = model->height};
    b->preparation = nsk_kernel_cost_of(&cost, &frame, wait_states);
    b->cycles += b->preparation.cycles;
    if (model->streamed > 0) {
        nsk_work work = nsk_stream_work(model);
        if (!nsk_costs_kernel(costs, "stream", &cost, error)) {
            return false;
        }
        b->streaming = nsk_kernel_cost_of(&cost, &work, wait_states);
        b->cycles += b->streaming.cycles;
    }
    return true;
}

static void set_limit(nsk_budget_limit *to, const char *name, const char *unit, double wanted,
                      double board, double value) {
    double limit = fmin(wanted, board);
    *to = (nsk_budget_limit){name, unit, limit, value, value <= limit};
}

static bool estimate(nsk_budget *b, const nsk_model_file *file, const nsk_model *model,
                     const nsk_board *board, const nsk_costs *costs, const nsk_limits *limits,
                     nsk_error *error) {
    if (strcmp(nsk_costs_core(costs), board->core) != 0) {
        return nsk_fail(error, "%s: the board's core is %s, its cost table is for %s", board->path,
                        board->core, nsk_costs_core(costs));
    }
    b->flash_model = (double)file->size;
    b->ram_workspace = model->workspace_bytes;
    b->ram_lower_bound = (double)file->workspace_lower_bound;
    b->ram_frame = (double)model->width * model->channels *
                   (model->streamed > 0 ? 1.0 : (double)model->height);
    b->ram_rest_of_frame = (double)model->width * model->channels * model->height - b->ram_frame;
    b->streamed = model->streamed;
    b->band = model->band;
    if (!nsk_costs_code(costs, model, &b->flash_code, error) ||
        !nsk_costs_stack(costs, &b->ram_stack, error) ||
        !estimate_layers(b, model, costs, board->wait_states, error)) {
        return false;
    }
    b->flash = b->flash_model + b->flash_code;
    b->ram = b->ram_workspace + b->ram_frame + b->ram_stack;
    b->seconds = b->cycles / board->clock;
    b->joules = board->active_power < 0.0 ? -1.0 : board->active_power * b->seconds;
    set_limit(&b->limits[NSK_LIMIT_FLASH], "flash", "bytes", limits->flash, board->flash, b->flash);
    set_limit(&b->limits[NSK_LIMIT_RAM], "ram", "bytes", limits->ram, board->ram, b->ram);
    set_limit(&b->limits[NSK_LIMIT_LATENCY], "latency", "seconds", limits->latency,
              1.0 / board->frame_rate, b->seconds);
    b->code_source =
        g_strdup_printf("what this model needs of the runtime, %s, compiled with %s",
                        nsk_costs_source(costs, "kernels"), nsk_costs_source(costs, "compiler"));
    b->cycle_source =
        g_strdup_printf("instructions %s; cycles: %s; flash wait states at a taken branch: %g",
                        nsk_costs_source(costs, "instructions"), nsk_costs_source(costs, "cycles"),
                        board->wait_states);
    b->stack_source = g_strdup_printf("deepest use painted on the emulated %s", board->core);
    return true;
}

bool nsk_ram_for_model(const nsk_board *board, const nsk_limits *limits, double *bytes,
                       nsk_error *error) {
    double stack = 0.0;
    nsk_costs *costs = nsk_costs_read(board->costs, error);
    bool good = costs != NULL && nsk_costs_stack(costs, &stack, error);
    *bytes = fmin(board->ram, limits->ram) - stack;
    nsk_costs_free(costs);
    return good;
}

nsk_budget *nsk_budget_make(const nsk_model_file *file, const nsk_board *board,
                            const nsk_limits *limits, nsk_error *error) {
    nsk_model model;
    nsk_status status = nsk_open(&model, file->bytes, file->size);
    if (status != NSK_OK) {
        nsk_fail(error, "the model is %s", nsk_status_text(status));
        return NULL;
    }
    nsk_costs *costs = nsk_costs_read(board->costs, error);
    if (costs == NULL) {
        return NULL;
    }
    nsk_budget *b = g_new0(nsk_budget, 1);
    bool good = estimate(b, file, &model, board, costs, limits, error);
    nsk_costs_free(costs);
    if (!good) {
        nsk_budget_free(b);
        return NULL;
    }
    return b;
}

void nsk_budget_free(nsk_budget *b) {
    if (b != NULL) {
        g_free(b->layer);
        g_free(b->code_source);
        g_free(b->cycle_source);
        g_free(b->stack_source);
        g_free(b);
    }
}
