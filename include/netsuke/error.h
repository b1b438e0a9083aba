/* netsuke/error.h: what went wrong, and how far something is. */
#ifndef NETSUKE_ERROR_H
#define NETSUKE_ERROR_H

#include <stdbool.h>

#if defined(__GNUC__)
#define NSK_PRINTF(text, first) __attribute__((format(printf, text, first)))
#else
#define NSK_PRINTF(text, first)
#endif

#ifdef __cplusplus
extern "C" {
#endif

typedef struct nsk_error {
    char text[1200];
    bool unsupported; /* the file is sound, but asks for what netsuke does not do */
} nsk_error;

/* Writes one line into `error` (newlines in it become spaces, control characters question marks)
 * and returns false, so that a function can end with `return nsk_fail(...)`. */
bool nsk_fail(nsk_error *error, const char *format, ...) NSK_PRINTF(2, 3);
/* The same, for a file that is sound but asks for what netsuke does not do. */
bool nsk_unsupported(nsk_error *error, const char *format, ...) NSK_PRINTF(2, 3);
/* Puts "what: " before the text that `error` already holds; returns false. */
bool nsk_fail_in(nsk_error *error, const char *format, ...) NSK_PRINTF(2, 3);

/* Called now and then by what takes long; never by two threads at once. */
typedef void (*nsk_progress)(void *context, int done, int total);

#ifdef __cplusplus
}
#endif
#endif
