/* Is the float network fed as it was in training? Tries the usual ways, and renamings of labels. */
#include <math.h>
#include <string.h>

#include "analysis/assignment.h"
#include "analysis/vet_ways.h"
#include "float/forward.h"
#include "graph/graph.h"
#include "images/set.h"
#include "modelfile/check.h"
#include "network/network.h"
#include "run/said.h"

static const double LEAST_GAIN = 0.01;     /* of the images, by another preparation */
static const double LEAST_CERTAINTY = 4.0; /* standard errors */
static const double CHANCE = 2.0;          /* standard errors that two as good ones may differ by */
static const double MOST_OF_GAIN = 0.75;   /* of the likeliest way's */
static const double LEAST_RENAMED_GAIN = 0.03; /* of the images, by other labels */
static const double LEAST_LOGARITHM = -10.0;

/* ---- running ---- */

typedef struct trial {
    const nsk_network *network;
    const nsk_images *images;
    int count; /* of images */
    int classes;
    GArray *ways;
    int *output_of;    /* of a label: itself, or as renamed */
    uint16_t *answers; /* [way][image] */
    float *likely;     /* [way][image]: logarithm of the true label's probability */
    nsk_progress progress;
    void *context;
    int done, total;
} trial;

typedef struct worker {
    nsk_pass *pass;
    uint8_t *frame;
} worker;

/* The probabilities of one picture in one way. */
static const float *run_way(const trial *t, const worker *w, const nsk_picture *picture,
                            const nsk_input *input) {
    nsk_picture_to_frame(picture, input, w->frame);
    nsk_float_prepare(t->network->graph, input, w->frame, nsk_pass_input(w->pass));
    nsk_pass_run(w->pass);
    return nsk_pass_value(w->pass, t->network->graph->output);
}

static const double *thresholds_of(const trial *t) {
    return nsk_images_labels(t->images)->thresholds;
}

/* Where pictures may have several labels, an answer is whether all of it is right: 1. */
static int truth_of(const trial *t, int image) {
    return thresholds_of(t) != NULL ? 1 : t->output_of[nsk_images_label(t->images, image)];
}

/* How likely the truth is, label by label, on the average. */
static double likely_labels(const trial *t, int image, const float *scores) {
    double sum = 0.0;
    for (int c = 0; c < t->classes; c++) {
        double p = (double)scores[c];
        double own = nsk_images_has(t->images, image, c) ? p : 1.0 - p;
        sum += fmax(log(fmax(own, 1e-30)), LEAST_LOGARITHM);
    }
    return sum / t->classes;
}

static void keep_answer(const trial *t, guint way, int image, const float *scores) {
    size_t at = (size_t)way * (size_t)t->count + (size_t)image;
    if (thresholds_of(t) != NULL) {
        t->answers[at] = nsk_is_right(t->images, image, scores);
        t->likely[at] = (float)likely_labels(t, image, scores);
        return;
    }
    int best = 0;
    for (int c = 1; c < t->classes; c++) {
        best = scores[c] > scores[best] ? c : best;
    }
    double true_score = (double)scores[truth_of(t, image)];
    t->answers[at] = (uint16_t)best;
    t->likely[at] = (float)fmax(log(fmax(true_score, 1e-30)), LEAST_LOGARITHM);
}

static bool try_image(const trial *t, const worker *w, int image, guint first, nsk_error *error) {
    nsk_picture upright;
    if (!nsk_images_picture(t->images, image, &upright, error)) {
        return false;
    }
    nsk_picture mirrored = upright;
    size_t bytes = (size_t)3 * (size_t)upright.width * (size_t)upright.height;
    mirrored.rgb = g_memdup2(upright.rgb, bytes);
    nsk_picture_turn(&mirrored, 5);
    for (guint i = first; i < t->ways->len; i++) {
        const nsk_alternative *way = &g_array_index(t->ways, nsk_alternative, i);
        keep_answer(t, i, image, run_way(t, w, way->mirrored ? &mirrored : &upright, &way->input));
    }
    nsk_picture_clear(&upright);
    nsk_picture_clear(&mirrored);
    return true;
}

