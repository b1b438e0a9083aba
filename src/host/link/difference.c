/* Where a board and this machine begin to differ: the layer, the element, its levels. */
#include "base/base.h"
#include "device/crc.h"
#include "netsuke/on_board.h"

/* One frame, there and here. */
typedef struct pair {
    nsk_on_board *board;
    const nsk_model *model;
    const uint8_t *frame;
    void *workspace;
    int32_t *said;          /* the board's scores */
    nsk_link_layer *layers; /* the board's, the preparation last */
    uint32_t *sums;         /* the host's, of each layer */
    uint32_t elements;      /* that they go over */
} pair;

static void note_sum(void *context, const nsk_model *model, unsigned layer) {
    pair *p = context;
    p->sums[layer] = nsk_output_sum(model, p->workspace, layer, p->elements);
}

static void run_here(pair *p, uint32_t elements) {
    const nsk_observer observer = {NULL, note_sum, p};
    p->elements = elements;
    nsk_prepare(p->model, p->frame, (size_t)p->model->width * p->model->channels, p->workspace);
    nsk_run(p->model, p->workspace, &observer);
}

static bool run_there(pair *p, uint32_t elements, nsk_error *error) {
    return nsk_on_board_run(p->board, p->model, p->frame, elements, p->said, p->layers, error);
}

/* The first layer whose output differs; -1 where none does. Those that stream cannot be looked at.
 */
static int first_layer(pair *p, nsk_error *error) {
    run_here(p, UINT32_MAX);
    if (!run_there(p, UINT32_MAX, error)) {
        return -1;
    }
    for (int i = p->model->streamed; i < p->model->layers; i++) {
        if (p->layers[i].sum != p->sums[i]) {
            return i;
        }
    }
    return -1;
}

/* Looks for the byte with which the board's checksum over one element more comes out. */
static bool level_of(uint32_t before, uint32_t sum, int *level) {
    for (int i = -128; i <= 127; i++) {
        const uint8_t byte = (uint8_t)i;
        if (nsk_crc32(before, &byte, 1) == sum) {
            *level = i;
            return true;
        }
    }
    return false;
}

/* The number of an output's elements that are still the same; false where the link breaks. */
static bool same_elements(pair *p, int layer, uint32_t all, uint32_t *same, nsk_error *error) {
    *same = 0;
    for (uint32_t wrong = all; wrong - *same > 1;) {
        const uint32_t middle = *same + (wrong - *same) / 2;
        run_here(p, middle);
        if (!run_there(p, middle, error)) {
            return false;
        }
        *(p->layers[layer].sum == p->sums[layer] ? same : &wrong) = middle;
    }
    return true;
}

static void find_element(pair *p, nsk_difference *d, nsk_error *error) {
    uint32_t same;
    const nsk_tensor out = nsk_tensor_at(p->model, nsk_layer_output(p->model, (unsigned)d->layer));
    const uint32_t all = (uint32_t)out.height * out.width * out.channels;
    if (!same_elements(p, d->layer, all, &same, error)) {
        return;
    }
    run_here(p, same);
    const uint32_t before = p->sums[d->layer];
    run_here(p, same + 1);
    d->row = (int)(same / out.channels / out.width);
    d->column = (int)(same / out.channels % out.width);
    d->channel = (int)(same % out.channels);
    d->has_place = true;
    if (out.element == 1 && run_there(p, same + 1, error)) {
        d->has_level = level_of(before, p->sums[d->layer], &d->levels[0]) &&
                       level_of(before, p->layers[d->layer].sum, &d->levels[1]);
    }
}

static void find_layer(pair *p, nsk_difference *d, nsk_error *error) {
    d->layer = first_layer(p, error);
    if (d->layer >= 0) {
        find_element(p, d, error);
    }
}

void nsk_difference_find(nsk_on_board *board, const nsk_model *model, const uint8_t *frame,
                         const int32_t *scores, nsk_difference *difference, nsk_error *error) {
    pair p = {.board = board, .model = model, .frame = frame};
    p.workspace = g_malloc(model->workspace_bytes);
    p.said = g_new0(int32_t, model->classes);
    p.layers = g_new0(nsk_link_layer, model->layers + 1);
    p.sums = g_new0(uint32_t, model->layers);
    *difference = (nsk_difference){.layer = -1};
    run_here(&p, 0);
    const int32_t *wanted = nsk_scores(model, p.workspace);
    for (int c = model->classes - 1; c >= 0; c--) {
        if (scores[c] != wanted[c]) {
            difference->score = c;
            difference->scores[0] = wanted[c];
            difference->scores[1] = scores[c];
        }
    }
    find_layer(&p, difference, error);
    g_free(p.workspace);
    g_free(p.said);
    g_free(p.layers);
    g_free(p.sums);
}

char *nsk_difference_text(const nsk_difference *d, const nsk_model *model) {
    GString *text = g_string_new(NULL);
    g_string_printf(text, "'%s' has %d here and %d on the board",
                    nsk_label(model, (unsigned)d->score), d->scores[0], d->scores[1]);
    if (d->layer >= 0) {
        g_string_append_printf(text, "; it begins in layer '%s'",
                               nsk_layer_name(model, (unsigned)d->layer));
    } else {
        g_string_append(text, "; no layer that can be looked at differs");
    }
    if (d->has_place) {
        g_string_append_printf(text, ", row %d, column %d, channel %d", d->row, d->column,
                               d->channel);
    }
    if (d->has_level) {
        g_string_append_printf(text, ": level %d here, %d there", d->levels[0], d->levels[1]);
    }
    return g_string_free(text, FALSE);
}
