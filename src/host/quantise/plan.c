#include "quantise/plan.h"

#include <glib.h>
#include <stdbool.h>

static uint32_t aligned(uint32_t bytes) {
    return (bytes + 3U) & ~3U;
}

static bool alive_together(const nsk_buffer *a, const nsk_buffer *b) {
    return a->first <= b->last && b->first <= a->last;
}

static int by_size(const void *a, const void *b) {
    const nsk_buffer *x = *(nsk_buffer *const *)a;
    const nsk_buffer *y = *(nsk_buffer *const *)b;
    if (x->bytes != y->bytes) {
        return x->bytes > y->bytes ? -1 : 1;
    }
    return x->first != y->first ? (x->first < y->first ? -1 : 1) : (x < y ? -1 : x > y);
}

/* The lowest place at which `buffer` meets none of the `placed` buffers that live with it. */
static uint32_t lowest_place(const nsk_buffer *buffer, nsk_buffer **placed, int count) {
    uint32_t place = 0;
    for (bool moved = true; moved;) {
        moved = false;
        for (int i = 0; i < count; i++) {
            const nsk_buffer *other = placed[i];
            uint32_t end = other->place + aligned(other->bytes);
            if (alive_together(buffer, other) && place < end &&
                other->place < place + aligned(buffer->bytes)) {
                place = end;
                moved = true;
            }
        }
    }
    return place;
}

uint32_t nsk_plan_place(nsk_buffer *buffers, int count) {
    nsk_buffer **order = g_new(nsk_buffer *, count);
    uint32_t total = 0;
    for (int i = 0; i < count; i++) {
        order[i] = &buffers[i];
    }
    qsort(order, (size_t)count, sizeof *order, by_size);
    for (int i = 0; i < count; i++) {
        order[i]->place = lowest_place(order[i], order, i);
        total = MAX(total, order[i]->place + aligned(order[i]->bytes));
    }
    g_free(order);
    return total;
}

uint32_t nsk_plan_lower_bound(const nsk_buffer *buffers, int count) {
    uint32_t most = 0;
    for (int i = 0; i < count; i++) {
        uint32_t alive = 0; /* at the step at which buffer i is written */
        for (int k = 0; k < count; k++) {
            bool there =
                buffers[k].first <= buffers[i].first && buffers[k].last >= buffers[i].first;
            alive += there ? aligned(buffers[k].bytes) : 0;
        }
        most = MAX(most, alive);
    }
    return most;
}
