/* images/likeness: when two pictures show the same: a perceptual hash that finds candidates, and a
 * comparison of small copies that decides. */
#ifndef NSK_IMAGES_LIKENESS_H
#define NSK_IMAGES_LIKENESS_H

#include "images/picture.h"

enum { NSK_THUMB = 16 };

typedef struct nsk_likeness {
    uint64_t hash; /* signs of the 8 x 8 lowest frequencies of a 32 x 32 grey copy, DC aside */
    uint8_t thumb[NSK_THUMB * NSK_THUMB * 3];
} nsk_likeness;

void nsk_likeness_of(const nsk_picture *picture, nsk_likeness *likeness);

/* Bits in which two hashes differ. */
int nsk_hash_distance(uint64_t a, uint64_t b);

/* How unlike two small copies are once brightness and contrast are made equal: the share of the
 * one's variance that the other does not explain, 1 - r^2; 0 is the same, 1 unrelated. */
double nsk_unlikeness(const nsk_likeness *a, const nsk_likeness *b);

/* Whether two count as the same picture: by their hashes at most 7 bits apart, and an unlikeness of
 * at most 0.01. Of the demo's 1,200 held-out images, 99 % of copies made 10 % brighter, or two
 * thirds as large, stay below 0.010; no two different pictures come nearer than 0.015. Of 99 % of
 * such copies the hash differs in at most 4 bits. */
bool nsk_likeness_is_near(const nsk_likeness *a, const nsk_likeness *b);

#endif