/* Runs the ways from `first` on. */
static bool run_round(trial *t, guint first, nsk_error *error) {
    bool good = true;
    t->answers = g_renew(uint16_t, t->answers, (gsize)t->ways->len * (gsize)t->count);
    t->likely = g_renew(float, t->likely, (gsize)t->ways->len *(gsize)t->count);
    t->total += t->count;
#pragma omp parallel
    {
        nsk_error fault = {.text = ""};
        worker w = {nsk_pass_new(t->network->graph, &fault),
                    g_malloc(nsk_images_frame_bytes(t->images))};
        bool fine = w.pass != NULL;
#pragma omp for schedule(dynamic, 4)
        for (int i = 0; i < t->count; i++) {
            fine = fine && try_image(t, &w, i, first, &fault);
#pragma omp critical(nsk_vet_progress)
            {
                t->done++;
                if (t->progress != NULL) {
                    t->progress(t->context, t->done, t->total + 1);
                }
            }
        }
        if (!fine) {
#pragma omp critical(nsk_vet_failure)
            {
                good = false;
                nsk_error_copy(error, &fault);
            }
        }
        nsk_pass_free(w.pass);
        g_free(w.frame);
    }
    return good;
}

/* ---- judging ---- */

static void count_right(const trial *t, guint way) {
    nsk_alternative *a = &g_array_index(t->ways, nsk_alternative, way);
    const uint16_t *own = t->answers + (size_t)way * (size_t)t->count;
    a->correct = a->lost = a->won = 0;
    for (int i = 0; i < t->count; i++) {
        bool right = own[i] == truth_of(t, i);
        bool brief_right = t->answers[i] == truth_of(t, i);
        a->correct += right;
        a->lost += brief_right && !right;
        a->won += right && !brief_right;
    }
}

static void find_gain(const trial *t, guint way) {
    nsk_alternative *a = &g_array_index(t->ways, nsk_alternative, way);
    const float *own = t->likely + (size_t)way * (size_t)t->count;
    double sum = 0.0;
    double square = 0.0;
    for (int i = 0; i < t->count; i++) {
        double gain = (double)own[i] - (double)t->likely[i];
        sum += gain;
        square += gain * gain;
    }
    a->gain = sum / t->count;
    double spread = sqrt(fmax(square / t->count - a->gain * a->gain, 0.0) / t->count);
    a->certainty = spread > 0.0 ? a->gain / spread : 0.0;
}

static void judge(const trial *t) {
    for (guint i = 0; i < t->ways->len; i++) {
        count_right(t, i);
        find_gain(t, i);
    }
}

static bool is_clearly_better(const trial *t, const nsk_alternative *way) {
    return way->won - way->lost >= LEAST_GAIN * t->count && way->certainty >= LEAST_CERTAINTY;
}

/* Is it as good as another within what chance does: right as often, and the labels nearly as
 * likely?
 */
static bool is_as_good(const trial *t, guint way, guint other) {
    const nsk_alternative *ways = (const nsk_alternative *)(void *)t->ways->data;
    const uint16_t *own = t->answers + (size_t)way * (size_t)t->count;
    const uint16_t *others = t->answers + (size_t)other * (size_t)t->count;
    int worse = 0;
    int differ = 0;
    for (int i = 0; i < t->count; i++) {
        int right = own[i] == truth_of(t, i);
        int other_right = others[i] == truth_of(t, i);
        worse += other_right - right;
        differ += other_right != right;
    }
    return worse <= CHANCE * sqrt(differ) && ways[way].gain >= MOST_OF_GAIN * ways[other].gain;
}

/* The way that is clearly better than the brief's; 0, which is the brief's, else. Likelihood sees
 * more than counts of right answers: it tells two colour orders apart on a network that hardly
 * looks at colour. Of those that are as good as the likeliest, the one that changes fewest lines of
 * the brief: a mean besides that flatters a little is not what was wrong. */
static guint best_way(const trial *t) {
    const nsk_alternative *ways = (const nsk_alternative *)(void *)t->ways->data;
    const nsk_input *brief = &ways[0].input;
    guint likeliest = 0;
    for (guint i = 1; i < t->ways->len; i++) {
        likeliest = ways[i].gain > ways[likeliest].gain ? i : likeliest;
    }
    if (!is_clearly_better(t, &ways[likeliest])) {
        return 0;
    }
    guint best = likeliest;
    for (guint i = 1; i < t->ways->len; i++) {
        int fewer =
            nsk_vet_keys_changed(&ways[best], brief) - nsk_vet_keys_changed(&ways[i], brief);
        bool simpler = fewer > 0 || (fewer == 0 && ways[i].gain > ways[best].gain);
        if (simpler && is_clearly_better(t, &ways[i]) && is_as_good(t, i, likeliest)) {
            best = i;
        }
    }
    return best;
}

