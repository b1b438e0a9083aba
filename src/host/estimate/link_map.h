/* link_map: what a linker placed, object by object, from the map that GNU ld writes. */
#ifndef NSK_ESTIMATE_LINK_MAP_H
#define NSK_ESTIMATE_LINK_MAP_H

#include "base/base.h"

/* Bytes of one object: code and constants, variables that have a first value, others. */
typedef struct nsk_linked {
    char *object; /* its file without folder and ending */
    double text, data, bss;
} nsk_linked;

/* GArray of nsk_linked in the order of the map; NULL and an error where the file is none. */
GArray *nsk_link_map_read(const char *path, nsk_error *error);
/* The same of the text; `path` is for errors. */
GArray *nsk_link_map_parse(const char *text, const char *path, nsk_error *error);
void nsk_link_map_free(GArray *objects);
/* Whether it belongs to the runtime or the product's loop. Runs in slices, which only who asks for
 * them has, do not: the self-test does. */
bool nsk_linked_is_runtime(const nsk_linked *one);

#endif
