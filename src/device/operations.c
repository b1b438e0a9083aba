/* All kinds of layer: for those who open any model. Linking this links every kernel. */
#include "layer.h"

#define NSK_KIND_ROW(number, NAME, name, text, form, files)                                        \
    _Static_assert(NSK_KIND_##NAME == (number), "netsuke/device.h and kinds.def number it alike");
#include "kinds.def"

const nsk_operation *const nsk_operations[NSK_KINDS] = {
#define NSK_KIND_ROW(number, NAME, name, text, form, files)                                        \
    [NSK_KIND_##NAME] = &nsk_operation_##name,
#include "kinds.def"
};
