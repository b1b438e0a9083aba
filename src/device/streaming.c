/* Streaming, for those who open any model. */
#include "layer.h"

const nsk_streaming *const nsk_streaming_of_build = &nsk_streams;
