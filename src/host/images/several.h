/* images/several: sets of pictures that may have several labels at once: what lists and arrays say
 * of each. */
#ifndef NSK_IMAGES_SEVERAL_H
#define NSK_IMAGES_SEVERAL_H

#include "images/set.h"

/* Lines of path,labels, or a line of names above columns of 0 and 1; a picture that stands there
 * more than once has all of its lines' labels. */
bool nsk_several_of_lines(nsk_images *images, const char *list, const GArray *lines,
                          nsk_error *error);
/* A row of 0 and 1 for each picture of the set's array. */
bool nsk_several_of_array(nsk_images *images, const char *path, const nsk_array *labels,
                          const char *labels_path, nsk_error *error);

#endif
