/* attribute: an ONNX attribute out of a word. */
#ifndef NSK_TESTS_ATTRIBUTE_H
#define NSK_TESTS_ATTRIBUTE_H

#include <glib.h>

#include "onnx.pb-c.h"

/* "name=i1" a whole number, "=f0.5" a number, "=sword" a text, "=l1,2" whole numbers, "=$other" the
 * attribute of the function around it. `memory` frees with g_free. */
Onnx__AttributeProto *attribute_of(GPtrArray *memory, const char *word);

#endif
