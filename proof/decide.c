/* Decides by any rule, any lists of lines and thresholds, any scores, from any memory of earlier
 * frames, over any number of frames. */
#include "__fc_builtin.h"
#include "netsuke/firmware.h"

enum { CLASSES = 20 };

static int32_t scores[CLASSES];
static uint8_t lines[CLASSES];
static uint32_t thresholds[CLASSES];

int main(void) {
    nsk_model model = {.classes = (uint16_t)Frama_C_interval(0, CLASSES)};
    nsk_rule rule;
    nsk_decider decider;
    Frama_C_make_unknown((char *)&decider, sizeof decider);
    Frama_C_make_unknown((char *)&rule, sizeof rule);
    Frama_C_make_unknown((char *)lines, sizeof lines);
    Frama_C_make_unknown((char *)thresholds, sizeof thresholds);
    decider.has_standing = Frama_C_nondet(0, 1) != 0;
    rule.line_of = Frama_C_nondet(0, 1) ? lines : NULL;
    rule.thresholds = Frama_C_nondet(0, 1) ? thresholds : NULL;
    while (Frama_C_nondet(0, 1)) {
        Frama_C_make_unknown((char *)scores, sizeof scores);
        int decided = nsk_decide(&decider, &rule, &model, scores);
        if (decided != NSK_NOTHING || Frama_C_nondet(0, 1)) {
            nsk_decider_forget(&decider);
        }
    }
    Frama_C_show_each_end();
    return 0;
}
