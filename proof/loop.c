/* The product's loop on a model that is given, whatever the camera shows, whenever its rows come or
 * do not, whatever the rule is; with too little memory, and with enough; pictures of the frame's
 * size, and a pixel larger; frames run once, and twice. */
#include "__fc_builtin.h"
#include "device/format.h"
#include "given.h"
#include "netsuke/firmware.h"

enum { MOST_TAKEN = 5 };

static uint32_t memory[MOST_TAKEN][3000];
static unsigned taken, there;

static void *take(void *context, size_t bytes) {
    (void)context;
    return bytes <= sizeof *memory && taken < there ? memory[taken++] : NULL;
}

static nsk_row row(void *context, uint8_t *to, size_t bytes, unsigned y) {
    (void)context;
    (void)y;
    Frama_C_make_unknown((char *)to, bytes);
    return (nsk_row)Frama_C_interval(NSK_ROW_THERE, NSK_ROW_END);
}

static void prepared(void *context) {
    (void)context;
}

static void layer_done(void *context, const nsk_model *model, unsigned layer) {
    (void)context;
    (void)model;
    (void)layer;
}

static void answer(void *context, const nsk_answered *a) {
    (void)context;
    //@ assert NSK_UNSURE <= a->line && NSK_NOTHING <= a->decided;
}

static void fault(void *context, nsk_fault why) {
    (void)context;
    //@ assert NSK_FAULT_NONE < why && why < NSK_FAULTS;
}

static void run(unsigned larger, bool twice) {
    const nsk_port port = {.memory = take,
                           .row = row,
                           .prepared = prepared,
                           .layer_done = layer_done,
                           .answer = answer,
                           .fault = fault};
    nsk_firmware firmware = {.model = GIVEN,
                             .model_bytes = sizeof GIVEN,
                             .camera_width = (uint16_t)(nsk_load16(GIVEN + NSK_H_WIDTH) + larger),
                             .camera_height = (uint16_t)(nsk_load16(GIVEN + NSK_H_HEIGHT) + larger),
                             .check_every = 1,
                             .check_frames = true,
                             .twice = twice};
    Frama_C_make_unknown((char *)&firmware.rule, sizeof firmware.rule);
    firmware.rule.line_of = NULL;
    firmware.rule.thresholds = NULL;
    taken = 0;
    nsk_firmware_run(&port, &firmware);
}

/* -DONCE: what takes seconds on a small network. */
int main(void) {
    for (there = 0; there < MOST_TAKEN; there++) {
        run(1, false);
    }
    run(0, false);
#if !defined(ONCE)
    run(1, false);
    run(0, true); /* a streamed model refuses that */
    run(1, true);
#endif
    Frama_C_show_each_end();
    return 0;
}
