/* dsp: instructions of the Cortex-M DSP extension, one function each. */
#ifndef NSK_DSP_H
#define NSK_DSP_H

#include <stdint.h>

/* Four bytes at a multiple of four. */
static inline uint32_t nsk_four(const int8_t *at) {
    uint32_t word;
    __builtin_memcpy(&word, __builtin_assume_aligned(at, 4), sizeof word);
    return word;
}

/* Of four bytes, the first and third as halves of 16 bits; the second and fourth. */
static inline uint32_t nsk_even_bytes(uint32_t word) {
    uint32_t halves;
    __asm__("sxtb16 %0, %1" : "=r"(halves) : "r"(word));
    return halves;
}

static inline uint32_t nsk_odd_bytes(uint32_t word) {
    uint32_t halves;
    __asm__("sxtb16 %0, %1, ror #8" : "=r"(halves) : "r"(word));
    return halves;
}

/* acc + the product of the low halves; of the high ones. */
static inline int32_t nsk_add_low(uint32_t a, uint32_t b, int32_t acc) {
    __asm__("smlabb %0, %1, %2, %0" : "+r"(acc) : "r"(a), "r"(b));
    return acc;
}

static inline int32_t nsk_add_high(uint32_t a, uint32_t b, int32_t acc) {
    __asm__("smlatt %0, %1, %2, %0" : "+r"(acc) : "r"(a), "r"(b));
    return acc;
}

/* acc + both. */
static inline int32_t nsk_add_both(uint32_t a, uint32_t b, int32_t acc) {
    __asm__("smlad %0, %1, %2, %0" : "+r"(acc) : "r"(a), "r"(b));
    return acc;
}

/* nsk_rescale for shifts of 33 at least, `shift` being what is left behind the high word, plus the
 * output's zero point: the bit that is shifted out last is the rounding. Clamped to int8. */
static inline int32_t nsk_finish(int32_t acc, int32_t multiplier, int32_t shift, int32_t zero) {
    __asm__("smmul %0, %0, %1\n\t"
            "asrs %0, %0, %2\n\t"
            "adc %0, %0, %3\n\t"
            "ssat %0, #8, %0"
            : "+&r"(acc)
            : "r"(multiplier), "r"(shift), "r"(zero)
            : "cc");
    return acc;
}

#endif
