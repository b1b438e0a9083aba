#include "draw/scale.h"

#include <math.h>
#include <stdbool.h>
#include <stddef.h>

int nsk_round_numbers(double most, double numbers[NSK_ROUND_NUMBERS]) {
    static const double leading[] = {1.0, 1.5, 2.0, 3.0, 5.0, 7.0};
    int count = 0;
    numbers[count++] = 0.0;
    for (double power = 1.0; power <= most; power *= 10.0) {
        for (size_t i = 0; i < sizeof leading / sizeof *leading && count < NSK_ROUND_NUMBERS; i++) {
            double number = leading[i] * power;
            bool whole = !(number > floor(number));
            if (whole && number <= most) {
                numbers[count++] = number;
            }
        }
    }
    return count;
}
