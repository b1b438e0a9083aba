/* images/label_sets: where one picture may have several labels at once: the sets of labels that
 * there are, each known by a number. */
#ifndef NSK_IMAGES_LABEL_SETS_H
#define NSK_IMAGES_LABEL_SETS_H

#include "base/base.h"
#include "netsuke/brief.h"

typedef struct nsk_label_sets nsk_label_sets;

nsk_label_sets *nsk_label_sets_new(int labels);
void nsk_label_sets_free(nsk_label_sets *sets);
/* The number of a set, from 0; a new one gets the next. `has`: for each label, whether it is in it.
 */
int nsk_label_sets_number(nsk_label_sets *sets, const bool *has);
int nsk_label_sets_count(const nsk_label_sets *sets);
const bool *nsk_label_sets_at(const nsk_label_sets *sets, int number);
/* "crack+chip", as folders are called; "none" for the empty set. g_free. */
char *nsk_label_set_text(const bool *has, const nsk_labels *labels);

/* The set that a text names: labels, or their places in the labels file, parted by ';', '|', '+' or
 * blanks; a label that has such a sign in its name stands alone. Nothing, or "none", is the empty
 * set. False, and the part that is no label in `unknown` (g_free), where there is one. */
bool nsk_label_set_of_text(const nsk_labels *labels, const char *text, bool *has, char **unknown);

#endif
