#include "passes/plan.h"

#include <glib.h>
#include <stdbool.h>
#include <stdlib.h>

static uint32_t aligned(uint32_t bytes) {
    return (bytes + 3U) & ~3U;
}

static bool alive_together(const nsk_buffer *a, const nsk_buffer *b) {
    return a->first <= b->last && b->first <= a->last;
}

/* How far `below`, standing lower, has to keep from the start of `above`. */
static uint32_t room_below(const nsk_buffer *below, const nsk_buffer *above) {
    return aligned(below->over == above ? below->lead : below->bytes);
}

/* The lowest place at which `buffer` meets none of the `placed` buffers that live with it. */
static uint32_t lowest_place(const nsk_buffer *buffer, nsk_buffer **placed, int count) {
    uint32_t place = 0;
    for (bool moved = true; moved;) {
        moved = false;
        for (int i = 0; i < count; i++) {
            const nsk_buffer *other = placed[i];
            uint32_t end = other->place + room_below(other, buffer);
            if (alive_together(buffer, other) && place < end &&
                other->place < place + room_below(buffer, other)) {
                place = end;
                moved = true;
            }
        }
    }
    return place;
}

/* ---- orders ---- */

static int64_t length_of(const nsk_buffer *b) {
    return b->last - b->first + 1;
}

/* What comes first in an order that is tried: the larger number. */
typedef int64_t rank(const nsk_buffer *buffer, int index);

static int64_t by_size(const nsk_buffer *b, int index) {
    (void)index;
    return b->bytes;
}

static int64_t by_area(const nsk_buffer *b, int index) {
    (void)index;
    return b->bytes * length_of(b);
}

static int64_t by_length(const nsk_buffer *b, int index) {
    (void)index;
    return length_of(b) * ((int64_t)1 << 32) + b->bytes;
}

static int64_t by_start(const nsk_buffer *b, int index) {
    (void)index;
    return -(int64_t)b->first * ((int64_t)1 << 32) + b->bytes;
}

static int64_t by_end(const nsk_buffer *b, int index) {
    (void)index;
    return (int64_t)b->last * ((int64_t)1 << 32) + b->bytes;
}

typedef struct ranked {
    nsk_buffer *buffer;
    int64_t rank;
    int index;
} ranked;

static int by_rank(const void *a, const void *b) {
    const ranked *x = a;
    const ranked *y = b;
    return x->rank != y->rank ? (x->rank > y->rank ? -1 : 1) : x->index - y->index;
}

static void set_order(nsk_buffer *buffers, int count, rank *ranks, nsk_buffer **order) {
    ranked *all = g_new(ranked, count);
    for (int i = 0; i < count; i++) {
        all[i] = (ranked){&buffers[i], ranks(&buffers[i], i), i};
    }
    qsort(all, (size_t)count, sizeof *all, by_rank);
    for (int i = 0; i < count; i++) {
        order[i] = all[i].buffer;
    }
    g_free(all);
}

/* Places each at the lowest free place; returns the bytes that all need. */
static uint32_t place_in_order(nsk_buffer **order, int count) {
    uint32_t total = 0;
    for (int i = 0; i < count; i++) {
        order[i]->place = lowest_place(order[i], order, i);
        total = MAX(total, order[i]->place + aligned(order[i]->bytes));
    }
    return total;
}

/* ---- search ---- */

enum { TRIES = 4000, MOST_WORK = 20000000 };

typedef struct search {
    nsk_buffer **order;
    uint32_t *best; /* the best places so far, in the order of the buffers */
    uint32_t total, bound;
    nsk_buffer *buffers;
    int count;
    uint64_t random;
} search;

/* Notes the places where they are the best so far. */
static void note(search *s, uint32_t total) {
    if (total < s->total) {
        s->total = total;
        for (int i = 0; i < s->count; i++) {
            s->best[i] = s->buffers[i].place;
        }
    }
}

static int below(search *s, int most) {
    s->random = s->random * 6364136223846793005U + 1442695040888963407U;
    return (int)((s->random >> 33) % (uint64_t)most);
}

