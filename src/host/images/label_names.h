/* images/label_names: the labels of a job by their names. */
#ifndef NSK_IMAGES_LABEL_NAMES_H
#define NSK_IMAGES_LABEL_NAMES_H

#include "base/base.h"
#include "netsuke/brief.h"

/* A copy of its own; nsk_labels_clear frees it. */
void nsk_labels_copy(const nsk_labels *from, nsk_labels *to);
void nsk_labels_clear(nsk_labels *labels);
/* The label of that name, however its accents are composed; -1 where there is none. */
int nsk_label_index(const nsk_labels *labels, const char *name);
/* The label of that name, or in that place of the labels file, counted from 0; -1 for none. */
int nsk_label_of_text(const nsk_labels *labels, const char *text);

#endif
