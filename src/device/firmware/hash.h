/* hash: whether bytes are still what they were, by a look at each word.
 *
 *     h = (h xor word) K mod 2^32;  h = (h xor (h >> 15)) K mod 2^32
 *
 * with K odd; where there are Arm's vectors, of every fourth word in four of them side by side,
 * which are then hashed themselves. Every step can be turned back, so that words behind it never
 * hide a change: one within a single word of four bytes is found for certain, whatever changes in
 * it. Of others, one in 2^32 passes by chance (bench/changes.c tries). With the first product alone
 * it is more: then a word's highest bit meets two bits of the next one. Not against somebody who
 * wants to be missed, and no substitute for the CRC-32 that comes with the model. */
#ifndef NSK_DEVICE_FIRMWARE_HASH_H
#define NSK_DEVICE_FIRMWARE_HASH_H

#include <stddef.h>
#include <stdint.h>

/* Continues `hash` (0 to start) over `size` more bytes, aligned to four. Only for comparing with
 * what the same machine gave before. */
/*@ requires \valid_read(bytes + (0 .. size - 1));
    assigns \result \from hash, bytes[0 .. size - 1]; */
uint32_t nsk_hash(uint32_t hash, const uint8_t *bytes, size_t size);

#endif
