/* Which kinds of layer the plain runtime of fuzz-device has: no constants and no streams, so that a
 * build that leaves some out is met, too. */
#include "device/layer.h"

const nsk_streaming *const nsk_streaming_of_build = NULL;

const nsk_operation *const nsk_operations[NSK_KINDS] = {
#define NSK_KIND_ROW(number, NAME, name, text, form, files)                                        \
    [NSK_KIND_##NAME] = (number) == NSK_KIND_CONSTANT ? NULL : &nsk_operation_##name,
#include "device/kinds.def"
};
