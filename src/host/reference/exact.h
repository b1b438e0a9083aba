/* reference/exact: integer arithmetic wide enough that nothing overflows, by division instead of
 * shifts. */
#ifndef NSK_REFERENCE_EXACT_H
#define NSK_REFERENCE_EXACT_H

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

/* The output of a sum of products, bias included, by the word that requantisees it: its fields by
 * division. */
static inline int32_t exact_requantise(exact sum, int32_t requantise, int32_t zero, int32_t low,
                                       int32_t high) {
    int32_t fields = (int32_t)((uint32_t)requantise % 512U);
    exact divisor = (exact)1 << fields / 16;
    exact value = exact_floor_divide(sum * (fields % 16) + divisor / 2, divisor) + zero;
    return (int32_t)(value < low ? low : value > high ? high : value);
}

static inline int32_t exact_bias(int32_t requantise) {
    return (int32_t)exact_floor_divide(requantise, 512);
}

#endif
