/* modelfile/pack: weights with 4, 5 or 6 bits each, as docs/model-file.md has them. */
#ifndef NSK_MODELFILE_PACK_H
#define NSK_MODELFILE_PACK_H

#include <stddef.h>
#include <stdint.h>

/* Bytes of so many weights. */
size_t nsk_packed_bytes(size_t weights, int bits);
/* Each from -2^(bits-1) to 2^(bits-1) - 1. */
void nsk_pack_weights(const int8_t *weights, size_t count, int bits, uint8_t *packed);
void nsk_unpack_weights(const uint8_t *packed, size_t count, int bits, int8_t *weights);

#endif
