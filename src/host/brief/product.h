/* brief/product: what a brief says of the product around the model, its camera first. */
#ifndef NSK_BRIEF_PRODUCT_H
#define NSK_BRIEF_PRODUCT_H

#include "brief/settings.h"
#include "netsuke/brief.h"

/* [firmware], [battery]. */
bool nsk_product_read(const nsk_settings *settings, nsk_product *product, nsk_error *error);
/* [camera]: into the brief's product, and into its input. Behind both of them. */
bool nsk_sensor_read(const nsk_settings *settings, nsk_brief *brief, nsk_error *error);
/* A frame that is run twice is held whole. */
bool nsk_product_hold_frames(const nsk_settings *settings, nsk_brief *brief, nsk_error *error);

#endif
