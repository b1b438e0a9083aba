#include "formulas.h"

#include <glib.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>

/* ---- attributes, tensors ---- */

/* Behind " name=" and the letter of the type; NULL where the node does not say. */
static const char *said(const call *c, const char *name) {
    char *key = g_strdup_printf(" %s=", name);
    const char *found = strstr(c->node, key);
    const char *value = found != NULL ? found + strlen(key) + 1 : NULL;
    g_free(key);
    return value;
}

static double number(const call *c, const char *name, double otherwise) {
    const char *value = said(c, name);
    return value != NULL ? strtod(value, NULL) : otherwise;
}

static int whole(const call *c, const char *name, int otherwise) {
    return (int)number(c, name, otherwise);
}

static bool is(const call *c, const char *name, const char *word) {
    const char *value = said(c, name);
    size_t length = strlen(word);
    return value != NULL && strncmp(value, word, length) == 0 &&
           (value[length] == '\0' || value[length] == ' ');
}

/* Number `index` of a list; `otherwise` where it is not said. */
static int listed(const call *c, const char *name, int index, int otherwise) {
    char *value = (char *)said(c, name);
    long last = otherwise;
    for (int i = 0; value != NULL && i <= index; i++) {
        last = strtol(value + (i > 0), &value, 10);
    }
    return (int)last;
}

size_t count_of(const tensor *t) {
    size_t count = 1;
    for (int i = 0; i < t->rank; i++) {
        count *= (size_t)t->dims[i];
    }
    return count;
}

static void make(tensor *out, char type, int rank, const int *dims) {
    out->type = type;
    out->rank = rank;
    memcpy(out->dims, dims, (size_t)rank * sizeof *dims);
    out->at = g_new0(double, count_of(out) + 1);
}

/* Coordinates of an element, and back. */
static void places(const tensor *t, size_t element, int *at) {
    for (int i = t->rank - 1; i >= 0; i--) {
        at[i] = (int)(element % (size_t)t->dims[i]);
        element /= (size_t)t->dims[i];
    }
}

static double element(const tensor *t, const int *at) {
    size_t index = 0;
    for (int i = 0; i < t->rank; i++) {
        index = index * (size_t)t->dims[i] + (size_t)at[i];
    }
    return t->at[index];
}

static int axis_of(int axis, int rank) {
    return axis < 0 ? axis + rank : axis;
}

/* ---- functions of one number ---- */

void formula_function(const call *c, int which, tensor *out) {
    const tensor *x = &c->input[which];
    const double alpha = number(c, "alpha", 1.0);
    make(out, 'f', x->rank, x->dims);
    for (size_t i = 0; i < count_of(x); i++) {
        const double v = x->at[i];
        if (g_str_has_prefix(c->node, "Mish")) {
            out->at[i] = v * tanh(log1p(exp(v)));
        } else if (g_str_has_prefix(c->node, "Swish")) {
            out->at[i] = v / (1.0 + exp(-alpha * v));
        } else if (is(c, "approximate", "tanh")) {
            out->at[i] = 0.5 * v * (1.0 + tanh(sqrt(2.0 / G_PI) * (v + 0.044715 * v * v * v)));
        } else {
            out->at[i] = 0.5 * v * (1.0 + erf(v / sqrt(2.0)));
        }
    }
}

/* ---- normalisation ---- */

void formula_group_norm(const call *c, int which, tensor *out) {
    const tensor *x = &c->input[which];
    const size_t groups = (size_t)whole(c, "num_groups", 1);
    const size_t channels = (size_t)x->dims[1];
    const size_t plane = count_of(x) / ((size_t)x->dims[0] * channels);
    const size_t size = plane * channels / groups;
    make(out, 'f', x->rank, x->dims);
    for (size_t g = 0; g < (size_t)x->dims[0] * groups; g++) {
        double sum = 0.0;
        double squares = 0.0;
        for (size_t i = g * size; i < (g + 1) * size; i++) {
            sum += x->at[i] / (double)size;
        }
        for (size_t i = g * size; i < (g + 1) * size; i++) {
            squares += (x->at[i] - sum) * (x->at[i] - sum) / (double)size;
        }
        for (size_t i = g * size; i < (g + 1) * size; i++) {
            size_t of = c->opset >= 21 ? i / plane % channels : g % groups;
            double z = (x->at[i] - sum) / sqrt(squares + number(c, "epsilon", 1e-5));
            out->at[i] = z * c->input[1].at[of] + c->input[2].at[of];
        }
    }
}

