/* handed: code sizes as a linker places them, of a hand-over with every kind of layer; and by how
 * much the product's loop is deeper than the layers. */
#ifndef NSK_COSTS_HANDED_H
#define NSK_COSTS_HANDED_H

#include "base/base.h"

/* Hands networks of all kinds over into `folder`, which is made, builds them for the core there,
 * and appends [stack-loop], and [code] with a line a file of the runtime: "conv = 1012 B". */
bool handed_code(const char *core, const char *folder, GString *to, nsk_error *error);

#endif
