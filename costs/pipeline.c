#include "pipeline.h"

#include <stddef.h>
#include <string.h>

/* Times are {busy, halves of a cycle for each register or element, latency}. docs/estimates.md has
 * the same table with what is published of it. */
static const pipeline_core cores[] = {
    /* Two instructions a cycle, two loads among them, branches foretold: published (Arm DDI 0489,
     * chapter 1). How long results take is not. */
    {"cortex-m7",
     "Arm DDI 0489: in order, two at once, two loads at once, foretold branches",
     {.pairs = true,
      .pairs_wide = true,
      .pairs_loads = true,
      .unit = {[PIPELINE_ALU] = {1, 0, 1},
               [PIPELINE_MULTIPLY] = {1, 0, 1},
               [PIPELINE_DIVIDE] = {3, 0, 3},
               [PIPELINE_LOAD] = {1, 0, 2},
               [PIPELINE_LOADS] = {0, 1, 2},
               [PIPELINE_STORE] = {1, 0, 1},
               [PIPELINE_STORES] = {0, 1, 1},
               [PIPELINE_BRANCH] = {1, 0, 1}}},
     {.pairs = true,
      .pairs_wide = true,
      .taken = 1,
      .turned = 7,
      .unit = {[PIPELINE_ALU] = {1, 0, 1},
               [PIPELINE_MULTIPLY] = {1, 0, 2},
               [PIPELINE_DIVIDE] = {12, 0, 12},
               [PIPELINE_LOAD] = {1, 0, 3},
               [PIPELINE_LOADS] = {1, 2, 3},
               [PIPELINE_STORE] = {1, 0, 1},
               [PIPELINE_STORES] = {1, 2, 1},
               [PIPELINE_BRANCH] = {1, 0, 1}}}},
    /* Three stages, in order: published (Arm 100230, chapter 1). That some pairs of two-byte
     * instructions begin at once is assumed in the one, not in the other. */
    {"cortex-m33",
     "Arm 100230: in order, three stages",
     {.pairs = true,
      .taken = 1,
      .unit = {[PIPELINE_ALU] = {1, 0, 1},
               [PIPELINE_MULTIPLY] = {1, 0, 1},
               [PIPELINE_DIVIDE] = {2, 0, 2},
               [PIPELINE_LOAD] = {1, 0, 1},
               [PIPELINE_LOADS] = {0, 2, 1},
               [PIPELINE_STORE] = {1, 0, 1},
               [PIPELINE_STORES] = {0, 2, 1},
               [PIPELINE_BRANCH] = {1, 0, 1}}},
     {.taken = 2,
      .unit = {[PIPELINE_ALU] = {1, 0, 1},
               [PIPELINE_MULTIPLY] = {1, 0, 2},
               [PIPELINE_DIVIDE] = {11, 0, 11},
               [PIPELINE_LOAD] = {1, 0, 2},
               [PIPELINE_LOADS] = {1, 2, 2},
               [PIPELINE_STORE] = {1, 0, 1},
               [PIPELINE_STORES] = {1, 2, 1},
               [PIPELINE_BRANCH] = {1, 0, 1}}}},
    /* Vector instructions in beats of 32 bits, two a cycle, those of different parts overlapping:
     * published (Arm 101051, chapter 1, and the Arm v8-M manual, DDI 0553, on beats); so are loops
     * whose end costs nothing. How far they overlap is not. */
    {"cortex-m55",
     "Arm 101051 and DDI 0553: in order, two beats a cycle, ends of loops that cost nothing",
     {.pairs = true,
      .overlaps = true,
      .taken = 1,
      .unit = {[PIPELINE_ALU] = {1, 0, 1},
               [PIPELINE_MULTIPLY] = {1, 0, 1},
               [PIPELINE_DIVIDE] = {2, 0, 2},
               [PIPELINE_LOAD] = {1, 0, 1},
               [PIPELINE_LOADS] = {0, 1, 1},
               [PIPELINE_STORE] = {1, 0, 1},
               [PIPELINE_STORES] = {0, 1, 1},
               [PIPELINE_BRANCH] = {1, 0, 1},
               [PIPELINE_LOOP] = {0, 0, 0},
               [PIPELINE_VECTOR] = {2, 0, 1},
               [PIPELINE_VECTOR_MULTIPLY] = {2, 0, 1},
               [PIPELINE_VECTOR_LOAD] = {2, 0, 1},
               [PIPELINE_VECTOR_STORE] = {2, 0, 1},
               [PIPELINE_VECTOR_SCATTERED] = {0, 2, 1}}},
     {.taken = 3,
      .unit = {[PIPELINE_ALU] = {1, 0, 1},
               [PIPELINE_MULTIPLY] = {1, 0, 2},
               [PIPELINE_DIVIDE] = {11, 0, 11},
               [PIPELINE_LOAD] = {1, 0, 2},
               [PIPELINE_LOADS] = {1, 2, 2},
               [PIPELINE_STORE] = {1, 0, 1},
               [PIPELINE_STORES] = {1, 2, 1},
               [PIPELINE_BRANCH] = {1, 0, 1},
               [PIPELINE_LOOP] = {1, 0, 1},
               [PIPELINE_VECTOR] = {2, 0, 2},
               [PIPELINE_VECTOR_MULTIPLY] = {2, 0, 3},
               [PIPELINE_VECTOR_LOAD] = {2, 0, 3},
               [PIPELINE_VECTOR_STORE] = {2, 0, 2},
               [PIPELINE_VECTOR_SCATTERED] = {1, 4, 3}}}},
};

