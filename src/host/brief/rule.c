#include "brief/rule.h"

#include <math.h>
#include <string.h>

/* As scores count it; the least that is at least so much. */
static uint32_t in_units(double probability) {
    return (uint32_t)ceil(probability * NSK_CERTAIN);
}

int nsk_resting_class(const nsk_decision *d, const nsk_model *model) {
    for (int c = 0; c < model->classes && d->resting != NULL; c++) {
        if (strcmp(nsk_label(model, (unsigned)c), d->resting) == 0) {
            return c;
        }
    }
    return -1;
}

/* Classes on no line share one, which is the one at rest. */
nsk_rule nsk_rule_of(const nsk_decision *d, const nsk_model *model, nsk_rule_lists *lists) {
    int resting = nsk_resting_class(d, model);
    nsk_rule rule = {.threshold = in_units(d->threshold),
                     .margin = in_units(d->margin),
                     .frames = (uint8_t)d->frames,
                     .window = (uint8_t)d->window,
                     .hold_off = (uint8_t)d->hold_off,
                     .resting = resting >= 0 ? (uint16_t)resting : UINT16_MAX};
    if (d->lines > 0) {
        for (int c = 0; c < model->classes; c++) {
            lists->line_of[c] = (uint8_t)(d->line_of[c] >= 0 ? d->line_of[c] : d->lines);
        }
        rule.line_of = lists->line_of;
        rule.line_count = (uint8_t)(d->lines + 1);
        rule.resting = (uint16_t)d->lines;
    }
    if (d->thresholds != NULL) {
        for (int c = 0; c < model->classes; c++) {
            lists->thresholds[c] = in_units(d->thresholds[c]);
        }
        rule.thresholds = lists->thresholds;
        rule.resting = d->lines > 0 ? rule.resting : model->classes;
    }
    return rule;
}

const char *nsk_line_name(const nsk_decision *d, const nsk_labels *labels, int line) {
    return line == NSK_UNSURE                                  ? "unsure"
           : line >= (d->lines > 0 ? d->lines : labels->count) ? "at rest"
           : d->lines > 0                                      ? d->line_names[line]
                                                               : labels->names[line];
}

nsk_firmware nsk_firmware_of(const nsk_product *product, const nsk_decision *decision,
                             const nsk_model *model, nsk_rule_lists *lists) {
    lists->sensing =
        (nsk_sensing){product->sensor, nsk_sensor_bytes, nsk_sensor_set, nsk_sensor_row};
    return (nsk_firmware){.model = model->bytes,
                          .model_bytes = model->size,
                          .camera_width = (uint16_t)product->camera_width,
                          .camera_height = (uint16_t)product->camera_height,
                          .sensing = nsk_sensor_is_plain(&product->sensor) ? NULL : &lists->sensing,
                          .check_every = (uint16_t)product->check_every,
                          .check_frames = product->check_frames,
                          .twice = product->twice,
                          .rule = nsk_rule_of(decision, model, lists)};
}