void formula_rms_norm(const call *c, int which, tensor *out) {
    const tensor *x = &c->input[which];
    size_t size = 1;
    make(out, 'f', x->rank, x->dims);
    for (int i = axis_of(whole(c, "axis", -1), x->rank); i < x->rank; i++) {
        size *= (size_t)x->dims[i];
    }
    for (size_t i = 0; i < count_of(x); i++) {
        double mean = 0.0;
        for (size_t k = i / size * size; k < (i / size + 1) * size; k++) {
            mean += x->at[k] * x->at[k] / (double)size;
        }
        out->at[i] = x->at[i] / sqrt(mean + number(c, "epsilon", 1e-5)) *
                     c->input[1].at[i % size % count_of(&c->input[1])];
    }
}

/* ---- attention ---- */

/* A tensor as heads of tokens: batch, heads, tokens, numbers. */
typedef struct heads {
    const tensor *t;
    int batch, heads, tokens, numbers;
} heads;

static heads heads_of(const tensor *t, int count) {
    return t->rank == 4
               ? (heads){t, t->dims[0], t->dims[1], t->dims[2], t->dims[3]}
               : (heads){t, t->dims[0], count, t->dims[1], t->dims[2] / (count > 0 ? count : 1)};
}

static size_t place(const heads *h, int b, int head, int token, int k) {
    size_t row =
        h->t->rank == 4
            ? ((size_t)b * (size_t)h->heads + (size_t)head) * (size_t)h->tokens + (size_t)token
            : ((size_t)b * (size_t)h->tokens + (size_t)token) * (size_t)h->heads + (size_t)head;
    return row * (size_t)h->numbers + (size_t)k;
}

/* What is added to the product of query `i` and key `j`. */
static double mask_at(const call *c, int b, int head, int i, int j) {
    const tensor *m = &c->input[3];
    double add = whole(c, "is_causal", 0) && j > i ? -INFINITY : 0.0;
    if (m->at != NULL) {
        const int all[4] = {b, head, i, j};
        int at[MOST_AXES] = {0};
        for (int k = 0; k < m->rank; k++) {
            at[k] = m->dims[k] == 1 ? 0 : all[4 - m->rank + k];
        }
        double given = element(m, at);
        add += m->type == 'b' ? (given != 0.0 ? 0.0 : -INFINITY) : given;
    }
    return add;
}

void formula_attention(const call *c, int which, tensor *out) {
    const heads q = heads_of(&c->input[0], whole(c, "q_num_heads", 0));
    const heads k = heads_of(&c->input[1], whole(c, "kv_num_heads", 0));
    const heads v = heads_of(&c->input[2], whole(c, "kv_num_heads", 0));
    const double scale = number(c, "scale", 1.0 / sqrt(q.numbers));
    const double cap = number(c, "softcap", 0.0);
    int dims[4] = {q.batch, q.heads, q.tokens, v.numbers};
    if (q.t->rank == 3) {
        dims[1] = q.tokens;
        dims[2] = q.heads * v.numbers;
    }
    (void)which;
    make(out, 'f', q.t->rank, dims);
    const heads y = heads_of(out, q.heads);
    for (int b = 0; b < q.batch; b++) {
        for (int h = 0; h < q.heads; h++) {
            for (int i = 0; i < q.tokens; i++) {
                double weights[64];
                double sum = 0.0;
                const int shared = h / (q.heads / k.heads);
                for (int j = 0; j < k.tokens; j++) {
                    double dot = mask_at(c, b, h, i, j);
                    for (int n = 0; n < q.numbers; n++) {
                        dot += scale * q.t->at[place(&q, b, h, i, n)] *
                               k.t->at[place(&k, b, shared, j, n)];
                    }
                    weights[j] = exp(cap > 0.0 ? cap * tanh(dot / cap) : dot);
                    sum += weights[j];
                }
                for (int n = 0; n < v.numbers; n++) {
                    for (int j = 0; j < k.tokens; j++) {
                        out->at[place(&y, b, h, i, n)] +=
                            weights[j] / sum * v.t->at[place(&v, b, shared, j, n)];
                    }
                }
            }
        }
    }
}

