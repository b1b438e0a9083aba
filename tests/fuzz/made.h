/* made: a model file out of any bytes. What a random file would never get past the first checks, is
 * built field by field here: layers of every kind, streams, slices, groups, schedules that share
 * their places. Most of it is sound; what is not, nsk_open has to tell. */
#ifndef NSK_TESTS_FUZZ_MADE_H
#define NSK_TESTS_FUZZ_MADE_H

#include <stdbool.h>
#include <stdint.h>

/* Numbers out of the bytes as long as there are any, then pseudo-random ones. */
typedef struct draws {
    const uint8_t *at, *end;
    uint32_t state;
} draws;

uint8_t draw_byte(draws *d);
/* 0 to below - 1; `below` is at most 65536, and 1 or more. */
uint32_t draw(draws *d, uint32_t below);
/* True so many times of 256. */
bool draw_chance(draws *d, uint32_t of256);

/* A file of that many bytes in `file`, which has MADE_ROOM; 0 where it came out larger. */
enum { MADE_ROOM = 1 << 16 };
uint32_t made_model(draws *d, uint8_t *file);

/* Changes a few bytes, mostly of the header and the records. */
void made_twist(draws *d, uint8_t *file, uint32_t size);

/* Makes size and checksum right. */
void made_seal(uint8_t *file, uint32_t size);

#endif