/* The renaming that explains a way's confusion best: order[output] is a label. */
typedef struct renaming {
    int *order;
    int correct;
    bool believable; /* and better by far */
} renaming;

static renaming find_renaming(const trial *t, guint way) {
    int n = t->classes;
    const uint16_t *answers = t->answers + (size_t)way * (size_t)t->count;
    int *agree = g_new0(int, (gsize)n *(gsize)n); /* [answer][label] */
    int *in_class = g_new0(int, n);
    renaming r = {.order = g_new0(int, n), .believable = true};
    int given = 0;
    for (int i = 0; i < t->count; i++) {
        int label = nsk_images_label(t->images, i);
        agree[answers[i] * n + label]++;
        in_class[label]++;
        given += answers[i] == label;
    }
    nsk_assign(n, agree, r.order);
    for (int k = 0; k < n; k++) {
        int right = agree[k * n + r.order[k]];
        r.correct += right;
        r.believable = r.believable && (r.order[k] == k || 2 * right > in_class[r.order[k]]);
    }
    r.believable = r.believable && r.correct - given >= LEAST_RENAMED_GAIN * t->count;
    g_free(agree);
    g_free(in_class);
    return r;
}

/* Takes the renaming under which some way is right most often, if it is believable. */
static bool take_renaming(trial *t) {
    renaming best = {0};
    if (thresholds_of(t) != NULL) {
        return false; /* which of several labels an output means is not told by right and wrong */
    }
    for (guint i = 0; i < t->ways->len; i++) {
        renaming r = find_renaming(t, i);
        if (r.correct > best.correct) {
            g_free(best.order);
            best = r;
        } else {
            g_free(r.order);
        }
    }
    for (int k = 0; k < t->classes && best.believable; k++) {
        t->output_of[best.order[k]] = k;
    }
    g_free(best.order);
    return best.believable;
}

/* ---- the result ---- */

static int by_gain(gconstpointer a, gconstpointer b) {
    double left = ((const nsk_alternative *)a)->gain;
    double right = ((const nsk_alternative *)b)->gain;
    return (left < right) - (left > right);
}

/* Ways that do the same as one that changes less, or as an earlier one, are not worth telling. */
static bool repeats_another(const trial *t, guint way) {
    const nsk_alternative *ways = (const nsk_alternative *)(void *)t->ways->data;
    const float *own = t->likely + (size_t)way * (size_t)t->count;
    int keys = nsk_vet_keys_changed(&ways[way], &ways[0].input);
    bool same = false;
    for (guint i = 0; i < t->ways->len && !same; i++) {
        const float *other = t->likely + (size_t)i * (size_t)t->count;
        int others = nsk_vet_keys_changed(&ways[i], &ways[0].input);
        same = i != way && (others < keys || (others == keys && i < way)) &&
               memcmp(own, other, (size_t)t->count * sizeof *own) == 0;
    }
    return same;
}

/* The way that is best goes before all others. */
static void put_first(GArray *reported, const nsk_alternative *best) {
    for (guint i = 1; i < reported->len; i++) {
        nsk_alternative a = g_array_index(reported, nsk_alternative, i);
        if (nsk_vet_same_way(&a, best)) {
            g_array_remove_index(reported, i);
            g_array_prepend_val(reported, a);
            return;
        }
    }
}