/* A pair of numbers is turned by the angle of its token. */
void formula_rotary(const call *c, int which, tensor *out) {
    const tensor *x = &c->input[which];
    const heads h = heads_of(x, whole(c, "num_heads", 0));
    const tensor *cosines = &c->input[1];
    const tensor *turns = &c->input[3];
    const int half = cosines->dims[cosines->rank - 1];
    const bool mixed = whole(c, "interleaved", 0) != 0;
    make(out, 'f', x->rank, x->dims);
    memcpy(out->at, x->at, count_of(x) * sizeof *x->at);
    for (size_t i = 0; i < count_of(x) / (size_t)h.numbers * (size_t)half; i++) {
        const int pair = (int)(i % (size_t)half);
        const int token = (int)(i / (size_t)half % (size_t)h.tokens);
        const int head = (int)(i / (size_t)half / (size_t)h.tokens % (size_t)h.heads);
        const int b = (int)(i / (size_t)half / (size_t)h.tokens / (size_t)h.heads);
        const int standing = b * h.tokens + token;
        const size_t row = turns->at != NULL ? (size_t)turns->at[standing] : (size_t)standing;
        const double cosine = cosines->at[row * (size_t)half + (size_t)pair];
        const double sine = c->input[2].at[row * (size_t)half + (size_t)pair];
        const size_t one = place(&h, b, head, token, mixed ? 2 * pair : pair);
        const size_t two = place(&h, b, head, token, mixed ? 2 * pair + 1 : half + pair);
        out->at[one] = cosine * x->at[one] - sine * x->at[two];
        out->at[two] = sine * x->at[one] + cosine * x->at[two];
    }
}

/* ---- windows, borders ---- */

void formula_average_pool(const call *c, int which, tensor *out) {
    const tensor *x = &c->input[which];
    int dims[4] = {x->dims[0], x->dims[1], 0, 0};
    for (int a = 0; a < 2; a++) {
        int reach = (listed(c, "kernel_shape", a, 1) - 1) * listed(c, "dilations", a, 1);
        int padded = x->dims[2 + a] + listed(c, "pads", a, 0) + listed(c, "pads", 2 + a, 0);
        dims[2 + a] = (padded - reach - 1) / listed(c, "strides", a, 1) + 1;
    }
    make(out, 'f', 4, dims);
    for (size_t i = 0; i < count_of(out); i++) {
        int at[4];
        int window = listed(c, "kernel_shape", 0, 1) * listed(c, "kernel_shape", 1, 1);
        int inside = 0;
        places(out, i, at);
        for (int k = 0; k < window; k++) {
            const int tap[2] = {k / listed(c, "kernel_shape", 1, 1),
                                k % listed(c, "kernel_shape", 1, 1)};
            int from[4] = {at[0], at[1], 0, 0};
            bool there = true;
            for (int a = 0; a < 2; a++) {
                from[2 + a] = at[2 + a] * listed(c, "strides", a, 1) - listed(c, "pads", a, 0) +
                              tap[a] * listed(c, "dilations", a, 1);
                there = there && from[2 + a] >= 0 && from[2 + a] < x->dims[2 + a];
            }
            out->at[i] += there ? element(x, from) : 0.0;
            inside += there;
        }
        out->at[i] /= whole(c, "count_include_pad", 0) ? window : inside;
    }
}

static int beyond(const call *c, int at, int size) {
    if (is(c, "mode", "wrap")) {
        return (at % size + size) % size;
    }
    if (is(c, "mode", "reflect")) {
        return at < 0 ? -at : at >= size ? 2 * (size - 1) - at : at;
    }
    return is(c, "mode", "edge") ? CLAMP(at, 0, size - 1) : at;
}

void formula_pad(const call *c, int which, tensor *out) {
    const tensor *x = &c->input[which];
    const tensor *axes = &c->input[3];
    const int listed_axes = axes->at != NULL ? axes->dims[0] : x->rank;
    int before[MOST_AXES] = {0};
    int dims[MOST_AXES];
    memcpy(dims, x->dims, sizeof dims);
    for (int i = 0; i < listed_axes; i++) {
        int axis = axes->at != NULL ? axis_of((int)axes->at[i], x->rank) : i;
        before[axis] = (int)c->input[1].at[i];
        dims[axis] += before[axis] + (int)c->input[1].at[listed_axes + i];
    }
    make(out, 'f', x->rank, dims);
    for (size_t i = 0; i < count_of(out); i++) {
        int at[MOST_AXES];
        bool there = true;
        places(out, i, at);
        for (int a = 0; a < x->rank; a++) {
            at[a] = beyond(c, at[a] - before[a], x->dims[a]);
            there = there && at[a] >= 0 && at[a] < x->dims[a];
        }
        out->at[i] = there ? element(x, at) : c->input[2].at != NULL ? c->input[2].at[0] : 0.0;
    }
}

