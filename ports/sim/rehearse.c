#include "sim/rehearse.h"

#include <math.h>
#include <string.h>

#include "netsuke/port.h"
#include "quantise/check.h"
#include "sim/ram.h"

/* The board, as the port's context. */
typedef struct sim {
    const nsk_board *board;
    const nsk_budget *budget;
    const nsk_images *images;
    const nsk_model *model;
    nsk_rule rule;
    const int *order;
    uint8_t *picture; /* the frame that the camera shows */
    nsk_ram *ram;
    double now; /* seconds */
    int next;   /* frame of the camera */
    nsk_rehearsal *result;
    nsk_status status;
    bool good;
    nsk_error *error;
} sim;

static void *sim_memory(void *context, size_t bytes) {
    sim *s = context;
    return nsk_ram_take(s->ram, bytes);
}

static void spend(sim *s, double cycles) {
    s->now += cycles / s->board->clock;
    s->result->busy += cycles / s->board->clock;
}

/* Waits for the first frame that starts no earlier than now. */
static bool next_frame(sim *s) {
    double period = 1.0 / s->board->frame_rate;
    while (s->next < s->result->frames && s->next * period < s->now - 1e-12) {
        s->next++;
        s->result->dropped++;
    }
    if (s->next >= s->result->frames) {
        return false;
    }
    s->now = s->next * period;
    int image = s->order[s->next++];
    s->good = nsk_images_frame(s->images, image, s->picture, s->error);
    if (s->good) {
        s->result->answers[s->result->taken].image = image;
        s->result->answers[s->result->taken].arrived = s->now;
    }
    return s->good;
}

static bool sim_rows(void *context, uint8_t *to, size_t bytes, unsigned first) {
    sim *s = context;
    if (first == 0 && !next_frame(s)) {
        return false;
    }
    /* the only write into the board's RAM; it may fault */
    memcpy(to, s->picture + (size_t)first * s->model->width * s->model->channels, bytes);
    return true;
}

/* All that happens while the frame comes in is counted at its end. */
static void sim_prepared(void *context) {
    sim *s = context;
    spend(s, s->budget->preparation.cycles + s->budget->streaming.cycles);
    for (int i = 0; i < s->budget->streamed; i++) {
        spend(s, s->budget->layer[i].cycles);
    }
}

static void sim_layer_done(void *context, const nsk_model *model, unsigned layer) {
    sim *s = context;
    spend(s, layer >= model->streamed ? s->budget->layer[layer].cycles : 0.0);
}

static void sim_answer(void *context, const nsk_model *model, const int8_t *scores, int decided) {
    sim *s = context;
    nsk_rehearsed *answer = &s->result->answers[s->result->taken++];
    int label = nsk_images_label(s->images, answer->image);
    answer->answered = s->now;
    answer->class_index = (int)nsk_best(model, scores);
    answer->probability = (float)(scores[answer->class_index] + 128) / 256.0F;
    answer->decided = decided;
    s->result->correct += answer->class_index == label;
    s->result->decisions += decided >= 0;
    s->result->right += decided >= 0 && decided == label;
}

static void run_firmware(void *context) {
    sim *s = context;
    const nsk_port port = {s, sim_memory, sim_rows, sim_prepared, sim_layer_done, sim_answer};
    nsk_ram_take(s->ram, (size_t)s->budget->ram_stack);
    s->status = nsk_firmware_run(&port, s->model, &s->rule);
}

/* Fisher and Yates; the generator of Numerical Recipes' "quick and dirty" section is enough. */
static int *draw_order(int images, int frames, unsigned seed) {
    int *order = g_new(int, MAX(images, frames));
    uint32_t state = seed;
    for (int i = 0; i < MAX(images, frames); i++) {
        order[i] = i % images;
    }
    for (int i = images - 1; i > 0; i--) {
        state = state * 1664525U + 1013904223U;
        int k = (int)((uint64_t)(state >> 8) * (uint64_t)(i + 1) >> 24);
        int kept = order[i];
        order[i] = order[k];
        order[k] = kept;
    }
    for (int i = images; i < frames; i++) {
        order[i] = order[i % images];
    }
    return order;
}

static nsk_rule make_rule(const nsk_decision *decision, const nsk_model *model) {
    nsk_rule rule = {.frames = (uint8_t)decision->frames, .resting = UINT16_MAX};
    double level = ceil(decision->threshold * 256.0) - 128.0;
    rule.threshold = (int8_t)fmin(level, 127.0);
    for (unsigned c = 0; c < model->classes && decision->resting != NULL; c++) {
        if (strcmp(nsk_label(model, c), decision->resting) == 0) {
            rule.resting = (uint16_t)c;
        }
    }
    return rule;
}

static void finish(sim *s) {
    nsk_rehearsal *r = s->result;
    r->seconds = fmax(s->now, r->frames / s->board->frame_rate);
    double idle = fmax(s->board->idle_power, 0.0);
    r->joules = s->board->active_power < 0.0
                    ? -1.0
                    : s->board->active_power * r->busy + idle * (r->seconds - r->busy);
}

static bool play(sim *s) {
    s->ram = nsk_ram_new((size_t)s->board->ram, s->error);
    if (s->ram == NULL) {
        return false;
    }
    s->good = true;
    bool good = nsk_ram_guard(s->ram, run_firmware, s, s->error);
    if (!good) {
        nsk_fail_in(s->error, "board '%s'", s->board->name);
    }
    nsk_ram_free(s->ram);
    return good && s->good;
}

nsk_rehearsal *nsk_rehearse(const nsk_model_file *file, const nsk_board *board,
                            const nsk_budget *budget, const nsk_decision *decision,
                            const nsk_images *images, int frames, unsigned seed, nsk_error *error) {
    nsk_model model;
    if (!nsk_model_open_for(NULL, file, images, &model, error)) {
        return NULL;
    }
    int count = nsk_images_count(images);
    nsk_rehearsal *r = g_new0(nsk_rehearsal, 1);
    r->frames = frames > 0 ? frames : count;
    r->answers = g_new0(nsk_rehearsed, r->frames);
    int *order = draw_order(count, r->frames, seed);
    sim s = {.board = board,
             .budget = budget,
             .images = images,
             .model = &model,
             .rule = make_rule(decision, &model),
             .order = order,
             .picture = g_malloc(nsk_images_frame_bytes(images)),
             .result = r,
             .error = error};
    bool good = play(&s);
    g_free(order);
    g_free(s.picture);
    if (!good) {
        nsk_rehearsal_free(r);
        return NULL;
    }
    finish(&s);
    return r;
}

void nsk_rehearsal_free(nsk_rehearsal *r) {
    if (r != NULL) {
        g_free(r->answers);
        g_free(r);
    }
}
