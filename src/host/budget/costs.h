/* budget/costs: a cost table: what each kernel costs on a core. */
#ifndef NSK_COSTS_H
#define NSK_COSTS_H

#include "base/base.h"

/* instructions = call + output x outputs + mac x multiply-accumulates; each takes `cycles_each`,
 * and `branches_each` of them are taken branches. */
typedef struct nsk_kernel_cost {
    double call, output, mac;
    double cycles_each, branches_each;
    double worst_misfit;
} nsk_kernel_cost;

typedef struct nsk_costs nsk_costs;

nsk_costs *nsk_costs_read(const char *path, nsk_error *error);
void nsk_costs_free(nsk_costs *costs);
const char *nsk_costs_core(const nsk_costs *costs);

/* Cost of a kernel by its name in the table (nsk_cost_kind, or "prepare"). */
bool nsk_costs_kernel(const nsk_costs *costs, const char *kind, nsk_kernel_cost *cost,
                      nsk_error *error);
/* Bytes of code of the whole runtime, and the stack that it uses at its deepest. */
bool nsk_costs_code(const nsk_costs *costs, double *bytes, nsk_error *error);
bool nsk_costs_stack(const nsk_costs *costs, double *bytes, nsk_error *error);
/* A key of [table]: where the figures come from; "" where it is not given. */
const char *nsk_costs_source(const nsk_costs *costs, const char *key);

/* Instructions and cycles of some work, flash waiting `wait_states` cycles at each taken branch. */
nsk_layer_cost nsk_kernel_cost_of(const nsk_kernel_cost *cost, double outputs, double macs,
                                  double wait_states);

#endif
