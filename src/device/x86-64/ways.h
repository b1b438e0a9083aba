/* ways: the products of this architecture, of which one is chosen when run. */
#ifndef NSK_DEVICE_X86_64_WAYS_H
#define NSK_DEVICE_X86_64_WAYS_H

#include "../product.h"

enum nsk_ways_sizes { NSK_WAYS_ROW = 4608 /* bytes of a row at most */ };

/* nsk_multiply_out of rows that are not longer, outputs not wide: in vectors of 256 bits, and of
 * 512 with products of bytes. */
void nsk_multiply_out_avx2(const nsk_matmul *product, const int8_t *in, int32_t pixels,
                           int8_t *out);
void nsk_multiply_out_vnni(const nsk_matmul *product, const int8_t *in, int32_t pixels,
                           int8_t *out);

/* Whether the processor has them. */
bool nsk_has_avx2(void);
bool nsk_has_vnni(void);

#endif
