/* base: what every step of the host half shares: one-line errors, whole-file input and output. */
#ifndef NSK_BASE_BASE_H
#define NSK_BASE_BASE_H

#include <glib.h>
#include <stdbool.h>
#include <stddef.h>
#include <stdint.h>

#include "netsuke/error.h"
#include "netsuke/tools.h"

/* What a thread of its own met, to whom it may concern; returns false. */
bool nsk_error_copy(nsk_error *to, const nsk_error *from);

/* The whole of a file; NULL and `error` on failure. The caller frees with g_free. What
 * is larger than `limit` bytes or no file is refused. One zero byte stands behind the content. */
uint8_t *nsk_file_read(const char *path, size_t limit, size_t *size, nsk_error *error);

/* Where a text begins: past the byte order mark that some editors put before it. */
const char *nsk_past_mark(const char *text);

/* `path` as seen from the folder of the file `base`; an absolute path stays as it is. g_free. */
char *nsk_path_beside(const char *base, const char *path);

/* A file's name without its folder and ending. g_free. */
char *nsk_stem(const char *path);

#endif
