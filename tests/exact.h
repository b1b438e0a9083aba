/* exact: integer arithmetic wide enough that nothing overflows, by division instead of shifts. */
#ifndef TESTS_EXACT_H
#define TESTS_EXACT_H

#include <stdint.h>

__extension__ typedef __int128 exact;

static inline exact exact_floor_divide(exact a, exact b) {
    exact quotient = a / b;
    return a % b != 0 && (a < 0) != (b < 0) ? quotient - 1 : quotient;
}

/* floor((acc m + 2^(s-1)) / 2^s), saturated to +-2^30. */
static inline int32_t exact_rescale(int64_t acc, int32_t m, unsigned s) {
    const exact most = (exact)1 << 30;
    exact value = exact_floor_divide((exact)acc * m + ((exact)1 << (s - 1)), (exact)1 << s);
    return (int32_t)(value > most ? most : value < -most ? -most : value);
}

#endif
