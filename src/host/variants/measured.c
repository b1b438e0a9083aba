/* What takes long to find out of a variant, and a name for all that it depends on. */
#include <string.h>

#include "base/base.h"
#include "graph/graph.h"
#include "images/set.h"
#include "netsuke/compare.h"
#include "netsuke/weigh.h"
#include "network/network.h"

bool nsk_measure(const nsk_network *network, const nsk_images *calibration,
                 const nsk_recipe *recipe, const nsk_images *held_out, nsk_measured *m,
                 nsk_error *error) {
    *m = (nsk_measured){.model = nsk_quantise(network, calibration, recipe, error)};
    nsk_comparison *c =
        m->model != NULL ? nsk_compare(network, m->model, held_out, NULL, NULL, error) : NULL;
    if (c == NULL) {
        nsk_measured_clear(m);
        return false;
    }
    m->images = c->images;
    m->float_correct = c->float_correct;
    m->integer_correct = c->integer_correct;
    m->agree = c->agree;
    m->lost = c->lost;
    m->won = c->won;
    nsk_comparison_free(c);
    return true;
}

void nsk_measured_clear(nsk_measured *m) {
    nsk_model_file_free(m->model);
    *m = (nsk_measured){0};
}

static void add_bytes(GChecksum *sum, const void *bytes, size_t size) {
    g_checksum_update(sum, bytes, (gssize)size);
}

static void add_text(GChecksum *sum, const char *text) {
    add_bytes(sum, text, strlen(text) + 1);
}

static bool add_file(GChecksum *sum, const char *path, nsk_error *error) {
    GError *reason = NULL;
    GMappedFile *file = g_mapped_file_new(path, FALSE, &reason);
    if (file == NULL) {
        nsk_fail(error, "%s", reason->message);
        g_error_free(reason);
        return false;
    }
    if (g_mapped_file_get_length(file) > 0) {
        add_bytes(sum, g_mapped_file_get_contents(file), g_mapped_file_get_length(file));
    }
    g_mapped_file_unref(file);
    return true;
}

/* A file may name others for its constants, so those are added as they were read. */
static bool add_network(GChecksum *sum, const nsk_network *network, nsk_error *error) {
    const nsk_graph *graph = network->graph;
    for (guint i = 0; i < graph->values->len; i++) {
        const nsk_value *v = g_ptr_array_index(graph->values, i);
        add_bytes(sum, &v->fine, sizeof v->fine);
        if (v->data != NULL) {
            size_t count = 1;
            for (int d = 0; d < v->rank; d++) {
                count *= (size_t)v->dims[d];
            }
            add_bytes(sum, v->data, count * sizeof *v->data);
        }
    }
    const int whole[] = {graph->output, (int)graph->values->len, (int)graph->nodes->len};
    add_bytes(sum, whole, sizeof whole); /* of several outputs, which it is */
    for (int i = 0; i < NSK_FACTS; i++) {
        add_text(sum, network->facts[i]);
    }
    return add_file(sum, network->path, error);
}

/* Every picture with its label, in order; what stands in an array, by its place there. */
static bool add_images(GChecksum *sum, const nsk_images *images, nsk_error *error) {
    bool good = true;
    if (images->array.file != NULL) {
        add_bytes(sum, g_mapped_file_get_contents(images->array.file),
                  g_mapped_file_get_length(images->array.file));
    }
    for (guint i = 0; i < images->entries->len && good; i++) {
        const nsk_entry *e = &g_array_index(images->entries, nsk_entry, i);
        const int place[2] = {e->label, e->index};
        add_bytes(sum, place, sizeof place);
        good = e->index >= 0 || add_file(sum, e->path, error);
    }
    for (int i = 0; i < nsk_images_label_sets(images) && images->sets != NULL; i++) {
        add_bytes(sum, nsk_label_sets_at(images->sets, i),
                  (size_t)images->labels.count * sizeof(bool));
    }
    return good;
}

static void add_input(GChecksum *sum, const nsk_input *input, const nsk_labels *labels) {
    const int whole[] = {input->width, input->height, (int)input->colour, (int)input->fit,
                         (int)input->resample};
    add_bytes(sum, whole, sizeof whole);
    add_bytes(sum, input->mean, sizeof input->mean);
    add_bytes(sum, input->deviation, sizeof input->deviation);
    add_bytes(sum, &input->top, sizeof input->top);
    for (int i = 0; i < labels->count; i++) {
        add_text(sum, labels->names[i]);
    }
    if (labels->thresholds != NULL) {
        add_bytes(sum, labels->thresholds, (size_t)labels->count * sizeof *labels->thresholds);
    }
}

static bool add_recipe(GChecksum *sum, const nsk_recipe *r, nsk_error *error) {
    const int whole[] = {(int)r->ranges,    r->equalise, r->rounding, r->biases,
                         (int)r->streaming, r->excepted, r->bits,     r->narrowed_count};
    const nsk_refine_settings *refined = r->refine;
    const bool learned = refined != NULL && refined->learned != NULL; /* some layers stay then */
    add_bytes(sum, whole, sizeof whole);
    add_bytes(sum, &r->ram, sizeof r->ram);
    for (int i = 0; i < r->excepted; i++) {
        add_text(sum, r->exceptions[i].layer);
        add_bytes(sum, &r->exceptions[i].method, sizeof r->exceptions[i].method);
    }
    for (int i = 0; i < r->narrowed_count; i++) {
        add_text(sum, r->narrowed[i].layer);
        add_bytes(sum, &r->narrowed[i].bits, sizeof r->narrowed[i].bits);
    }
    if (refined == NULL) {
        return true;
    }
    add_bytes(sum, &refined->epochs, sizeof refined->epochs);
    add_bytes(sum, &refined->rate, sizeof refined->rate);
    add_bytes(sum, &refined->changes, sizeof refined->changes);
    add_bytes(sum, &refined->seed, sizeof refined->seed);
    add_bytes(sum, &learned, sizeof learned);
    return (refined->teacher == NULL || add_network(sum, refined->teacher, error)) &&
           add_images(sum, refined->training, error);
}

char *nsk_measurement_key(const nsk_network *network, const nsk_images *calibration,
                          const nsk_recipe *recipe, const nsk_images *held_out, nsk_error *error) {
    GChecksum *sum = g_checksum_new(G_CHECKSUM_SHA256);
    add_input(sum, &calibration->input, &calibration->labels);
    bool good = add_file(sum, "/proc/self/exe", error) && add_network(sum, network, error) &&
                add_recipe(sum, recipe, error) && add_images(sum, calibration, error) &&
                (held_out == NULL || add_images(sum, held_out, error));
    char *key = good ? g_strndup(g_checksum_get_string(sum), 32) : NULL;
    g_checksum_free(sum);
    return key;
}
