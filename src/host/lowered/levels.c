/* Many numbers to their levels. Without calls and branches, so that compilers make vectors of it;
 * the same levels as nsk_level_of, one by one. */
#include "lowered/integer.h"

#include <math.h>

/* The level that is nearest, halves up; the zero point for what is not a number. */
static inline int nearest(float number, double scale, int zero) {
    const double FAR = 1000.0; /* past all levels, and within an int */
    double steps = (double)number / scale + 0.5;
    steps = steps > FAR ? FAR : steps;
    steps = steps < -FAR ? -FAR : steps;
    steps = steps >= -FAR ? steps : 0.0; /* not a number */
    int whole = (int)steps;
    int level = whole - ((double)whole > steps ? 1 : 0) + zero;
    level = level < -128 ? -128 : level;
    return level > 127 ? 127 : level;
}

void nsk_levels_of(const float *numbers, size_t count, nsk_scale scale, int8_t *levels) {
    const double step = (double)scale.scale;
    for (size_t i = 0; i < count; i++) {
        levels[i] = (int8_t)nearest(numbers[i], step, scale.zero);
    }
}

void nsk_round_to_levels(float *numbers, size_t count, nsk_scale scale) {
    const double step = (double)scale.scale;
    for (size_t i = 0; i < count; i++) {
        numbers[i] = scale.scale * (float)(nearest(numbers[i], step, scale.zero) - scale.zero);
    }
}

int16_t nsk_wide_level_of(double value, nsk_scale scale) {
    double level = floor(value / (double)scale.scale + 0.5) + scale.zero;
    return (int16_t)(isnan(level) ? scale.zero : fmin(fmax(level, INT16_MIN), INT16_MAX));
}

void nsk_round_to_wide_levels(float *numbers, size_t count, nsk_scale scale) {
    for (size_t i = 0; i < count; i++) {
        numbers[i] =
            scale.scale * (float)(nsk_wide_level_of((double)numbers[i], scale) - scale.zero);
    }
}
