#include "float/forward.h"

#include <string.h>

#include "float/kernel.h"

struct nsk_pass {
    const nsk_graph *graph;
    float **memory; /* one a value; NULL for constants */
    float *scratch;
    bool *changed; /* nsk_pass_run_behind: which values */
};

/* Floats that one pass needs: every value is kept, so that any can be looked at afterwards. */
static bool fits_memory(const nsk_graph *graph, nsk_error *error) {
    const size_t MOST = (size_t)1 << 29;
    size_t total = 0;
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        size_t scratch = node->dead ? 0 : nsk_scratch_needed(graph, node);
        total += node->dead ? 0 : nsk_value_count(nsk_graph_value(graph, node->output));
        if (total > MOST || scratch > MOST) {
            return nsk_fail(error,
                            "node '%s' (%s): one picture would need more than 2 GiB; give a "
                            "smaller input size",
                            node->name, nsk_op_name(node->op));
        }
    }
    return true;
}

nsk_pass *nsk_pass_new(const nsk_graph *graph, nsk_error *error) {
    if (!fits_memory(graph, error)) {
        return NULL;
    }
    nsk_blas_on_one_thread();
    nsk_pass *pass = g_new0(nsk_pass, 1);
    size_t scratch = 1;
    pass->graph = graph;
    pass->changed = g_new0(bool, graph->values->len);
    pass->memory = g_new0(float *, graph->values->len);
    pass->memory[graph->input] =
        g_new0(float, nsk_value_count(nsk_graph_value(graph, graph->input)));
    for (int i = 0; i < (int)graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(graph, i);
        if (node->dead) {
            continue;
        }
        if (nsk_kernel_of(node->op) == NULL) {
            nsk_fail(error, "node '%s' (%s): no float form", node->name, nsk_op_name(node->op));
            nsk_pass_free(pass);
            return NULL;
        }
        scratch = MAX(scratch, nsk_scratch_needed(graph, node));
        pass->memory[node->output] =
            g_new0(float, nsk_value_count(nsk_graph_value(graph, node->output)));
    }
    pass->scratch = g_new(float, scratch);
    return pass;
}

void nsk_pass_free(nsk_pass *pass) {
    if (pass == NULL) {
        return;
    }
    for (int i = 0; i < (int)pass->graph->values->len; i++) {
        g_free(pass->memory[i]);
    }
    g_free(pass->memory);
    g_free(pass->scratch);
    g_free(pass->changed);
    g_free(pass);
}

float *nsk_pass_input(nsk_pass *pass) {
    return pass->memory[pass->graph->input];
}

static void run_node(nsk_pass *pass, const nsk_node *node) {
    nsk_step s = {.graph = pass->graph,
                  .node = node,
                  .y = pass->memory[node->output],
                  .scratch = pass->scratch};
    nsk_step_run(&s, pass->memory);
}

void nsk_pass_run(nsk_pass *pass) {
    for (int i = 0; i < (int)pass->graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(pass->graph, i);
        if (!node->dead) {
            run_node(pass, node);
        }
    }
}

void nsk_pass_run_changed(nsk_pass *pass, nsk_pass_change *change, const void *context) {
    const nsk_graph *g = pass->graph;
    change(context, g->input, pass->memory[g->input],
           nsk_value_count(nsk_graph_value(g, g->input)));
    nsk_pass_run_from(pass, 0, change, context);
}

void nsk_pass_run_from(nsk_pass *pass, int node_index, nsk_pass_change *change,
                       const void *context) {
    const nsk_graph *g = pass->graph;
    for (int i = node_index; i < (int)g->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(g, i);
        if (!node->dead) {
            run_node(pass, node);
            change(context, node->output, pass->memory[node->output],
                   nsk_value_count(nsk_graph_value(g, node->output)));
        }
    }
}

void nsk_pass_lend(nsk_pass *pass, int value, const float *numbers) {
    pass->memory[value] = (float *)numbers;
}

float *nsk_pass_memory(nsk_pass *pass, int value) {
    return pass->memory[value];
}

void nsk_pass_run_behind(nsk_pass *pass, int value) {
    bool *changed = pass->changed;
    memset(changed, 0, pass->graph->values->len * sizeof *changed);
    changed[value] = true;
    for (int i = 0; i < (int)pass->graph->nodes->len; i++) {
        const nsk_node *node = nsk_graph_node(pass->graph, i);
        bool depends = false;
        for (int k = 0; k < node->inputs && !node->dead; k++) {
            depends = depends || (node->input[k] != NSK_NONE && changed[node->input[k]]);
        }
        if (depends) {
            run_node(pass, node);
            changed[node->output] = true;
        }
    }
}

const float *nsk_pass_value(const nsk_pass *pass, int value) {
    const float *constant = nsk_graph_value(pass->graph, value)->data;
    return constant != NULL ? constant : pass->memory[value];
}

double nsk_prepared(const nsk_graph *graph, const nsk_input *input, size_t channel, double byte) {
    double value = (byte / 255.0 * input->top - input->mean[channel]) / input->deviation[channel];
    return value * graph->input_gain[channel] + graph->input_offset[channel];
}

void nsk_float_prepare(const nsk_graph *graph, const nsk_input *input, const uint8_t *frame,
                       float *planes) {
    size_t pixels = (size_t)input->width * (size_t)input->height;
    size_t channels = input->colour == NSK_COLOUR_GREY ? 1 : 3;
    for (size_t c = 0; c < channels; c++) {
        for (size_t i = 0; i < pixels; i++) {
            planes[c * pixels + i] =
                (float)nsk_prepared(graph, input, c, (double)frame[i * channels + c]);
        }
    }
}
