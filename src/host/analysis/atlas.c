/* What the layer before the last says of each image, in float and in integers, brought onto a
 * plane. */
#include <cblas.h>
#include <lapacke.h>
#include <math.h>
#include <string.h>

#include "analysis/answer.h"
#include "analysis/neighbours.h"
#include "base/element.h"
#include "device/layer.h"
#include "lower/lower.h"
#include "lower/translation.h"
#include "lower/views.h"
#include "lowered/integer.h"
#include "modelfile/check.h"
#include "netsuke/atlas.h"
#include "network/network.h"
#include "pipeline/pipeline.h"

typedef struct atlas_maker {
    const nsk_network *network;
    const nsk_model *model;
    nsk_atlas *atlas;
    int layer;              /* the last with weights, whose input is looked at */
    const nsk_value *value; /* that input in the float network */
    int value_index;
    int images_count, numbers;
    double *in_float, *in_integer; /* [image][number] */
} atlas_maker;

/* What the last layer with weights reads, where both models hold the same numbers. */
static bool find_layer(atlas_maker *m, const nsk_lowered *lowered, nsk_error *error) {
    nsk_layer l;
    nsk_lowered_tensor plain;
    if (lowered->layers->len != m->model->layers) {
        return nsk_fail(error, "the model was not made from this network");
    }
    for (m->layer = m->model->layers - 1; m->layer >= 0; m->layer--) {
        nsk_layer_decode(m->model, (unsigned)m->layer, &l);
        const nsk_kind kind = nsk_kind_unpacked(l.kind);
        if (kind == NSK_KIND_DENSE || kind == NSK_KIND_CONV || kind == NSK_KIND_CONV_FINE) {
            break;
        }
    }
    if (m->layer < (int)m->model->streamed) {
        return nsk_fail(error, "the network has no layer with weights behind its streamed ones");
    }
    const nsk_lowered_layer *low = nsk_lowered_layer_at(lowered, m->layer);
    m->value_index = nsk_lowered_tensor_at(lowered, low->in)->value;
    m->value =
        m->value_index != NSK_NONE ? nsk_graph_value(m->network->graph, m->value_index) : NULL;
    m->numbers = (int)nsk_tensor_elements(&l.in);
    return (m->value != NULL && nsk_lowered_tensor_at(lowered, low->in)->order == NSK_ORDER_PLAIN &&
            nsk_plain_layout(m->value, &plain) &&
            nsk_value_count(m->value) == (size_t)m->numbers) ||
           nsk_fail(error, "what layer '%s' reads stands in another order than in the network",
                    low->name);
}

/* ---- one image ---- */

typedef struct listener {
    const atlas_maker *maker;
    const int8_t *workspace;
    double *to;
} listener;

static void before_layer(void *context, const nsk_model *model, unsigned index) {
    const listener *w = context;
    nsk_layer l;
    if ((int)index != w->maker->layer) {
        return;
    }
    nsk_layer_decode(model, index, &l);
    const nsk_scale scale = nsk_scale_of_tensor(&l.in);
    for (int i = 0; i < w->maker->numbers; i++) {
        int32_t place = nsk_plain_place(w->maker->value, (size_t)i);
        const int8_t *at = w->workspace + l.in.offset + (uint32_t)place * l.in.element;
        w->to[i] = (double)scale.scale * (nsk_element_at(at, l.in.element) - scale.zero);
    }
}

static bool map_image(const nsk_runner *r, int index, void *context, nsk_error *error) {
    const atlas_maker *m = context;
    nsk_answer answer;
    nsk_atlas_image *image = &m->atlas->image[index];
    size_t at = (size_t)index * (size_t)m->numbers;
    const listener listening = {m, r->workspace, m->in_integer + at};
    const nsk_observer observer = {before_layer, NULL, (void *)&listening};
    image->label = nsk_images_label(r->images, index);
    if (!nsk_runner_answer(r, index, NULL, &answer, error)) {
        return false;
    }
    image->in_float.answer = answer.float_class;
    image->in_integer.answer = answer.integer_class;
    const float *x = nsk_pass_value(r->pass, m->value_index);
    for (int i = 0; i < m->numbers; i++) {
        m->in_float[at + (size_t)i] = (double)x[i];
    }
    nsk_prepare(m->model, r->frame, (size_t)m->model->width * m->model->channels, r->workspace);
    nsk_run(m->model, r->workspace, &observer);
    return true;
}

