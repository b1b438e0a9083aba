#include "hash.h"

#include "../arch.h"
#include "../format.h"

/* K: 2^32 by the golden section, made odd. Compilers that know its value make a dozen shifts and
 * sums of the multiplication. */
static inline uint32_t factor(void) {
    uint32_t k = UINT32_C(0x9e3779b1);
#if defined(__GNUC__)
    __asm__("" : "+r"(k));
#endif
    return k;
}

/* The products are cut off on purpose. */
static inline uint32_t mix(uint32_t hash, uint32_t word, uint32_t k) {
    const uint32_t product = (uint32_t)((uint64_t)(hash ^ word) * k);
    return (uint32_t)((uint64_t)(product ^ product >> 15) * k);
}

static uint32_t hash_words(uint32_t hash, const uint8_t *bytes, size_t size, uint32_t k) {
    const size_t fours = size & ~(size_t)15U; /* of words */
    const size_t words = size & ~(size_t)3U;
    size_t i = 0;
    for (; i < fours; i += 16U) {
        hash = mix(hash, nsk_load32(bytes + i), k);
        hash = mix(hash, nsk_load32(bytes + i + 4), k);
        hash = mix(hash, nsk_load32(bytes + i + 8), k);
        hash = mix(hash, nsk_load32(bytes + i + 12), k);
    }
    for (; i < words; i += 4U) {
        hash = mix(hash, nsk_load32(bytes + i), k);
    }
    for (; i < size; i++) {
        hash = mix(hash, bytes[i], k);
    }
    return hash;
}

#if defined(NSK_ARCH_ARM_MVE)
/* Four hashes side by side, each of every fourth word; then that of the four. */
uint32_t nsk_hash(uint32_t hash, const uint8_t *bytes, size_t size) {
    typedef uint32_t four __attribute__((vector_size(16)));
    const uint32_t k = factor();
    const uint8_t *const end = bytes + (size & ~(size_t)15U);
    four hashes = {hash, hash, hash, hash};
    for (; bytes < end; bytes += sizeof hashes) {
        four next;
        __builtin_memcpy(&next, bytes, sizeof next);
        hashes = (hashes ^ next) * k;
        hashes = (hashes ^ hashes >> 15) * k;
    }
    uint8_t last[sizeof hashes];
    __builtin_memcpy(last, &hashes, sizeof last);
    hash = hash_words(hash, last, sizeof last, k);
    return hash_words(hash, bytes, size & 15U, k);
}
#else
uint32_t nsk_hash(uint32_t hash, const uint8_t *bytes, size_t size) {
    return hash_words(hash, bytes, size, factor());
}
#endif