static void move_to(nsk_buffer **order, int from, int to) {
    nsk_buffer *moved = order[from];
    for (; from > to; from--) {
        order[from] = order[from - 1];
    }
    order[to] = moved;
}

/* What stands highest was placed too late: it goes before a buffer that it lives with, so that the
 * other has to make way. */
static void promote_highest(search *s) {
    int highest = 0;
    for (int i = 1; i < s->count; i++) {
        uint32_t end = s->order[i]->place + aligned(s->order[i]->bytes);
        highest = end > s->order[highest]->place + aligned(s->order[highest]->bytes) ? i : highest;
    }
    if (highest == 0) {
        move_to(s->order, below(s, s->count), 0);
        return;
    }
    int to = below(s, highest);
    for (int i = 0; i < 4 && !alive_together(s->order[to], s->order[highest]); i++) {
        to = below(s, highest);
    }
    move_to(s->order, highest, to);
}

uint32_t nsk_plan_place(nsk_buffer *buffers, int count) {
    static rank *const ranks[] = {by_size, by_area, by_length, by_start, by_end};
    search s = {g_new0(nsk_buffer *, (gsize)count + 1),
                g_new0(uint32_t, (gsize)count + 1),
                UINT32_MAX,
                nsk_plan_lower_bound(buffers, count),
                buffers,
                count,
                1};
    for (size_t i = 0; i < G_N_ELEMENTS(ranks) && s.total > s.bound; i++) {
        set_order(buffers, count, ranks[i], s.order);
        note(&s, place_in_order(s.order, count));
    }
    int tries = (int)MIN((int64_t)TRIES, MOST_WORK / ((int64_t)count * count + 1));
    for (int i = 0; i < tries && s.total > s.bound; i++) {
        if (i % 200 == 0) { /* from another order again */
            set_order(buffers, count, ranks[(size_t)i / 200 % G_N_ELEMENTS(ranks)], s.order);
            place_in_order(s.order, count);
        }
        promote_highest(&s);
        note(&s, place_in_order(s.order, count));
    }
    for (int i = 0; i < count; i++) {
        buffers[i].place = s.best[i];
    }
    g_free(s.order);
    g_free(s.best);
    return s.total;
}

/* Bytes that a buffer and the one that it is written over share at best. */
static uint32_t saved_by(const nsk_buffer *b) {
    if (b->over == NULL) {
        return 0;
    }
    uint32_t both = aligned(b->bytes) + aligned(b->over->bytes);
    return both - MAX(aligned(b->bytes), aligned(b->lead) + aligned(b->over->bytes));
}

/* What comes alive at each step is added there, and taken off behind its last; what is written over
 * something else saves as much at that step alone. Only steps at which something is written count.
 */
uint32_t nsk_plan_lower_bound(const nsk_buffer *buffers, int count) {
    int first = 0;
    int last = 0;
    for (int i = 0; i < count; i++) {
        first = MIN(first, buffers[i].first);
        last = MAX(last, MAX(buffers[i].first, buffers[i].last));
    }
    const size_t steps = (size_t)(last - first) + 2;
    int64_t *change = g_new0(int64_t, steps);
    int64_t *saved = g_new0(int64_t, steps);
    bool *written = g_new0(bool, steps);
    for (int i = 0; i < count; i++) {
        const nsk_buffer *b = &buffers[i];
        const int from = b->first - first;
        written[from] = true;
        if (b->last >= b->first) {
            change[from] += aligned(b->bytes);
            change[b->last - first + 1] -= aligned(b->bytes);
            saved[from] += saved_by(b);
        }
    }
    int64_t alive = 0;
    int64_t most = 0;
    for (size_t k = 0; k < steps; k++) {
        alive += change[k];
        most = written[k] ? MAX(most, alive - saved[k]) : most;
    }
    g_free(change);
    g_free(saved);
    g_free(written);
    return (uint32_t)most;
}
