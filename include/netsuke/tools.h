/* netsuke/tools.h: what a program around the library needs, too: strings, names, files. */
#ifndef NETSUKE_TOOLS_H
#define NETSUKE_TOOLS_H

#include <stddef.h>

#include "netsuke/error.h"

#ifdef __cplusplus
extern "C" {
#endif

/* Frees what a function of the library gave as numbers, a string, or a list of strings; NULL is
 * fine. */
void nsk_free(void *numbers);
void nsk_string_free(char *string);
void nsk_strings_free(char **strings);

/* Turns control characters, with which a name could command a terminal, into question marks. */
void nsk_make_visible(char *text);

/* The one of `known` (ending with NULL) that `word` is another spelling or another name of, or that
 * is at most two slips away (one in words of four letters and fewer); NULL where there is none. */
const char *nsk_nearest(const char *word, const char *const *known);
/* "; did you mean 'colour'?", or "". nsk_string_free. */
char *nsk_did_you_mean(const char *word, const char *const *known);

/* Writes to a temporary file beside `path`, then renames: `path` is whole or untouched. */
bool nsk_file_write(const char *path, const void *bytes, size_t size, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
