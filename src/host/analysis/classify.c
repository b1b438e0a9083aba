/* What both models say of single pictures. */
#include "netsuke/classify.h"

#include <stdio.h>
#include <string.h>

#include "images/set.h"
#include "modelfile/check.h"
#include "netsuke/compare.h"
#include "run/said.h"

/* What classifying a picture takes. */
typedef struct classifier {
    const nsk_network *network;
    const nsk_labels *labels;
    const nsk_input *input;
    nsk_model model;
    const nsk_elsewhere *elsewhere; /* where it runs besides, or NULL */
    void *workspace;
    GArray *opinions; /* of nsk_opinion */
} classifier;

/* ---- which pictures ---- */

/* What a folder's name says of its pictures, or NULL. */
static char *truth_of_folder(const nsk_labels *labels, const char *name) {
    bool *has = g_new0(bool, labels->count);
    char *unknown = NULL;
    char *truth = NULL;
    if (labels->thresholds == NULL) {
        int label = nsk_label_index(labels, name);
        truth = label >= 0 ? g_strdup(labels->names[label]) : NULL;
    } else if (nsk_label_set_of_text(labels, name, has, &unknown)) {
        truth = nsk_label_set_text(has, labels);
    }
    g_free(unknown);
    g_free(has);
    return truth;
}

static void add_picture(const classifier *c, char *path) {
    char *folder = g_path_get_dirname(path);
    char *name = g_path_get_basename(folder);
    nsk_opinion o = {.path = path, .truth = truth_of_folder(c->labels, name)};
    g_array_append_val(c->opinions, o);
    g_free(folder);
    g_free(name);
}

static bool add_path(const classifier *c, const char *path, nsk_error *error) {
    if (strcmp(path, "-") == 0 || !g_file_test(path, G_FILE_TEST_IS_DIR)) {
        add_picture(c, g_strdup(path));
        return true;
    }
    GPtrArray *paths = g_ptr_array_new();
    bool good = nsk_list_pictures(path, paths, error);
    if (good && paths->len == 0) {
        good = nsk_fail(error, "%s: no image in this folder; give one that has some", path);
    }
    for (guint i = 0; i < paths->len; i++) {
        add_picture(c, paths->pdata[i]);
    }
    g_ptr_array_free(paths, TRUE);
    return good;
}

/* ---- what the models say ---- */

static bool read_standard_input(nsk_picture *picture, nsk_error *error) {
    const size_t MOST = (size_t)256 << 20;
    GByteArray *bytes = g_byte_array_new();
    uint8_t chunk[4096];
    size_t count = fread(chunk, 1, sizeof chunk, stdin);
    while (count > 0 && bytes->len < MOST) {
        g_byte_array_append(bytes, chunk, (guint)count);
        count = fread(chunk, 1, sizeof chunk, stdin);
    }
    bool good = nsk_picture_decode(bytes->data, bytes->len, picture, error);
    g_byte_array_free(bytes, TRUE);
    return good || nsk_fail_in(error, "standard input");
}

/* One side's answer, from its probabilities and, exactly, from the integer model's scores. */
static void take_answer(const classifier *c, nsk_opinion *o, int side, const int32_t *scores) {
    const float *p = side == 0 ? o->by_float : o->by_integer;
    const nsk_labels *labels = c->labels;
    if (labels->thresholds == NULL) {
        int best = nsk_ranked(p, labels->count, 0);
        o->says[side] = g_strdup(labels->names[best]);
        o->likely[side] = p[best];
        return;
    }
    nsk_said said;
    if (scores != NULL) {
        nsk_said_by_scores(labels, scores, &said);
    } else {
        nsk_said_by(labels, p, &said);
    }
    o->says[side] = nsk_label_set_text(said.has, labels);
    o->likely[side] = nsk_said_likely(labels, &said, p);
}

