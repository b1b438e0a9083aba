/* emit/packages: what makes the folder a library of other build systems, where that takes a list of
 * its files: a CMSIS-Pack description, an Arduino library. */
#ifndef NSK_EMIT_PACKAGES_H
#define NSK_EMIT_PACKAGES_H

#include "emit/bundle.h"

/* Adds them for the sources that are in the bundle: of the runtime, the loop and the networks,
 * whose names are given, NULL behind the last. The first names the whole. */
void nsk_bundle_add_packages(nsk_bundle *bundle, const char *const *networks, const char *version,
                             const char *description);

#endif
