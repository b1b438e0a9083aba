/* netsuke/images.h: sets of labelled images, as the network gets them. */
#ifndef NETSUKE_IMAGES_H
#define NETSUKE_IMAGES_H

#include "netsuke/brief.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct nsk_images nsk_images;

/* Opens a set: a folder with one folder a class (PNG, JPEG, BMP, PNM; folders in those count as
 * part of the class), a CSV of path,label with paths as seen from the file, or an IDX or NPY array
 * of bytes, gzipped or not, whose labels stand in the file of that name with "labels" for "images"
 * or "-labels" before ".npy". `limit` > 0 keeps that many pictures, spread evenly over the classes.
 * Where pictures may have several labels at once (labels->thresholds), a folder is called as all
 * that its pictures have, "crack+chip", or "none"; a CSV's line has them parted by ';', '|', '+' or
 * blanks, or a line of names stands above columns of 0 and 1, and lines of one picture add up; the
 * array of labels has a row of 0 and 1 for each picture.
 * A folder or line that no label names, a label without pictures and an unreadable image are
 * errors; if `tolerant`, they are left out instead, and each is kept as a note.
 * Pictures are decoded when they are asked for, not before; arrays stay on disk. */
nsk_images *nsk_images_open(const char *folder, const nsk_labels *labels, const nsk_input *input,
                            int limit, bool tolerant, nsk_error *error);
/* The same for an array whose labels stand in a file of any name. */
nsk_images *nsk_images_open_array(const char *path, const char *labels_path,
                                  const nsk_labels *labels, const nsk_input *input, int limit,
                                  bool tolerant, nsk_error *error);
/* Keeps of each class's pictures every `of`-th, or all but those: two sets opened alike become two
 * that have nothing in common. */
void nsk_images_keep(nsk_images *images, int of, bool every);
void nsk_images_free(nsk_images *images);
int nsk_images_count(const nsk_images *images);
/* How many there were before the limit. */
int nsk_images_found(const nsk_images *images);
/* The picture's label, as a place in the labels file; where it may have several, the number of the
 * set of labels that it has, below nsk_images_label_sets. */
int nsk_images_label(const nsk_images *images, int index);
/* How many such there are: of labels, or of sets of labels among these pictures. */
int nsk_images_label_sets(const nsk_images *images);
/* Whether a picture has a label. */
bool nsk_images_has(const nsk_images *images, int index, int label);
/* The file, or "ARRAY[17]". */
const char *nsk_images_path(const nsk_images *images, int index);
const nsk_labels *nsk_images_labels(const nsk_images *images);
const nsk_input *nsk_images_input(const nsk_images *images);
/* How many things were left out by `tolerant`, and each of them in words. */
int nsk_images_left_out(const nsk_images *images);
const char *nsk_images_left_out_at(const nsk_images *images, int index);
/* What light and lens make of a frame as the network gets it, in levels of 255: the mean of its
 * luma, its standard deviation, and by how much red is brighter than blue. */
typedef enum nsk_light {
    NSK_LIGHT_BRIGHTNESS,
    NSK_LIGHT_CONTRAST,
    NSK_LIGHT_WARMTH,
    NSK_LIGHTS
} nsk_light;

/* Bytes of one prepared frame: width x height x channels. */
size_t nsk_images_frame_bytes(const nsk_images *images);
/* One picture as the camera would give it: resized, channels in the input's order. */
bool nsk_images_frame(const nsk_images *images, int index, uint8_t *frame, nsk_error *error);
/* The same of the picture as it is stored, which has not gone through the input's sensor. */
bool nsk_images_stored_frame(const nsk_images *images, int index, uint8_t *frame, nsk_error *error);

/* Reads and prepares any one picture, in the same way. */
bool nsk_picture_frame(const char *path, const nsk_input *input, uint8_t *frame, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
