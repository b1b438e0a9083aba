/* Where tensors and scratches may meet in the workspace. What a scratch is left with differs from
 * core to core, and so does what a kernel makes of an input that it writes over: a plan in which
 * that can be seen is refused. So every core computes the same of whatever is opened.
 *
 * With -DNSK_CHECK_PLANS. The host always has it; a hand-over's models have been through it, and
 * the device is as safe without, so that its 1.9 KiB (Cortex-M4, -O2) are for those who load models
 * from elsewhere.
 */
#include "check.h"
#include "format.h"

#if defined(NSK_CHECK_PLANS)

/* Bytes [from, to) of the workspace. */
typedef struct span {
    uint32_t from, to;
} span;

/* A layer, and what it touches: whole tensors, where they are slices. */
typedef struct touched {
    nsk_layer layer;
    uint32_t read[2]; /* tensors: the input, the second input */
    uint32_t made;    /* the tensor that is written to, or of which a slice is */
    span in, second, out, scratch;
} touched;

static bool apart(span a, span b) {
    return a.to <= b.from || b.to <= a.from;
}

static bool same(span a, span b) {
    return a.from == b.from && a.to == b.to;
}

static uint32_t whole_of(const nsk_model *m, uint32_t tensor) {
    const uint8_t *at =
        m->bytes + nsk_load32(m->bytes + NSK_H_TENSORS_AT) + NSK_TENSOR_BYTES * tensor;
    return at[NSK_T_ROWS] == NSK_SLICE ? nsk_load32(at + NSK_T_SCALE) : tensor;
}

static span span_of(const nsk_model *m, uint32_t tensor) {
    nsk_tensor t = nsk_tensor_at(m, whole_of(m, tensor));
    span s = {t.offset, t.offset + (uint32_t)t.rows * t.width * t.channels * t.element};
    return s;
}

static void look_at(const nsk_model *m, unsigned index, touched *t) {
    static const span none = {0, 0};
    const uint8_t *at = m->bytes + nsk_load32(m->bytes + NSK_H_LAYERS_AT) + NSK_LAYER_BYTES * index;
    nsk_layer_decode(m, index, &t->layer);
    uint32_t scratch = (uint32_t)nsk_layer_scratch(&t->layer); /* inside: checked before */
    t->made = whole_of(m, nsk_load16(at + NSK_L_OUTPUT));
    t->out = span_of(m, t->made);
    t->read[0] = nsk_load16(at + NSK_L_INPUT);
    t->read[1] = nsk_load16(at + NSK_L_SECOND);
    t->in = t->layer.kind == NSK_KIND_CONSTANT ? none : span_of(m, t->read[0]);
    t->second = t->layer.has_second ? span_of(m, t->read[1]) : none;
    t->scratch.from = scratch > 0 ? t->layer.scratch : 0;
    t->scratch.to = t->scratch.from + scratch;
}

/* ---- within a layer ---- */

/* Element by element, from the first on; a normalisation has seen all of a pixel before. */
static bool is_elementwise(nsk_kind kind) {
    return kind == NSK_KIND_LUT || kind == NSK_KIND_ADD || kind == NSK_KIND_MULTIPLY ||
           kind == NSK_KIND_MAX || kind == NSK_KIND_MIN || kind == NSK_KIND_NORMALISE ||
           kind == NSK_KIND_LUT_FINE || kind == NSK_KIND_ADD_FINE ||
           kind == NSK_KIND_NORMALISE_FINE;
}

/* Row by row, none over what it or a later one still reads. */
static bool rows_are_free(const nsk_layer *l) {
    int64_t out_row = (int64_t)l->out.width * l->out.channels * l->out.element;
    int64_t in_row = (int64_t)l->in.width * l->in.pixel_stride;
    bool free = true;
    for (int32_t y = 0; y < l->out.height && free; y++) {
        int32_t first = nsk_window_top(l, y);
        first = first < 0 ? 0 : first;
        free = l->out.offset + (y + 1) * out_row <= l->in.offset + first * in_row;
    }
    return free;
}

