/* emit/product: what is handed over of the product around a network: its nsk_firmware, filled in as
 * the brief has it, and what its loop must do on the self-test's pictures. */
#ifndef NSK_EMIT_PRODUCT_H
#define NSK_EMIT_PRODUCT_H

#include "base/base.h"
#include "netsuke/emit.h"

/* "NAME_firmware.c". */
GString *nsk_firmware_source(const nsk_handed_network *network, const nsk_model *model);

/* Appends "static const self_test_step NAME_steps[] = {...};", computed by the same loop here, and
 * says how many there are, how often each frame is shown, and the bytes of memory that it takes. */
bool nsk_append_steps(GString *text, const nsk_handed_network *network, const nsk_model *model,
                      unsigned *steps, unsigned *each, size_t *memory, nsk_error *error);

/* Bytes that a board at a link has for the link, its camera's picture with it; and for the lines of
 * its camera's sensor. */
size_t nsk_link_memory(const nsk_handed_network *network, const nsk_model *model);
size_t nsk_sensor_memory(const nsk_handed_network *network, const nsk_model *model);

#endif
