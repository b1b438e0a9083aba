/* What every layer makes of one picture. */
#include "netsuke/probe.h"
#include "base/element.h"

#include <math.h>
#include <string.h>

#include "analysis/beside.h"
#include "device/layer.h"
#include "lowered/integer.h"
#include "modelfile/check.h"
#include "modelfile/file.h"
#include "network/network.h"
#include "pipeline/pipeline.h"

/* What the observer works on. */
typedef struct prober {
    const nsk_network *network;
    const nsk_lowered *lowered;
    const nsk_pass *pass;
    const int8_t *workspace;
    nsk_probing *result;
} prober;

/* The float network's values in the device's order; NULL where it has none of this form. */
static float *values_of(const prober *p, const nsk_lowered_tensor *t) {
    nsk_planes planes;
    const float *x = nsk_values_beside(p->network->graph, p->pass, t, &planes);
    if (x == NULL) {
        return NULL;
    }
    float *values = g_new(float, planes.planes *planes.each);
    for (size_t plane = 0; plane < planes.planes; plane++) {
        for (size_t at = 0; at < planes.each; at++) {
            values[at * planes.planes + plane] = *x++;
        }
    }
    return values;
}

static void find_spans(nsk_probe *p) {
    int count = p->height * p->width * p->channels;
    p->low[0] = p->low[1] = INFINITY;
    p->high[0] = p->high[1] = -INFINITY;
    for (int i = 0; i < count; i++) {
        const double values[2] = {p->by_float != NULL ? (double)p->by_float[i] : NAN,
                                  (double)p->scale * (p->levels[i] - p->zero)};
        for (int side = 0; side < 2; side++) {
            p->low[side] = fmin(p->low[side], values[side]);
            p->high[side] = fmax(p->high[side], values[side]);
        }
    }
}

/* Both as the function takes them that is all that reads them, where there is one. */
static double signal_over_error(const nsk_probe *p, const nsk_lowered_layer *reader) {
    double signal = 0.0;
    double error = 0.0;
    size_t count = (size_t)p->height * (size_t)p->width * (size_t)p->channels;
    for (size_t i = 0; i < count && p->by_float != NULL; i++) {
        double x = nsk_lowered_function_at(reader, (double)p->by_float[i]);
        double value = (double)p->scale * (p->levels[i] - p->zero);
        double apart = nsk_lowered_function_at(reader, value) - x;
        signal += x * x;
        error += apart * apart;
    }
    return error > 0.0 ? 10.0 * log10(signal / error) : INFINITY;
}

static void after_layer(void *context, const nsk_model *model, unsigned layer) {
    const prober *p = context;
    const nsk_tensor t = nsk_tensor_at(model, nsk_layer_output(model, layer));
    size_t count = nsk_tensor_elements(&t);
    nsk_probe *probe = &p->result->layer[layer];
    *probe = (nsk_probe){.name = nsk_layer_name(model, layer),
                         .height = t.height,
                         .width = t.width,
                         .channels = t.channels,
                         .scale = nsk_scale_of_tensor(&t).scale,
                         .zero = nsk_scale_of_tensor(&t).zero,
                         .levels = g_new(int32_t, count)};
    for (size_t i = 0; i < count; i++) {
        probe->levels[i] =
            nsk_element_at(p->workspace + t.offset + nsk_element_place(&t, (uint32_t)i), t.element);
    }
    const nsk_lowered_layer *l = nsk_lowered_layer_at(p->lowered, (int)layer);
    probe->by_float = values_of(p, nsk_lowered_tensor_at(p->lowered, l->out));
    probe->sqnr_db = signal_over_error(probe, nsk_lowered_reader(p->lowered, l->out));
    find_spans(probe);
}

static nsk_probing *run(const nsk_network *network, const nsk_lowered *lowered,
                        const nsk_model_file *file, const nsk_input *input, const uint8_t *frame,
                        nsk_error *error) {
    nsk_pass *pass = nsk_pass_new(network->graph, error);
    if (pass == NULL) {
        return NULL;
    }
    nsk_probing *result = g_new0(nsk_probing, 1);
    result->file = nsk_model_file_adopt(g_memdup2(file->bytes, file->size), file->size, error);
    nsk_model model;
    nsk_open(&model, result->file->bytes, result->file->size);
    result->layers = model.layers;
    result->layer = g_new0(nsk_probe, result->layers);
    int8_t *workspace = g_malloc(model.workspace_bytes);
    prober p = {network, lowered, pass, workspace, result};
    const nsk_observer observer = {NULL, after_layer, &p};
    nsk_float_prepare(network->graph, input, frame, nsk_pass_input(pass));
    nsk_pass_run(pass);
    nsk_prepare(&model, frame, (size_t)model.width * model.channels, workspace);
    nsk_run(&model, workspace, &observer);
    g_free(workspace);
    nsk_pass_free(pass);
    return result;
}