static bool classify(const classifier *c, nsk_opinion *o, nsk_error *error) {
    nsk_picture picture;
    bool good = strcmp(o->path, "-") == 0 ? read_standard_input(&picture, error)
                                          : nsk_picture_named(o->path, &picture, error);
    if (!good) {
        return false;
    }
    o->frame = g_malloc(nsk_frame_bytes(c->input));
    o->by_float = g_new(float, c->model.classes);
    o->by_integer = g_new(float, c->model.classes);
    nsk_picture_to_frame(&picture, c->input, o->frame);
    nsk_picture_clear(&picture);
    if (!nsk_network_score(c->network, c->input, o->frame, o->by_float, error)) {
        return false;
    }
    nsk_prepare(&c->model, o->frame, (size_t)c->model.width * c->model.channels, c->workspace);
    nsk_run(&c->model, c->workspace, NULL);
    int32_t *scores = (int32_t *)(void *)nsk_scores(&c->model, c->workspace);
    if (c->elsewhere != NULL &&
        !c->elsewhere->run(c->elsewhere->context, o->frame, scores, error)) {
        return false;
    }
    nsk_probabilities(&c->model, scores, o->by_integer);
    take_answer(c, o, 0, NULL);
    take_answer(c, o, 1, scores);
    return true;
}

static bool classify_all(const classifier *c, const char *const *paths, nsk_progress progress,
                         void *context, nsk_error *error) {
    for (; *paths != NULL; paths++) {
        if (!add_path(c, *paths, error)) {
            return false;
        }
    }
    for (int i = 0; i < (int)c->opinions->len; i++) {
        if (!classify(c, &g_array_index(c->opinions, nsk_opinion, i), error)) {
            return false;
        }
        if (progress != NULL) {
            progress(context, i + 1, (int)c->opinions->len);
        }
    }
    return true;
}

nsk_opinions *nsk_classify(const nsk_network *network, const nsk_model_file *file,
                           const nsk_labels *labels, const nsk_input *input,
                           const char *const *paths, nsk_progress progress, void *context,
                           nsk_error *error) {
    classifier c = {
        .network = network, .labels = labels, .input = input, .elsewhere = file->elsewhere};
    nsk_status status = nsk_open(&c.model, file->bytes, file->size);
    if (status != NSK_STATUS_OK) {
        nsk_fail(error, "the model is %s", nsk_status_text(status));
        return NULL;
    }
    if (!nsk_model_is_for(&c.model, labels, input, error)) {
        return NULL;
    }
    c.workspace = g_malloc(c.model.workspace_bytes);
    c.opinions = g_array_new(FALSE, FALSE, sizeof(nsk_opinion));
    bool good = classify_all(&c, paths, progress, context, error);
    nsk_opinions *all = g_new0(nsk_opinions, 1);
    all->count = (int)c.opinions->len;
    all->classes = c.model.classes;
    all->opinion = (nsk_opinion *)(void *)g_array_free(c.opinions, FALSE);
    g_free(c.workspace);
    if (!good) {
        nsk_opinions_free(all);
        return NULL;
    }
    return all;
}

void nsk_opinions_free(nsk_opinions *opinions) {
    for (int i = 0; opinions != NULL && i < opinions->count; i++) {
        nsk_opinion *o = &opinions->opinion[i];
        g_free(o->path);
        g_free(o->by_float);
        g_free(o->by_integer);
        g_free(o->says[0]);
        g_free(o->says[1]);
        g_free(o->truth);
        g_free(o->frame);
    }
    if (opinions != NULL) {
        g_free(opinions->opinion);
        g_free(opinions);
    }
}

int nsk_ranked(const float *probabilities, int classes, int place) {
    for (int c = 0; c < classes; c++) {
        int before = 0;
        for (int k = 0; k < classes; k++) {
            before += probabilities[k] > probabilities[c] ||
                      (!(probabilities[k] < probabilities[c]) && k < c);
        }
        if (before == place) {
            return c;
        }
    }
    return 0;
}