static nsk_vetting *conclude(trial *t, const nsk_input *brief) {
    nsk_vetting *v = g_new0(nsk_vetting, 1);
    guint best = best_way(t);
    v->images = t->count;
    v->classes = t->classes;
    v->confusion = g_new0(int, (gsize)t->classes *(gsize)t->classes);
    v->order = g_new0(int, t->classes);
    for (int i = 0; i < t->count; i++) {
        v->order_correct += t->answers[i] == truth_of(t, i);
        if (thresholds_of(t) == NULL) {
            int label = nsk_images_label(t->images, i);
            int answer = t->answers[(size_t)best * (size_t)t->count + (size_t)i];
            v->confusion[label * t->classes + answer]++;
            v->correct += t->answers[i] == label;
        }
    }
    v->correct = thresholds_of(t) == NULL ? v->correct : v->order_correct;
    for (int label = 0; label < t->classes; label++) {
        v->order[t->output_of[label]] = label;
        v->renamed = v->renamed || t->output_of[label] != label;
    }
    GArray *reported = g_array_new(FALSE, FALSE, sizeof(nsk_alternative));
    for (guint i = 1; i < t->ways->len; i++) {
        nsk_alternative a = g_array_index(t->ways, nsk_alternative, i);
        if (!repeats_another(t, i)) {
            a.change = nsk_vet_describe(&a, brief);
            g_array_append_val(reported, a);
        }
    }
    g_array_sort(reported, by_gain);
    if (best > 0) {
        put_first(reported, &g_array_index(t->ways, nsk_alternative, best));
    }
    v->better = best > 0 ? 0 : -1;
    v->count = (int)reported->len;
    v->alternatives = (nsk_alternative *)(void *)g_array_free(reported, FALSE);
    return v;
}

/* The mean and deviation of the frames, on 0 to 1. */
static bool measure(const nsk_images *images, nsk_vet_scaling *measured, nsk_error *error) {
    const nsk_input *input = nsk_images_input(images);
    size_t bytes = nsk_images_frame_bytes(images);
    size_t channels = input->colour == NSK_COLOUR_GREY ? 1 : 3;
    double sum[3] = {0.0};
    double square[3] = {0.0};
    uint8_t *frame = g_malloc(bytes);
    bool good = true;
    for (int i = 0; i < nsk_images_count(images) && good; i++) {
        good = nsk_images_frame(images, i, frame, error);
        for (size_t k = 0; k < bytes && good; k++) {
            sum[k % channels] += frame[k] / 255.0;
            square[k % channels] += frame[k] / 255.0 * (frame[k] / 255.0);
        }
    }
    double pixels = (double)(bytes / channels) * nsk_images_count(images);
    measured->order = input->colour;
    measured->top = 1.0;
    for (size_t c = 0; c < 3; c++) { /* grey's one serves for all */
        size_t from = c < channels ? c : 0;
        measured->mean[c] = sum[from] / pixels;
        measured->deviation[c] = fmax(
            sqrt(fmax(square[from] / pixels - measured->mean[c] * measured->mean[c], 0.0)), 1e-3);
    }
    g_free(frame);
    return good;
}

static bool run_all(trial *t, const nsk_input *brief, const nsk_vet_scaling *measured,
                    nsk_error *error) {
    t->ways = nsk_vet_ways_of(t->network->graph->raw_input, brief, measured);
    if (!run_round(t, 0, error)) {
        return false;
    }
    if (take_renaming(t) && !run_round(t, 0, error)) {
        return false;
    }
    judge(t);
    guint best = best_way(t);
    guint before = t->ways->len;
    if (best > 0) { /* what is wrong besides? */
        const nsk_alternative from = g_array_index(t->ways, nsk_alternative, best);
        nsk_vet_add_placements(t->ways, &from);
        if (!run_round(t, before, error)) {
            return false;
        }
        judge(t);
    }
    return true;
}

nsk_vetting *nsk_vet(const nsk_network *network, const nsk_images *images, nsk_progress progress,
                     void *context, nsk_error *error) {
    const nsk_input *brief = nsk_images_input(images);
    nsk_vet_scaling measured;
    if (!nsk_network_takes(network, images, error) || !measure(images, &measured, error)) {
        return NULL;
    }
    trial t = {.network = network,
               .images = images,
               .count = nsk_images_count(images),
               .classes = nsk_network_classes(network),
               .progress = progress,
               .context = context};
    t.output_of = g_new(int, t.classes);
    for (int label = 0; label < t.classes; label++) {
        t.output_of[label] = label;
    }
    nsk_vetting *v = run_all(&t, brief, &measured, error) ? conclude(&t, brief) : NULL;
    if (progress != NULL) {
        progress(context, t.total, t.total);
    }
    g_array_free(t.ways, TRUE);
    g_free(t.output_of);
    g_free(t.answers);
    g_free(t.likely);
    return v;
}

void nsk_vetting_free(nsk_vetting *v) {
    if (v != NULL) {
        for (int i = 0; i < v->count; i++) {
            g_free(v->alternatives[i].change);
        }
        g_free(v->alternatives);
        g_free(v->confusion);
        g_free(v->order);
        g_free(v);
    }
}
