/* brief/labels: the names of the classes, one a line, in the order of the network's outputs. */
#ifndef NSK_BRIEF_LABELS_H
#define NSK_BRIEF_LABELS_H

#include "base/base.h"
#include "netsuke/brief.h"

enum { NSK_MOST_LABELS = 1000 };

/* Empty lines at the end are ignored; an empty line before it, or a name twice, is an error. */
bool nsk_labels_read(const char *path, nsk_labels *labels, nsk_error *error);
void nsk_labels_clear(nsk_labels *labels);

#endif
