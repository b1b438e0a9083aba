/* modelfile/file: a model file in memory, from its bytes. */
#ifndef NSK_MODELFILE_FILE_H
#define NSK_MODELFILE_FILE_H

#include "base/base.h"
#include "netsuke/quantise.h"

/* Takes over `bytes` (g_free), which must be a model file that opens. */
nsk_model_file *nsk_model_file_adopt(uint8_t *bytes, size_t size, nsk_error *error);

#endif
