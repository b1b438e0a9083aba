/* estimate/costs: a cost table: what each kernel costs on a core. */
#ifndef NSK_ESTIMATE_COSTS_H
#define NSK_ESTIMATE_COSTS_H

#include "base/base.h"
#include "device/work.h"
#include "netsuke/budget.h"

/* What instructions are counted by: numbers of nsk_work. */
enum { NSK_COST_TERMS = 22 };
extern const char *const nsk_cost_terms[NSK_COST_TERMS]; /* their keys in a table */
void nsk_cost_terms_of(const nsk_work *work, double *terms);

/* instructions = the sum of each times its `term` (0 where the table has no such key); each takes
 * `cycles_each`, and `branches_each` of them are taken branches. */
typedef struct nsk_kernel_cost {
    double term[NSK_COST_TERMS];
    double cycles_each, branches_each;
    double fast_each, slow_each; /* cycles by the core's pipeline model; 0: it has none */
    double spread, worst_misfit; /* relative, over the grid: root of the mean square; the worst */
} nsk_kernel_cost;

typedef struct nsk_costs nsk_costs;

nsk_costs *nsk_costs_read(const char *path, nsk_error *error);
void nsk_costs_free(nsk_costs *costs);
const char *nsk_costs_core(const nsk_costs *costs);

/* The core whose table serves for another: it runs the same instructions. Its own, where it has a
 * table or nothing is known of it. */
const char *nsk_costs_of_core(const char *core);

/* Cost of a kernel by its name in the table (nsk_cost_kind, or "prepare"). */
bool nsk_costs_kernel(const nsk_costs *costs, const char *kind, nsk_kernel_cost *cost,
                      nsk_error *error);
/* Whether the table has it: an order of weights that a core cannot read costs nothing there. */
bool nsk_costs_have(const nsk_costs *costs, const char *kind);
/* Bytes of code of the runtime with the kinds of layer that the model has, and the stack that it
 * uses at its deepest: the deepest of its layers. */
bool nsk_costs_code(const nsk_costs *costs, const nsk_model *model, double *bytes,
                    nsk_error *error);
bool nsk_costs_stack(const nsk_costs *costs, const nsk_model *model, double *bytes,
                     nsk_error *error);
/* The same of the product's loop, behind a sensor or not: its code; and how deep the stack is with
 * it, `stack` being how deep layers go. */
bool nsk_costs_firmware(const nsk_costs *costs, const nsk_model *model, bool senses, double *code,
                        double *stack, nsk_error *error);
/* The same where the model is not known yet. */
bool nsk_costs_deepest(const nsk_costs *costs, double *bytes, nsk_error *error);
/* What bringing a picture of that size to the model's frame takes, and looking at it. */
const char *nsk_scaling_group(const nsk_model *model); /* of the cost table, by nsk_resample */
nsk_work nsk_scaling_work(const nsk_model *model, unsigned width, unsigned height);
nsk_work nsk_frame_check_work(const nsk_model *model, unsigned width, unsigned height);

/* What models need of the runtime. */
typedef struct nsk_needs {
    bool kinds[NSK_KINDS];
    bool streams;
} nsk_needs;

void nsk_needs_add(nsk_needs *needs, const nsk_model *model);
void nsk_needs_all(nsk_needs *needs);
/* Whether a file of src/device, by its name without folder and suffix, is needed. */
bool nsk_device_file_is_needed(const char *file, const nsk_needs *needs);
/* Appends the table's sizes of code and depths of stack, as they stand there. */
void nsk_costs_copy_sizes(const nsk_costs *costs, GString *to);
/* A key of [table]: where the figures come from; "" where it is not given. */
const char *nsk_costs_source(const nsk_costs *costs, const char *key);

/* Instructions and cycles of some work, flash waiting `wait_states` cycles at each taken branch. */
nsk_layer_cost nsk_kernel_cost_of(const nsk_kernel_cost *cost, const nsk_work *work,
                                  double wait_states);

#endif