const pipeline_core *pipeline_core_of(const char *core) {
    for (size_t i = 0; i < sizeof cores / sizeof cores[0]; i++) {
        if (strcmp(cores[i].core, core) == 0) {
            return &cores[i];
        }
    }
    return NULL;
}

static bool is_vector(const pipeline_step *s) {
    return s->unit >= PIPELINE_VECTOR;
}

static bool is_memory(const pipeline_step *s) {
    return s->unit >= PIPELINE_LOAD && s->unit <= PIPELINE_STORES;
}

static uint64_t busy(const pipeline_numbers *n, const pipeline_step *s) {
    const pipeline_time *t = &n->unit[s->unit];
    return t->busy + (uint64_t)(t->halves * s->count + 1) / 2U;
}

/* Whether both can begin in a cycle, as far as the parts of the core go. */
static bool can_pair(const pipeline_numbers *n, const pipeline_step *a, const pipeline_step *b) {
    const bool simple = busy(n, a) <= 1U && busy(n, b) <= 1U && !is_vector(a) && !is_vector(b);
    const bool wide = !a->narrow || !b->narrow;
    const bool loads = a->unit == PIPELINE_LOAD && b->unit == PIPELINE_LOAD;
    const bool apart = is_memory(a) && is_memory(b) ? loads && n->pairs_loads
                                                    : a->unit == PIPELINE_ALU || a->unit != b->unit;
    return n->pairs && simple && apart && (!wide || n->pairs_wide);
}

/* When the core takes another after the last. */
static uint64_t next_begin(const pipeline_run *run, const pipeline_step *step, pipeline_way way) {
    const pipeline_numbers *n = run->numbers;
    const pipeline_step *last = run->last;
    const uint64_t wrong = way.turned ? n->turned : 0U;
    if (way.jumped) {
        const uint64_t taken = last->unit == PIPELINE_LOOP ? 0U : n->taken;
        return run->now + busy(n, last) + taken + wrong;
    }
    if (!run->together && wrong == 0U && can_pair(n, last, step)) {
        return run->now;
    }
    if (n->overlaps && is_vector(last) && step->unit != last->unit && busy(n, last) == 2U) {
        return run->now + 1U;
    }
    return run->now + busy(n, last) + wrong;
}

static uint64_t later(uint64_t a, uint64_t b) {
    return a > b ? a : b;
}

static void set_ready(pipeline_run *run, uint32_t registers, uint64_t when) {
    for (uint32_t r = 0; registers != 0U; r++, registers >>= 1) {
        if ((registers & 1U) != 0U) {
            run->ready[r] = when;
        }
    }
}

uint64_t pipeline_begin(pipeline_run *run, const pipeline_step *step, pipeline_way way) {
    const pipeline_numbers *n = run->numbers;
    uint64_t at = run->last != NULL ? next_begin(run, step, way) : run->now;
    uint32_t wanted = step->reads | step->moves;
    for (uint32_t r = 0; wanted != 0U; r++, wanted >>= 1) {
        at = (wanted & 1U) != 0U ? later(at, run->ready[r]) : at;
    }
    const uint64_t passed = at - run->now;
    run->together = run->last != NULL && passed == 0U;
    run->now = at;
    run->last = step;
    const uint64_t latency = n->unit[step->unit].latency;
    const bool overlapped = n->overlaps && is_vector(step);
    set_ready(run, step->writes, at + (overlapped ? latency : later(latency, busy(n, step))));
    set_ready(run, step->moves & ~step->writes, at + 1U);
    return passed;
}