/* ---- Resize ---- */

typedef struct resized {
    const call *c;
    const tensor *x;
    double scale[MOST_AXES];
    int dims[MOST_AXES];
} resized;

/* Scales of the axes that are listed; sizes give them, with one for all where the picture's shape
 * is kept. */
static void scale_axes(resized *r) {
    const tensor *scales = &r->c->input[2];
    const tensor *sizes = &r->c->input[3];
    const tensor *given = scales->at != NULL ? scales : sizes;
    bool less = is(r->c, "keep_aspect_ratio_policy", "not_larger");
    bool more = is(r->c, "keep_aspect_ratio_policy", "not_smaller");
    double common = less ? INFINITY : 0.0;
    for (int i = 0; i < given->dims[0]; i++) {
        int axis = axis_of(listed(r->c, "axes", i, i), r->x->rank);
        double own = given == scales ? scales->at[i] : sizes->at[i] / r->x->dims[axis];
        common = less ? fmin(common, own) : fmax(common, own);
        r->scale[axis] = own;
        r->dims[axis] = (int)(given == scales ? floor(r->x->dims[axis] * own) : sizes->at[i]);
    }
    for (int i = 0; i < given->dims[0] && (less || more); i++) {
        int axis = axis_of(listed(r->c, "axes", i, i), r->x->rank);
        r->scale[axis] = common;
        r->dims[axis] = (int)floor(r->x->dims[axis] * common + 0.5);
    }
}

static double where(const resized *r, int axis, int at) {
    double scale = r->scale[axis];
    if (is(r->c, "coordinate_transformation_mode", "asymmetric")) {
        return at / scale;
    }
    if (is(r->c, "coordinate_transformation_mode", "align_corners")) {
        return at * (r->x->dims[axis] - 1.0) / (r->x->dims[axis] * scale - 1.0);
    }
    double shift = is(r->c, "coordinate_transformation_mode", "half_pixel_symmetric")
                       ? r->x->dims[axis] / 2.0 * (1.0 - r->dims[axis] / (r->x->dims[axis] * scale))
                       : 0.0;
    return shift + (at + 0.5) / scale - 0.5;
}

static double weight(const resized *r, int axis, double distance) {
    double a = number(r->c, "cubic_coeff_a", -0.75);
    double d = fabs(distance);
    d *= whole(r->c, "antialias", 0) ? fmin(r->scale[axis], 1.0) : 1.0;
    if (!is(r->c, "mode", "cubic")) {
        return fmax(0.0, 1.0 - d);
    }
    return d <= 1.0  ? (a + 2.0) * d * d * d - (a + 3.0) * d * d + 1.0
           : d < 2.0 ? a * d * d * d - 5.0 * a * d * d + 8.0 * a * d - 4.0 * a
                     : 0.0;
}

/* The output at `at`, the axes before `axis` settled in `from`. */
static double blend(const resized *r, int axis, const int *at, int *from) {
    if (axis == r->x->rank) {
        return element(r->x, from);
    }
    const int size = r->x->dims[axis];
    double x = where(r, axis, at[axis]);
    if (!is(r->c, "mode", "linear") && !is(r->c, "mode", "cubic")) {
        from[axis] = CLAMP((int)ceil(x - 0.5), 0, size - 1);
        return blend(r, axis + 1, at, from);
    }
    double sum = 0.0;
    double weights = 0.0;
    for (int k = -8 * size; k < 9 * size; k++) {
        double w = weight(r, axis, k - x);
        bool outside = k < 0 || k >= size;
        if (w != 0.0 && !(outside && whole(r->c, "exclude_outside", 0))) {
            from[axis] = CLAMP(k, 0, size - 1);
            sum += w * blend(r, axis + 1, at, from);
            weights += w;
        }
    }
    return sum / weights;
}

void formula_resize(const call *c, int which, tensor *out) {
    resized r = {c, &c->input[which], {1, 1, 1, 1, 1, 1}, {0}};
    memcpy(r.dims, r.x->dims, sizeof r.dims);
    scale_axes(&r);
    make(out, 'f', r.x->rank, r.dims);
    for (size_t i = 0; i < count_of(out); i++) {
        int at[MOST_AXES];
        int from[MOST_AXES];
        places(out, i, at);
        out->at[i] = blend(&r, 0, at, from);
    }
}