/* Whether an output may stand where an input does. */
static bool can_share(const touched *t, const nsk_tensor *in, span read) {
    const nsk_layer *l = &t->layer;
    if (apart(t->out, read)) {
        return true;
    }
    if (is_elementwise(l->kind)) {
        return nsk_same_size(in, &l->out) && in->element >= l->out.element &&
               t->out.from <= read.from;
    }
    return nsk_kind_has_window(l->kind) && !l->out.slice && rows_are_free(l);
}

static bool stands_apart(const touched *t) {
    return apart(t->scratch, t->in) && apart(t->scratch, t->second) && apart(t->scratch, t->out) &&
           can_share(t, &t->layer.in, t->in) && can_share(t, &t->layer.second, t->second);
}

/* ---- between layers ---- */

typedef struct stride {
    int32_t count, step;
} stride;

/* Of a move's loops, that with the largest step in the output that is smaller than `below`. */
static stride widest(const nsk_layer *l, int32_t below) {
    stride found = {1, 0};
    for (uint32_t i = 0; i < l->count; i++) {
        const uint8_t *loop = l->multipliers + 4U * (NSK_M_LOOPS + 3U * i);
        int32_t step = nsk_word(loop, 2);
        step = step < 0 ? -step : step;
        if (nsk_word(loop, 0) > 1 && step < below && step > found.step) {
            found.count = nsk_word(loop, 0);
            found.step = step;
        }
    }
    return found;
}

/* As with digits: the widest step goes into the distance as often as it can, the rest is for the
 * others. Where steps do not fit into each other like that, a byte may seem not to be written. */
static bool move_writes(const nsk_layer *l, uint32_t at) {
    int32_t far = (int32_t)at - nsk_word(l->multipliers, NSK_M_OUT_ORIGIN);
    for (uint32_t i = 0; i < l->count; i++) { /* from the lowest element that it writes */
        const uint8_t *loop = l->multipliers + 4U * (NSK_M_LOOPS + 3U * i);
        int32_t step = nsk_word(loop, 2);
        far -= step < 0 ? step * (nsk_word(loop, 0) - 1) : 0;
    }
    for (stride s = widest(l, INT32_MAX); far > 0 && s.step > 0; s = widest(l, s.step)) {
        int32_t times = far / s.step;
        far -= (times < s.count ? times : s.count - 1) * s.step;
    }
    return far == 0;
}

/* Whether a layer writes byte `at` of the tensor that its output is, or is a slice of. */
static bool writes(const touched *t, uint32_t at) {
    const nsk_layer *l = &t->layer;
    const uint32_t step = (uint32_t)l->out.pixel_stride;
    uint32_t first = (l->out.offset - t->out.from) % step;
    uint32_t channel = at % step;
    return l->kind == NSK_KIND_COPY ? move_writes(l, at)
                                    : channel >= first && channel < first + l->out.channels;
}

/* Bytes are looked at one by one where layers make a tensor in parts. So many of them are enough
 * for any network that fits a device; a model made to keep its reader busy is refused. */
enum { MOST_LOOKS = 1 << 27 };

/* The model, and how many bytes may still be looked at. */
typedef struct plan {
    const nsk_model *model;
    uint32_t looks;
} plan;

static bool may_look(plan *p, uint32_t bytes) {
    bool may = bytes <= p->looks;
    p->looks -= may ? bytes : p->looks;
    return may;
}

static uint32_t written_by(plan *p, const touched *t) {
    uint32_t count = 0;
    uint32_t bytes = may_look(p, t->out.to - t->out.from) ? t->out.to - t->out.from : 0U;
    for (uint32_t at = 0; at < bytes; at++) {
        count += writes(t, at);
    }
    return count;
}

/* Whether two layers that write to a tensor write different bytes of it. */
static bool write_apart(plan *p, const touched *a, const touched *b) {
    bool good = may_look(p, a->out.to - a->out.from);
    for (uint32_t at = 0; at < a->out.to - a->out.from && good; at++) {
        good = !writes(a, at) || !writes(b, at);
    }
    return good;
}

