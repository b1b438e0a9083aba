#include "small.h"

#include "crc.h"

uint32_t nsk_crc32(uint32_t crc, const uint8_t *bytes, size_t size) {
    static const uint32_t nibbles[16] = {0x00000000, 0x1db71064, 0x3b6e20c8, 0x26d930ac,
                                         0x76dc4190, 0x6b6b51f4, 0x4db26158, 0x5005713c,
                                         0xedb88320, 0xf00f9344, 0xd6d6a3e8, 0xcb61b38c,
                                         0x9b64c2b0, 0x86d3d2d4, 0xa00ae278, 0xbdbdf21c};
    crc = ~crc;
    for (size_t i = 0; i < size; i++) {
        crc ^= bytes[i];
        crc = crc >> 4 ^ nibbles[crc & 15U];
        crc = crc >> 4 ^ nibbles[crc & 15U];
    }
    return ~crc;
}
