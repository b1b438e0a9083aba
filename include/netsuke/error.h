/* netsuke/error.h: what went wrong, and how far something is. */
#ifndef NETSUKE_ERROR_H
#define NETSUKE_ERROR_H

#include <stdbool.h>

#ifdef __cplusplus
extern "C" {
#endif

typedef struct nsk_error {
    char text[1200];
    bool unsupported; /* the file is sound, but asks for what netsuke does not do */
} nsk_error;

/* Called now and then by what takes long; never by two threads at once. */
typedef void (*nsk_progress)(void *context, int done, int total);

#ifdef __cplusplus
}
#endif
#endif
