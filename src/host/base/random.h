/* base/random: a small seeded generator (splitmix64), the same on every machine. */
#ifndef NSK_BASE_RANDOM_H
#define NSK_BASE_RANDOM_H

#include <math.h>
#include <stdint.h>

typedef struct random_state {
    uint64_t state;
} random_state;

/* Source: G. L. Steele, D. Lea, C. H. Flood, Fast splittable pseudorandom number generators, 2014.
 */
static inline uint64_t random_bits(random_state *r) {
    uint64_t z = r->state += UINT64_C(0x9e3779b97f4a7c15);
    z = (z ^ (z >> 30)) * UINT64_C(0xbf58476d1ce4e5b9);
    z = (z ^ (z >> 27)) * UINT64_C(0x94d049bb133111eb);
    return z ^ (z >> 31);
}

/* Uniform in [low, high). */
static inline double random_between(random_state *r, double low, double high) {
    return low + (high - low) * ((double)(random_bits(r) >> 11) * 0x1p-53);
}

static inline int random_below(random_state *r, int count) {
    return (int)(random_bits(r) % (uint64_t)count);
}

static inline int random_chance(random_state *r, double probability) {
    return random_between(r, 0.0, 1.0) < probability;
}

/* Standard normal, by the polar method's trigonometric form (Box and Muller, 1958). */
static inline double random_normal(random_state *r) {
    double u = random_between(r, 1e-12, 1.0);
    return sqrt(-2.0 * log(u)) * cos(6.283185307179586 * random_between(r, 0.0, 1.0));
}

#endif