/* Whether none of the layers (first, end) that write to the tensor writes where `first` does. */
static bool writes_alone(plan *p, const touched *first, unsigned behind, unsigned end) {
    bool alone = true;
    for (unsigned k = behind; k < end && alone; k++) {
        touched other;
        look_at(p->model, k, &other);
        alone = !same(other.out, first->out) || write_apart(p, first, &other);
    }
    return alone;
}

static bool fills(const nsk_layer *l) {
    return l->kind == NSK_KIND_COPY && (l->flags & NSK_FLAG_FILL) != 0;
}

/* One layer alone, slices and moves aside. */
static bool writes_all(const touched *t) {
    return !t->layer.out.slice && t->layer.kind != NSK_KIND_COPY;
}

/* Whether the camera or a layer makes this tensor; else it is another shape of what stands there.
 */
static bool has_maker(const nsk_model *m, uint32_t tensor) {
    bool found = tensor == m->input;
    for (unsigned i = 0; i < m->layers && !found; i++) {
        found = whole_of(m, nsk_layer_output(m, i)) == tensor;
    }
    return found;
}

static bool comes_in(const nsk_model *m, uint32_t tensor, span wanted) {
    bool made = has_maker(m, tensor);
    bool found = (!made || tensor == m->input) && same(span_of(m, m->input), wanted);
    for (unsigned i = 0; i < m->streamed && !found; i++) {
        unsigned out = nsk_layer_output(m, i);
        found = same(span_of(m, out), wanted) && (!made || out == tensor);
    }
    return found;
}

/* Whether what layer `end` reads is what layers before it have made for it: by one, or by several
 * in parts. Nothing else has been written there since. */
static bool is_made(plan *p, unsigned end, uint32_t tensor) {
    const nsk_model *m = p->model;
    const span wanted = span_of(m, tensor);
    const bool made = has_maker(m, tensor);
    uint32_t left = wanted.to - wanted.from;
    for (unsigned behind = end; behind > m->streamed; behind--) {
        touched t;
        look_at(m, behind - 1U, &t);
        if (!apart(t.scratch, wanted)) {
            return false;
        }
        if (apart(t.out, wanted)) {
            continue;
        }
        if (!same(t.out, wanted) || (made && t.made != tensor)) {
            return false;
        }
        if (fills(&t.layer) || writes_all(&t)) {
            return left == wanted.to - wanted.from || fills(&t.layer);
        }
        uint32_t part = written_by(p, &t);
        if (part == 0 || part > left || !writes_alone(p, &t, behind, end)) {
            return false;
        }
        left -= part;
        if (left == 0) {
            return true;
        }
    }
    return left == wanted.to - wanted.from && comes_in(m, tensor, wanted);
}

/* Tensors of a stream are there as long as it runs. */
static bool streams_stand_apart(const nsk_model *m) {
    bool good = true;
    for (unsigned i = 0; i < m->streamed && good; i++) {
        touched a;
        look_at(m, i, &a);
        span input = span_of(m, m->input);
        good = apart(a.in, a.out) && apart(a.second, a.out) && apart(a.out, input) &&
               apart(a.scratch, input);
        for (unsigned k = 0; k < m->streamed && good; k++) {
            touched b;
            look_at(m, k, &b);
            good = (k == i || apart(a.out, b.out)) && apart(a.scratch, b.out);
        }
    }
    return good;
}

bool nsk_overlaps_are_good(const nsk_model *m) {
    plan p = {m, MOST_LOOKS};
    bool good = streams_stand_apart(m);
    for (unsigned i = m->streamed; i < m->layers && good; i++) {
        touched t;
        look_at(m, i, &t);
        good = stands_apart(&t) && (t.in.to == 0 || is_made(&p, i, t.read[0])) &&
               (t.second.to == 0 || is_made(&p, i, t.read[1]));
    }
    return good && is_made(&p, m->layers, whole_of(m, m->output));
}

#endif
