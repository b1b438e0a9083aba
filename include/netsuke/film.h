/* netsuke/film: what the simulated camera shows, picture by picture, and what is truly there. */
#ifndef NETSUKE_FILM_H
#define NETSUKE_FILM_H

#include "netsuke/images.h"

#ifdef __cplusplus
extern "C" {
#endif

enum { NSK_NOBODY_KNOWS = -1 };

typedef struct nsk_film nsk_film;

/* A set's pictures, as large as frames, so many of them (0: all) in an order drawn from `seed`. The
 * set must outlive the film. */
nsk_film *nsk_film_of_set(const nsk_images *images, int frames, unsigned seed);
/* A scene: a CSV of picture,truth in the order of time; a picture is a file, or "frames.npy[7]", as
 * seen from the CSV; a truth is a label, or '-' where nobody can say. Where there may be several
 * labels at once it may be several, of which the first in the labels' order counts, or "none". All
 * pictures are of one size, no smaller than what the product's camera gives (the model's frames,
 * where it does not say), and become that. At most `most` of them (0: all). */
nsk_film *nsk_film_read(const char *path, const nsk_labels *labels, const nsk_input *input,
                        const nsk_product *product, int most, nsk_error *error);
void nsk_film_free(nsk_film *film);

int nsk_film_frames(const nsk_film *film);
/* Pixels of a picture that the camera gives; as pictures of a scene are stored. */
void nsk_film_size(const nsk_film *film, int *width, int *height);
void nsk_film_stored_size(const nsk_film *film, int *width, int *height);
/* The model's frame of a picture's pixels, as the host half makes it. */
void nsk_film_frame(const nsk_film *film, const uint8_t *pixels, uint8_t *frame);
/* Bytes of what the sensor sends of a picture, where it is no pixels as they are; 0: it is, or
 * these are frames that have gone through it. And that itself, of a picture's pixels. */
size_t nsk_film_sent(const nsk_film *film);
void nsk_film_send(const nsk_film *film, const uint8_t *pixels, uint8_t *lines);
/* Of a label's class, or NSK_NOBODY_KNOWS; of no label where there may be several: one past the
 * last. */
int nsk_film_truth(const nsk_film *film, int frame);
/* Whether the frame shows that: a label, or, one past the last, none. */
bool nsk_film_shows(const nsk_film *film, int frame, int label);
const char *nsk_film_name(const nsk_film *film, int frame);
/* Writes width x height x channels bytes in the input's order. */
bool nsk_film_picture(const nsk_film *film, int frame, uint8_t *to, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