nsk_probing *nsk_probe_frame(const nsk_network *network, const nsk_model_file *file,
                             const nsk_labels *labels, const nsk_input *input, const uint8_t *frame,
                             nsk_error *error) {
    nsk_model model;
    nsk_status status = nsk_open(&model, file->bytes, file->size);
    if (status != NSK_STATUS_OK) {
        nsk_fail(error, "the model is %s", nsk_status_text(status));
        return NULL;
    }
    if (!nsk_model_is_for(&model, labels, input, error)) {
        return NULL;
    }
    if (model.streamed > 0) {
        nsk_fail(error, "a streamed model keeps no whole tensors to look at; quantise without");
        return NULL;
    }
    nsk_lowered *lowered = nsk_lower_and_join(network->graph, error);
    nsk_probing *result = NULL;
    if (lowered != NULL && lowered->layers->len != model.layers) {
        nsk_fail(error, "the model was not made from this network");
    } else if (lowered != NULL) {
        result = run(network, lowered, file, input, frame, error);
    }
    nsk_lowered_free(lowered);
    return result;
}

void nsk_probing_free(nsk_probing *probing) {
    for (int i = 0; probing != NULL && i < probing->layers; i++) {
        g_free(probing->layer[i].levels);
        g_free(probing->layer[i].by_float);
    }
    if (probing != NULL) {
        nsk_model_file_free(probing->file);
        g_free(probing->layer);
        g_free(probing);
    }
}

const nsk_probe *nsk_probe_named(const nsk_probing *probing, const char *name, nsk_error *error) {
    const char **names = g_new0(const char *, probing->layers + 1);
    const nsk_probe *found = NULL;
    for (int i = 0; i < probing->layers && found == NULL; i++) {
        names[i] = probing->layer[i].name;
        found = strcmp(names[i], name) == 0 ? &probing->layer[i] : NULL;
    }
    if (found == NULL) {
        char *meant = nsk_did_you_mean(name, names);
        nsk_fail(error, "no layer is called '%s'%s", name, meant);
        g_free(meant);
    }
    g_free(names);
    return found;
}

bool nsk_probe_write(const nsk_probe *p, const char *path, nsk_error *error) {
    enum { MAGIC = 10, ALIGNED = 64 };
    GByteArray *bytes = g_byte_array_new();
    char *shape =
        g_strdup_printf("{'descr': '<f4', 'fortran_order': False, 'shape': (%d, %d, %d, %d), }",
                        p->by_float != NULL ? 2 : 1, p->height, p->width, p->channels);
    size_t whole = (MAGIC + strlen(shape) + 1 + ALIGNED - 1) / ALIGNED * ALIGNED;
    char *head = g_strdup_printf("%-*s\n", (int)(whole - MAGIC - 1), shape);
    const uint8_t magic[MAGIC] = {
        0x93, 'N', 'U', 'M', 'P', 'Y', 1, 0, (uint8_t)strlen(head), (uint8_t)(strlen(head) >> 8)};
    size_t count = (size_t)p->height * (size_t)p->width * (size_t)p->channels;
    g_byte_array_append(bytes, magic, MAGIC);
    g_byte_array_append(bytes, (const guint8 *)head, (guint)strlen(head));
    if (p->by_float != NULL) {
        g_byte_array_append(bytes, (const guint8 *)p->by_float,
                            (guint)(count * sizeof *p->by_float));
    }
    for (size_t i = 0; i < count; i++) {
        float value = p->scale * (float)(p->levels[i] - p->zero);
        g_byte_array_append(bytes, (const guint8 *)&value, sizeof value);
    }
    bool good = nsk_file_write(path, bytes->data, bytes->len, error);
    g_byte_array_free(bytes, TRUE);
    g_free(shape);
    g_free(head);
    return good;
}
