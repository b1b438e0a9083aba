/* dsp: instructions of the Cortex-M DSP extension, one function each. */
#ifndef NSK_DEVICE_ARM_DSP_DSP_H
#define NSK_DEVICE_ARM_DSP_DSP_H

#include <stdint.h>

/* Four bytes at a multiple of four. */
static inline uint32_t nsk_load_four(const int8_t *at) {
    uint32_t word;
    __builtin_memcpy(&word, __builtin_assume_aligned(at, 4), sizeof word);
    return word;
}

/* Four bytes anywhere: a word where the core may load it from there, else byte by byte. */
static inline uint32_t nsk_four_anywhere(const int8_t *at) {
    uint32_t word;
    __builtin_memcpy(&word, at, sizeof word);
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

/* The same, plus the halves of `to`. */
static inline uint32_t nsk_even_bytes_and(uint32_t to, uint32_t word) {
    uint32_t halves;
    __asm__("sxtab16 %0, %1, %2" : "=r"(halves) : "r"(to), "r"(word));
    return halves;
}

static inline uint32_t nsk_odd_bytes_and(uint32_t to, uint32_t word) {
    uint32_t halves;
    __asm__("sxtab16 %0, %1, %2, ror #8" : "=r"(halves) : "r"(to), "r"(word));
    return halves;
}

/* The lower halves of two words, the upper ones: the first's below. */
static inline uint32_t nsk_low_halves(uint32_t first, uint32_t second) {
    uint32_t halves;
    __asm__("pkhbt %0, %1, %2, lsl #16" : "=r"(halves) : "r"(first), "r"(second));
    return halves;
}

static inline uint32_t nsk_high_halves(uint32_t first, uint32_t second) {
    uint32_t halves;
    __asm__("pkhtb %0, %1, %2, asr #16" : "=r"(halves) : "r"(second), "r"(first));
    return halves;
}

/* acc + the products of both halves. */
static inline int32_t nsk_add_both(uint32_t a, uint32_t b, int32_t acc) {
    __asm__("smlad %0, %1, %2, %0" : "+r"(acc) : "r"(a), "r"(b));
    return acc;
}

#endif
