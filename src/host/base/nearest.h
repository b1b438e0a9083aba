/* base/nearest: the word that was probably meant. */
#ifndef NSK_BASE_NEAREST_H
#define NSK_BASE_NEAREST_H

/* The one of `known` (ending with NULL) that `word` is another spelling or another name of, or that
 * is at most two slips away (one in words of four letters and fewer); NULL where there is none. */
const char *nsk_nearest(const char *word, const char *const *known);

/* "; did you mean 'colour'?", or "". g_free. */
char *nsk_did_you_mean(const char *word, const char *const *known);

#endif
