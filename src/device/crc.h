/* crc: CRC-32 of IEEE 802.3 (reflected, polynomial 0xedb88320), by nibbles: a 64-byte table. */
#ifndef NSK_DEVICE_CRC_H
#define NSK_DEVICE_CRC_H

#include <stddef.h>
#include <stdint.h>

/* Continues `crc` (0 to start) over `size` more bytes. */
/*@ requires \valid_read(bytes + (0 .. size - 1));
    assigns \result \from crc, bytes[0 .. size - 1]; */
uint32_t nsk_crc32(uint32_t crc, const uint8_t *bytes, size_t size);

#endif
