/* images/set: labelled sets of pictures (the calls stand in netsuke/images.h). A set is filled by a
 * scanner, one for each form that a set may have, and decodes on demand. */
#ifndef NSK_IMAGES_SET_H
#define NSK_IMAGES_SET_H

#include "images/array.h"
#include "images/label_names.h"
#include "images/label_sets.h"
#include "images/picture.h"
#include "netsuke/images.h"

typedef struct nsk_entry {
    char *path;
    int label;            /* or, where a picture may have several, the number of the set of them */
    int index;            /* in the set's array of pictures; -1: the path is a file */
    int moved_x, moved_y; /* pixels of the frame, to the right and down */
} nsk_entry;

struct nsk_images {
    GArray *entries; /* of nsk_entry */
    nsk_array array; /* the pictures, where one file holds them all */
    nsk_labels labels;
    nsk_label_sets *sets; /* NULL: a picture has one label */
    nsk_input input;
    bool tolerant;
    int found;            /* pictures, of which some may have been left aside */
    GPtrArray *left_out;  /* of char *, why */
    const nsk_images *of; /* whose all of this is, but for `entries`; NULL: its own */
};

/* A folder with one folder a class; a CSV of path,label; an array with an array of labels. How
 * several labels are said: netsuke/images.h. */
bool nsk_scan_folder(nsk_images *images, const char *folder, nsk_error *error);
bool nsk_scan_list(nsk_images *images, const char *path, nsk_error *error);
bool nsk_scan_array(nsk_images *images, const char *path, const char *labels_path,
                    nsk_error *error);

/* The pictures of such files, each with a label; those that cannot be read are left out. */
nsk_images *nsk_images_of_paths(const char *const *paths, const int *label_of, int count,
                                const nsk_labels *labels, const nsk_input *input);
/* Takes over `path`. */
void nsk_images_add(nsk_images *images, char *path, int label, int index);
/* Leaves something out of a tolerant set; false for any other. `error` holds the reason. */
bool nsk_leave_out(nsk_images *images, const nsk_error *error);
/* One picture of the set, as it is stored. */
bool nsk_images_picture(const nsk_images *images, int index, nsk_picture *picture,
                        nsk_error *error);

/* Appends the path of every picture in a folder and those in it, sorted by name. */
bool nsk_list_pictures(const char *folder, GPtrArray *paths, nsk_error *error);

/* Does the name end as a picture's does? */
bool nsk_is_picture_name(const char *name);

/* Bytes of one prepared frame. */
size_t nsk_frame_bytes(const nsk_input *input);

#endif