/* ---- the plane ---- */

/* The two directions, [2][numbers], of unit length, from the eigenvectors of the images' products
 * with each other; zeroes where images do not differ. `x` is centred. */
static bool find_directions(const atlas_maker *m, const double *x, double *directions,
                            double *spread) {
    int n = m->images_count;
    size_t rows = (size_t)n;
    double *gram = g_malloc0(sizeof(double) * rows * rows);
    double *values = g_malloc0(sizeof(double) * rows);
    double *vectors = g_malloc0(sizeof(double) * 2 * rows);
    lapack_int *support = g_malloc0(sizeof(lapack_int) * 2 * rows);
    lapack_int found = 0;
    double all = 0.0;
    cblas_dsyrk(CblasRowMajor, CblasUpper, CblasNoTrans, n, m->numbers, 1.0, x, m->numbers, 0.0,
                gram, n);
    for (int i = 0; i < n; i++) {
        all += gram[(size_t)i * rows + (size_t)i];
    }
    bool good = LAPACKE_dsyevr(LAPACK_ROW_MAJOR, 'V', 'I', 'U', n, gram, n, 0.0, 0.0, n - 1, n, 0.0,
                               &found, values, vectors, 2, support) == 0 &&
                found == 2;
    for (int k = 0; k < 2 && good; k++) { /* the largest comes last */
        double value = fmax(values[1 - k], 0.0);
        spread[k] = all > 0.0 ? value / all : 0.0;
        for (int i = 0; i < n && value > 1e-12 * all; i++) {
            cblas_daxpy(m->numbers, vectors[(size_t)i * 2 + (size_t)(1 - k)] / sqrt(value),
                        x + (size_t)i * (size_t)m->numbers, 1,
                        directions + (size_t)k * (size_t)m->numbers, 1);
        }
    }
    g_free(gram);
    g_free(values);
    g_free(vectors);
    g_free(support);
    return good;
}

static void centre(const atlas_maker *m, const double *mean, double *x) {
    for (int i = 0; i < m->images_count; i++) {
        cblas_daxpy(m->numbers, -1.0, mean, 1, x + (size_t)i * (size_t)m->numbers, 1);
    }
}

static void place(const atlas_maker *m, const double *x, const double *directions, int image,
                  nsk_atlas_side *side) {
    const double *row = x + (size_t)image * (size_t)m->numbers;
    side->x = cblas_ddot(m->numbers, row, 1, directions, 1);
    side->y = cblas_ddot(m->numbers, row, 1, directions + m->numbers, 1);
}

/* ---- neighbours ---- */

typedef struct nearest {
    double distance[NSK_NEIGHBOURS];
    int image[NSK_NEIGHBOURS];
    int count;
} nearest;

static void offer(nearest *near, double distance, int image) {
    if (near->count == NSK_NEIGHBOURS && distance >= near->distance[NSK_NEIGHBOURS - 1]) {
        return;
    }
    int at = near->count < NSK_NEIGHBOURS ? near->count++ : NSK_NEIGHBOURS - 1;
    for (; at > 0 && near->distance[at - 1] > distance; at--) {
        near->distance[at] = near->distance[at - 1];
        near->image[at] = near->image[at - 1];
    }
    near->distance[at] = distance;
    near->image[at] = image;
}

