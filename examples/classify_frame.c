/* classify_frame: the device half alone. A model as a C array, one frame, one decision, no heap.
 *
 * On a host the frame comes as raw bytes on standard input, so that it can be tried:
 *     classify_frame < frame.rgb
 */
#include <stdio.h>

#include "netsuke/device.h"

extern const uint8_t kiln_model[]; /* netsuke quantise ... --array kiln_model.c */
extern const size_t kiln_model_bytes;

enum { FRAME_BYTES = 48 * 48 * 3, WORKSPACE_BYTES = 32 * 1024 };

static uint8_t frame[FRAME_BYTES];
static int32_t workspace[WORKSPACE_BYTES / 4];

int main(void) {
    nsk_model model;
    nsk_status status = nsk_open(&model, kiln_model, kiln_model_bytes);
    if (status != NSK_STATUS_OK || model.workspace_bytes > sizeof workspace) {
        fprintf(stderr, "the model is %s\n",
                nsk_status_text(status != NSK_STATUS_OK ? status : NSK_STATUS_WORKSPACE_SMALL));
        return 2;
    }
    if (fread(frame, 1, sizeof frame, stdin) != sizeof frame) {
        fprintf(stderr, "a frame has %d bytes\n", FRAME_BYTES);
        return 2;
    }
    nsk_prepare(&model, frame, (size_t)model.width * model.channels, workspace);
    nsk_run(&model, workspace, NULL);
    const int32_t *scores = nsk_scores(&model, workspace);
    for (unsigned c = 0; c < model.classes; c++) {
        printf("%s %d\n", nsk_label(&model, c), scores[c]);
    }
    printf("decision %s\n", nsk_label(&model, nsk_best(&model, scores)));
    return 0;
}
