/* brief/labels: the names of the classes, one a line, in the order of the network's outputs. */
#ifndef NSK_BRIEF_LABELS_H
#define NSK_BRIEF_LABELS_H

#include "brief/settings.h"
#include "images/label_names.h"
#include "netsuke/brief.h"

enum { NSK_MOST_LABELS = 1000 };

/* Empty lines at the end are ignored; an empty line before it, or a name twice, is an error. */
bool nsk_labels_read(const char *path, nsk_labels *labels, nsk_error *error);
/* [thresholds]: `every`, and any label by its name; labels->thresholds stays NULL where the brief
 * has no such group. */
bool nsk_labels_read_thresholds(const nsk_settings *settings, nsk_labels *labels, nsk_error *error);

#endif
