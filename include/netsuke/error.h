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

/* What a program can tell apart; people read the line. */
typedef enum nsk_error_code {
    NSK_ERROR_CODE_NONE,
    NSK_ERROR_CODE_INPUT,       /* what was given is wrong */
    NSK_ERROR_CODE_UNSUPPORTED, /* it is sound, but asks for what netsuke does not do */
    NSK_ERROR_CODE_SYSTEM       /* a file could not be opened or written, memory not be had */
} nsk_error_code;

/* Functions that take one fill it where they fail, and only then; NULL is fine: nothing is said
 * then. */
typedef struct nsk_error {
    char text[1200]; /* one line of UTF-8: what is wrong, where, what to do */
    nsk_error_code code;
} nsk_error;

/* Writes one line into `error` (newlines in it become spaces, control characters question marks)
 * and returns false, so that a function can end with `return nsk_fail(...)`. */
bool nsk_fail(nsk_error *error, const char *format, ...) NSK_PRINTF(2, 3);
/* The same, with the other codes. */
bool nsk_unsupported(nsk_error *error, const char *format, ...) NSK_PRINTF(2, 3);
bool nsk_fail_system(nsk_error *error, const char *format, ...) NSK_PRINTF(2, 3);
/* Puts "what: " before the text that `error` already holds; returns false. */
bool nsk_fail_in(nsk_error *error, const char *format, ...) NSK_PRINTF(2, 3);

/* Called now and then by what takes long; never by two threads at once. */
typedef void (*nsk_progress)(void *context, int done, int total);

#ifdef __cplusplus
}
#endif
#endif
