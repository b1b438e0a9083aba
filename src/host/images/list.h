/* images/list: a CSV of path,label (RFC 4180; either line ending, a byte order mark, more columns
 * behind, a header line). */
#ifndef NSK_IMAGES_LIST_H
#define NSK_IMAGES_LIST_H

#include "base/base.h"

typedef struct nsk_list_line {
    char **cells; /* path, label, and what stands behind; NULL behind the last */
    int count;    /* of cells: two at least */
    int line;     /* in the file, from 1 */
} nsk_list_line;

/* The lines, GArray of nsk_list_line; NULL and an error where the file is none. `bare`: a label may
 * be empty. */
GArray *nsk_list_parse(const char *text, size_t size, bool bare, nsk_error *error);
void nsk_list_free(GArray *lines);

#endif
