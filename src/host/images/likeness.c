#include "images/likeness.h"

#include <math.h>

enum { NEAR_BITS = 7 };
static const double NEAR_UNLIKENESS = 0.01;

enum { SIZE = 32, LOW = 8 };

/* A 32 x 32 grey copy, by area. */
static void grey_copy(const nsk_picture *picture, double *grey) {
    uint8_t bytes[SIZE * SIZE];
    const nsk_input input = {.width = SIZE, .height = SIZE, .colour = NSK_COLOUR_GREY};
    nsk_picture_to_frame(picture, &input, bytes);
    for (int i = 0; i < SIZE * SIZE; i++) {
        grey[i] = bytes[i];
    }
}

/* The lowest frequencies of a discrete cosine transform of one axis. */
static void low_frequencies(double waves[LOW][SIZE], const double *from, int stride, double *to,
                            int to_stride) {
    for (int k = 0; k < LOW; k++) {
        double sum = 0.0;
        for (int i = 0; i < SIZE; i++) {
            sum += from[i * stride] * waves[k][i];
        }
        to[k * to_stride] = sum;
    }
}

static uint64_t hash_of(const nsk_picture *picture) {
    double waves[LOW][SIZE];
    double grey[SIZE * SIZE];
    double half[SIZE * LOW];
    double low[LOW * LOW];
    uint64_t hash = 0;
    grey_copy(picture, grey);
    for (int i = 0; i < LOW * SIZE; i++) {
        waves[i / SIZE][i % SIZE] = cos(G_PI * (i % SIZE + 0.5) * (i / SIZE) / SIZE);
    }
    for (int y = 0; y < SIZE; y++) {
        low_frequencies(waves, grey + SIZE * y, 1, half + LOW * y, 1);
    }
    for (int x = 0; x < LOW; x++) {
        low_frequencies(waves, half + x, LOW, low + x, LOW);
    }
    for (int i = 1; i < LOW * LOW; i++) { /* without the first: brightness */
        hash = hash << 1 | (low[i] > 0.0);
    }
    return hash;
}

void nsk_likeness_of(const nsk_picture *picture, nsk_likeness *likeness) {
    const nsk_input small = {.width = NSK_THUMB, .height = NSK_THUMB, .colour = NSK_COLOUR_RGB};
    likeness->hash = hash_of(picture);
    nsk_picture_to_frame(picture, &small, likeness->thumb);
}

int nsk_hash_distance(uint64_t a, uint64_t b) {
    uint64_t d = a ^ b; /* counted in ever wider fields */
    d -= d >> 1 & UINT64_C(0x5555555555555555);
    d = (d & UINT64_C(0x3333333333333333)) + (d >> 2 & UINT64_C(0x3333333333333333));
    d = (d + (d >> 4)) & UINT64_C(0x0f0f0f0f0f0f0f0f);
    return (int)(d * UINT64_C(0x0101010101010101) >> 56);
}

double nsk_unlikeness(const nsk_likeness *a, const nsk_likeness *b) {
    const double count = sizeof a->thumb;
    double sum[2] = {0.0, 0.0};
    double square[2] = {0.0, 0.0};
    double both = 0.0;
    for (size_t i = 0; i < sizeof a->thumb; i++) {
        double x = a->thumb[i];
        double y = b->thumb[i];
        sum[0] += x;
        sum[1] += y;
        square[0] += x * x;
        square[1] += y * y;
        both += x * y;
    }
    double spread_a = square[0] / count - sum[0] * sum[0] / (count * count);
    double spread_b = square[1] / count - sum[1] * sum[1] / (count * count);
    double shared = both / count - sum[0] * sum[1] / (count * count);
    /* flat pictures have nothing to compare: the same only where they are equally bright */
    if (spread_a < 1.0 || spread_b < 1.0) {
        return fabs(sum[0] - sum[1]) / count < 1.0 && spread_a < 1.0 && spread_b < 1.0 ? 0.0 : 1.0;
    }
    return shared <= 0.0 ? 1.0 : 1.0 - shared * shared / (spread_a * spread_b);
}

bool nsk_likeness_is_near(const nsk_likeness *a, const nsk_likeness *b) {
    return nsk_hash_distance(a->hash, b->hash) <= NEAR_BITS &&
           nsk_unlikeness(a, b) <= NEAR_UNLIKENESS;
}
