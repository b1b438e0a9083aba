/* netsuke/version.h: which version of the library this is. */
#ifndef NETSUKE_VERSION_H
#define NETSUKE_VERSION_H

#ifdef __cplusplus
extern "C" {
#endif

/* Of these headers. The first changes where programs must be changed, the second where something is
 * added, the third else; while the first is 0, the second stands for it. */
#define NSK_VERSION_MAJOR 0
#define NSK_VERSION_MINOR 1
#define NSK_VERSION_PATCH 0
/* To compare with: #if NSK_VERSION_NUMBER >= NSK_VERSION_AT(0, 2, 0) */
#define NSK_VERSION_AT(major, minor, patch) ((major)*1000000 + (minor)*1000 + (patch))
#define NSK_VERSION_NUMBER                  NSK_VERSION_AT(NSK_VERSION_MAJOR, NSK_VERSION_MINOR, NSK_VERSION_PATCH)

/* "0.1.0": of the library that is linked. */
const char *nsk_version(void);

#ifdef __cplusplus
}
#endif
#endif