/* ---- levels in blocks, parts, axes to reduce ---- */

static double in_block(const call *c, const tensor *of, const int *at) {
    int place_in[MOST_AXES];
    int axis = axis_of(whole(c, "axis", 1), c->input[0].rank);
    memcpy(place_in, at, sizeof place_in);
    place_in[axis] /= whole(c, "block_size", 1);
    return of->at != NULL ? element(of, place_in) : 0.0;
}

void formula_dequantize(const call *c, int which, tensor *out) {
    const tensor *x = &c->input[which];
    make(out, 'f', x->rank, x->dims);
    for (size_t i = 0; i < count_of(x); i++) {
        int at[MOST_AXES] = {0};
        places(x, i, at);
        out->at[i] = (x->at[i] - in_block(c, &c->input[2], at)) * in_block(c, &c->input[1], at);
    }
}

void formula_quantize(const call *c, int which, tensor *out) {
    const tensor *x = &c->input[which];
    make(out, 'c', x->rank, x->dims);
    for (size_t i = 0; i < count_of(x); i++) {
        int at[MOST_AXES] = {0};
        places(x, i, at);
        double level = nearbyint((double)((float)x->at[i] / (float)in_block(c, &c->input[1], at)));
        out->at[i] = fmin(fmax(level + in_block(c, &c->input[2], at), -128.0), 127.0);
    }
}

static double reduced(const call *c, double sum, double x, size_t count) {
    if (g_str_has_prefix(c->node, "ReduceMax")) {
        return fmax(sum, x);
    }
    if (g_str_has_prefix(c->node, "ReduceMin")) {
        return fmin(sum, x);
    }
    return sum + (g_str_has_prefix(c->node, "ReduceMean")        ? x / (double)count
                  : g_str_has_prefix(c->node, "ReduceL1")        ? fabs(x)
                  : g_str_has_prefix(c->node, "ReduceSumSquare") ? x * x
                                                                 : x);
}

void formula_reduce(const call *c, int which, tensor *out) {
    const tensor *x = &c->input[which];
    const tensor *axes = &c->input[1];
    bool along[MOST_AXES] = {false};
    int dims[MOST_AXES];
    int kept[MOST_AXES];
    int rank = 0;
    for (int i = 0; axes->at != NULL && i < axes->dims[0]; i++) {
        along[axis_of((int)axes->at[i], x->rank)] = true;
    }
    for (int i = 0; i < x->rank; i++) {
        kept[i] = along[i] ? 1 : x->dims[i];
        if (!along[i] || whole(c, "keepdims", 1)) {
            dims[rank++] = kept[i];
        }
    }
    make(out, 'f', x->rank, kept);
    for (size_t i = 0; i < count_of(out); i++) {
        out->at[i] = g_str_has_prefix(c->node, "ReduceMax")   ? -INFINITY
                     : g_str_has_prefix(c->node, "ReduceMin") ? INFINITY
                                                              : 0.0;
    }
    for (size_t i = 0; i < count_of(x); i++) {
        int at[MOST_AXES];
        size_t to = 0;
        places(x, i, at);
        for (int a = 0; a < x->rank; a++) {
            to = to * (size_t)kept[a] + (size_t)(along[a] ? 0 : at[a]);
        }
        out->at[to] = reduced(c, out->at[to], x->at[i], count_of(x) / count_of(out));
    }
    out->rank = rank;
    memcpy(out->dims, dims, sizeof dims);
}

/* Equal parts, of which the last may be smaller. */
void formula_split(const call *c, int which, tensor *out) {
    const tensor *x = &c->input[0];
    const int axis = axis_of(whole(c, "axis", 0), x->rank);
    const int parts = whole(c, "num_outputs", 1);
    const int size = (x->dims[axis] + parts - 1) / parts;
    int dims[MOST_AXES];
    memcpy(dims, x->dims, sizeof dims);
    dims[axis] = MIN(size, x->dims[axis] - which * size);
    make(out, 'f', x->rank, dims);
    for (size_t i = 0; i < count_of(out); i++) {
        int at[MOST_AXES];
        places(out, i, at);
        at[axis] += which * size;
        out->at[i] = element(x, at);
    }
}
