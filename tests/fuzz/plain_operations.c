/* Which kinds of layer the plain runtime of fuzz-device has: no constants and no streams, so that a
 * build that leaves some out is met, too. */
#include "device/layer.h"

const nsk_streaming *const nsk_streaming_of_build = NULL;

const nsk_operation *const nsk_operations[NSK_KINDS] = {
    [NSK_CONV] = &nsk_conv,
    [NSK_DEPTHWISE] = &nsk_depthwise,
    [NSK_DENSE] = &nsk_dense,
    [NSK_MAX_POOL] = &nsk_max_pool,
    [NSK_AVERAGE_POOL] = &nsk_average_pool,
    [NSK_ADD] = &nsk_add,
    [NSK_MULTIPLY] = &nsk_multiply,
    [NSK_TABLE] = &nsk_table,
    [NSK_SOFTMAX] = &nsk_softmax,
    [NSK_LARGER] = &nsk_larger,
    [NSK_SMALLER] = &nsk_smaller,
    [NSK_MOVE] = &nsk_move,
    [NSK_RESIZE] = &nsk_resize,
    [NSK_TRANSPOSED] = &nsk_transposed,
};
