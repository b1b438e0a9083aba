/* images/array: IDX and NPY files, gzipped or not, mapped rather than read: a set larger than RAM
 * works. */
#ifndef NSK_IMAGES_ARRAY_H
#define NSK_IMAGES_ARRAY_H

#include "images/picture.h"

typedef enum nsk_element {
    NSK_ELEMENT_UNSIGNED, /* of 1, 2, 4 or 8 bytes */
    NSK_ELEMENT_SIGNED,
    NSK_ELEMENT_REAL
} nsk_element;

enum { NSK_ARRAY_RANK = 4 };

typedef struct nsk_array {
    nsk_element element;
    unsigned width; /* bytes of an element */
    bool big_endian;
    int rank;
    size_t dims[NSK_ARRAY_RANK];
    const uint8_t *data;
    GMappedFile *file; /* what keeps the data, or NULL */
} nsk_array;

/* Does the name end as such a file's does, or the file start as one? */
bool nsk_array_is_one(const char *path);

/* Opens a file; what is gzipped is unpacked into a temporary file first, at most 16 GiB. */
bool nsk_array_open(const char *path, nsk_array *array, nsk_error *error);
void nsk_array_close(nsk_array *array);

/* Looks at the bytes of a file that is not gzipped; they stay where they are. */
bool nsk_array_of(const uint8_t *bytes, size_t size, nsk_array *array, nsk_error *error);

/* Is it pictures: N x H x W, N x H x W x C or N x C x H x W of bytes, C 1 or 3? */
bool nsk_array_is_pictures(const nsk_array *array, nsk_error *error);
void nsk_array_picture(const nsk_array *array, size_t index, nsk_picture *picture);

/* Cuts "[7]" off a picture's name and returns 7; -1 where it has none. */
int nsk_array_cut_index(char *name);
/* Reads a picture by its name: a file, or one of an array's, as in "FILE[7]". */
bool nsk_picture_named(const char *name, nsk_picture *picture, nsk_error *error);

/* Is it one whole number a picture? */
bool nsk_array_is_labels(const nsk_array *array, nsk_error *error);
int64_t nsk_array_integer(const nsk_array *array, size_t index);
/* Any element; of real ones those of 4 and 8 bytes, NAN of others. */
double nsk_array_number(const nsk_array *array, size_t index);

/* The label file that belongs to a picture file by its name ("images" to "labels", idx3 or idx4 to
 * idx1; NAME.npy to NAME-labels.npy), where there is one; else NULL. g_free. */
char *nsk_array_labels_beside(const char *path);

#endif
