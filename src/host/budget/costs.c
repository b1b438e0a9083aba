#include "budget/costs.h"

#include "brief/settings.h"

struct nsk_costs {
    nsk_settings *settings;
    char *path;
};

static const nsk_setting_name known[] = {
    {"table", "core"},
    {"table", "kernels"},
    {"table", "compiler"},
    {"table", "emulator"},
    {"table", "instructions"},
    {"table", "cycles"},
    {"code", "*"},
    {"stack", "deepest"},
    {"*", "call"},
    {"*", "output"},
    {"*", "mac"},
    {"*", "cycles-each"},
    {"*", "branches-each"},
    {"*", "worst-misfit"},
    {NULL, NULL},
};

nsk_costs *nsk_costs_read(const char *path, nsk_error *error) {
    nsk_settings *settings = nsk_settings_read(path, known, error);
    if (settings == NULL) {
        return NULL;
    }
    nsk_costs *costs = g_new0(nsk_costs, 1);
    costs->settings = settings;
    costs->path = g_strdup(path);
    if (nsk_settings_need(settings, "table", "core", error) == NULL) {
        nsk_costs_free(costs);
        return NULL;
    }
    return costs;
}

void nsk_costs_free(nsk_costs *costs) {
    if (costs != NULL) {
        nsk_settings_free(costs->settings);
        g_free(costs->path);
        g_free(costs);
    }
}

const char *nsk_costs_core(const nsk_costs *costs) {
    return nsk_settings_text(costs->settings, "table", "core");
}

const char *nsk_costs_source(const nsk_costs *costs, const char *key) {
    const char *text = nsk_settings_text(costs->settings, "table", key);
    return text != NULL ? text : "";
}

bool nsk_costs_kernel(const nsk_costs *costs, const char *kind, nsk_kernel_cost *cost,
                      nsk_error *error) {
    const struct {
        const char *key;
        double *to;
    } fields[] = {{"call", &cost->call},
                  {"output", &cost->output},
                  {"mac", &cost->mac},
                  {"cycles-each", &cost->cycles_each},
                  {"branches-each", &cost->branches_each},
                  {"worst-misfit", &cost->worst_misfit}};
    for (size_t i = 0; i < G_N_ELEMENTS(fields); i++) {
        if (nsk_settings_need(costs->settings, kind, fields[i].key, error) == NULL ||
            !nsk_settings_number(costs->settings, kind, fields[i].key, NSK_NUMBER, 0, 1e9,
                                 fields[i].to, error)) {
            return false;
        }
    }
    return true;
}

bool nsk_costs_code(const nsk_costs *costs, double *bytes, nsk_error *error) {
    const char *const *keys = nsk_settings_keys(costs->settings, "code");
    *bytes = 0.0;
    for (; keys != NULL && *keys != NULL; keys++) {
        double one = 0.0;
        if (!nsk_settings_number(costs->settings, "code", *keys, NSK_BYTES, 0, 1e9, &one, error)) {
            return false;
        }
        *bytes += one;
    }
    return *bytes > 0.0 || nsk_fail(error, "%s: no sizes under [code]", costs->path);
}

bool nsk_costs_stack(const nsk_costs *costs, double *bytes, nsk_error *error) {
    return nsk_settings_need(costs->settings, "stack", "deepest", error) != NULL &&
           nsk_settings_number(costs->settings, "stack", "deepest", NSK_BYTES, 0, 1e9, bytes,
                               error);
}

nsk_layer_cost nsk_kernel_cost_of(const nsk_kernel_cost *cost, double outputs, double macs,
                                  double wait_states) {
    nsk_layer_cost result;
    result.instructions = cost->call + cost->output * outputs + cost->mac * macs;
    result.cycles = result.instructions * (cost->cycles_each + cost->branches_each * wait_states);
    return result;
}
