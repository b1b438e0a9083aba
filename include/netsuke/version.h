/* netsuke/version.h: which version of the library this is. */
#ifndef NETSUKE_VERSION_H
#define NETSUKE_VERSION_H

#ifdef __cplusplus
extern "C" {
#endif

/* "0.1.0": of the library that is linked. */
const char *nsk_version(void);

#ifdef __cplusplus
}
#endif
#endif