static void count_neighbours(const nsk_atlas *atlas, const nearest *near, int label, int classes,
                             nsk_atlas_side *side) {
    int *of = g_new0(int, classes);
    side->neighbours = near->count;
    for (int k = 0; k < near->count; k++) {
        side->nearest[k] = near->image[k];
        of[atlas->image[near->image[k]].label]++;
    }
    side->of_its_own = of[label];
    side->other = -1;
    for (int c = 0; c < classes; c++) {
        if (c != label && of[c] > side->of_other) {
            side->other = c;
            side->of_other = of[c];
        }
    }
    g_free(of);
}

/* Of an image among `count`, each of so many numbers. */
static nearest nearest_of(const double *x, int count, int numbers, int image) {
    nearest near = {.count = 0};
    const double *own = x + (size_t)image * (size_t)numbers;
    for (int i = 0; i < count; i++) {
        const double *other = x + (size_t)i * (size_t)numbers;
        double distance = 0.0;
        for (int k = 0; k < numbers; k++) {
            distance += (own[k] - other[k]) * (own[k] - other[k]);
        }
        if (i != image) {
            offer(&near, distance, i);
        }
    }
    return near;
}

static void find_neighbours(const atlas_maker *m, const double *x, nsk_atlas *atlas, int image,
                            nsk_atlas_side *side) {
    nearest near = nearest_of(x, m->images_count, m->numbers, image);
    count_neighbours(atlas, &near, atlas->image[image].label, m->model->classes, side);
}

/* Both models' images together, from where they stand. */
static void move_neighbours(const atlas_maker *m, nsk_atlas *atlas) {
    size_t n = (size_t)m->images_count;
    size_t numbers = (size_t)m->numbers;
    double *all = g_new0(double, 2 * n * numbers);
    double *plane = g_new0(double, 4 * n);
    memcpy(all, m->in_float, n * numbers * sizeof *all);
    memcpy(all + n * numbers, m->in_integer, n * numbers * sizeof *all);
    for (size_t i = 0; i < 2 * n; i++) {
        const nsk_atlas_image *image = &atlas->image[i % n];
        const nsk_atlas_side *side = i < n ? &image->in_float : &image->in_integer;
        plane[2 * i] = side->x;
        plane[2 * i + 1] = side->y;
    }
    nsk_map_neighbours(all, 2 * m->images_count, m->numbers, plane);
    for (size_t i = 0; i < 2 * n; i++) {
        nsk_atlas_image *image = &atlas->image[i % n];
        nsk_atlas_side *side = i < n ? &image->in_float : &image->in_integer;
        side->x = plane[2 * i];
        side->y = plane[2 * i + 1];
    }
    g_free(all);
    g_free(plane);
}

/* How many of the float network's nearest neighbours are so on the plane. */
static double share_kept(const atlas_maker *m, const nsk_atlas *atlas) {
    double *plane = g_new0(double, 2 * (size_t)m->images_count);
    int kept = 0;
    int all = 0;
    for (int i = 0; i < m->images_count; i++) {
        plane[2 * i] = atlas->image[i].in_float.x;
        plane[2 * i + 1] = atlas->image[i].in_float.y;
    }
    for (int i = 0; i < m->images_count; i++) {
        nearest among_all = nearest_of(m->in_float, m->images_count, m->numbers, i);
        nearest on_plane = nearest_of(plane, m->images_count, 2, i);
        all += among_all.count;
        for (int k = 0; k < among_all.count; k++) {
            for (int j = 0; j < on_plane.count; j++) {
                kept += among_all.image[k] == on_plane.image[j];
            }
        }
    }
    g_free(plane);
    return (double)kept / all;
}

