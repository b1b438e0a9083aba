/* modelfile/build: from ranges to a model file, for those who observe ranges in ways of their own.
 */
#ifndef NSK_MODELFILE_BUILD_H
#define NSK_MODELFILE_BUILD_H

#include "lowered/integer.h"
#include "lowered/lowered.h"
#include "netsuke/quantise.h"
#include "passes/ranges.h"
#include "passes/schedule.h"

/* One scale a tensor from one range each; those that are known beforehand (the input's, a
 * softmax's) or follow from another tensor's are set to that. g_free. */
nsk_scale *nsk_scales_of(const nsk_graph *graph, const nsk_lowered *lowered,
                         const nsk_range *ranges, const nsk_input *input);

/* Quantises every layer, plans the workspace, writes the model and opens it. */
nsk_model_file *nsk_model_build(const nsk_graph *graph, const nsk_lowered *lowered,
                                const nsk_scale *scales, const char *const *facts,
                                const nsk_labels *labels, const nsk_input *input,
                                const nsk_recipe *recipe, nsk_error *error);
/* The same on a schedule that is placed already. `like`: NULL, or a model of the same layers, whose
 * weights alone are others: of nsk_model_parts. */
nsk_model_file *nsk_model_build_on(const nsk_graph *graph, const nsk_lowered *lowered,
                                   const nsk_scale *scales, const char *const *facts,
                                   const nsk_labels *labels, const nsk_input *input,
                                   const nsk_schedule *schedule, const nsk_model *like,
                                   nsk_error *error);

#endif