static bool lay_out(const atlas_maker *m, nsk_atlas *atlas, nsk_error *error) {
    double *mean = g_new0(double, m->numbers);
    double *directions = g_new0(double, (size_t)2 * (size_t)m->numbers);
    for (int i = 0; i < m->images_count; i++) {
        cblas_daxpy(m->numbers, 1.0 / m->images_count, m->in_float + (size_t)i * (size_t)m->numbers,
                    1, mean, 1);
    }
    centre(m, mean, m->in_float);
    centre(m, mean, m->in_integer);
    bool good = find_directions(m, m->in_float, directions, atlas->spread) ||
                nsk_fail(error, "the images' principal components cannot be found");
#pragma omp parallel for schedule(static)
    for (int i = 0; i < m->images_count; i++) {
        nsk_atlas_image *image = &atlas->image[i];
        place(m, m->in_float, directions, i, &image->in_float);
        place(m, m->in_integer, directions, i, &image->in_integer);
        find_neighbours(m, m->in_float, atlas, i, &image->in_float);
        find_neighbours(m, m->in_integer, atlas, i, &image->in_integer);
    }
    if (good && atlas->by_neighbours) {
        move_neighbours(m, atlas);
        atlas->spread[0] = atlas->spread[1] = 0.0;
    }
    atlas->kept = share_kept(m, atlas);
    g_free(mean);
    g_free(directions);
    return good;
}

nsk_atlas *nsk_atlas_make(const nsk_network *network, const nsk_model_file *file,
                          const nsk_images *images, bool by_neighbours, nsk_progress progress,
                          void *context, nsk_error *error) {
    const bool several = nsk_images_labels(images)->thresholds != NULL;
    int most = by_neighbours ? NSK_ATLAS_MOST / 2 : NSK_ATLAS_MOST;
    nsk_model model;
    if (!nsk_model_open_for(network, file, images, &model, error)) {
        return NULL;
    }
    atlas_maker m = {.network = network, .model = &model, .images_count = nsk_images_count(images)};
    if (several) {
        nsk_fail(error, "an atlas is of pictures with one label each; leave [thresholds] out");
        return NULL;
    }
    if (m.images_count < 3 || m.images_count > most) {
        nsk_fail(error, "%d images: an atlas takes 3 to %d; say how many by --sample",
                 m.images_count, most);
        return NULL;
    }
    nsk_lowered *lowered = nsk_lower_and_join(network->graph, error);
    bool good = lowered != NULL && find_layer(&m, lowered, error);
    nsk_atlas *atlas = g_new0(nsk_atlas, 1);
    if (good) {
        size_t count = (size_t)m.images_count * (size_t)m.numbers;
        m.atlas = atlas;
        atlas->images = m.images_count;
        atlas->numbers = m.numbers;
        atlas->by_neighbours = by_neighbours;
        atlas->image = g_new0(nsk_atlas_image, m.images_count);
        m.in_float = g_new0(double, count);
        m.in_integer = g_new0(double, count);
        good = nsk_run_images(network, &model, NULL, images, map_image, &m, progress, context,
                              error) &&
               lay_out(&m, atlas, error);
    }
    g_free(m.in_float);
    g_free(m.in_integer);
    nsk_lowered_free(lowered);
    if (!good) {
        nsk_atlas_free(atlas);
        return NULL;
    }
    return atlas;
}

static bool side_is_astray(const nsk_atlas_side *side) {
    return side->of_other > NSK_NEIGHBOURS / 2;
}

bool nsk_atlas_is_astray(const nsk_atlas_image *image) {
    return side_is_astray(&image->in_float) && side_is_astray(&image->in_integer) &&
           image->in_float.other == image->in_integer.other;
}

nsk_atlas_class nsk_atlas_class_of(const nsk_atlas *atlas, int label) {
    nsk_atlas_class of = {0};
    for (int i = 0; i < atlas->images; i++) {
        const nsk_atlas_image *image = &atlas->image[i];
        if (image->label == label) {
            of.images++;
            of.astray += nsk_atlas_is_astray(image);
            of.float_own += image->in_float.of_its_own;
            of.integer_own += image->in_integer.of_its_own;
        }
    }
    of.float_own /= MAX(of.images, 1);
    of.integer_own /= MAX(of.images, 1);
    return of;
}

void nsk_atlas_free(nsk_atlas *atlas) {
    if (atlas != NULL) {
        g_free(atlas->image);
        g_free(atlas);
    }
}
