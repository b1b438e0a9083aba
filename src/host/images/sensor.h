/* images/sensor: pictures as a sensor sends them, and as the device reads them again:
 * docs/sensors.md. */
#ifndef NSK_IMAGES_SENSOR_H
#define NSK_IMAGES_SENSOR_H

#include "images/picture.h"

/* Whether pictures go through anything at all. */
bool nsk_input_is_sensed(const nsk_input *input);

/* Bytes of all lines of a sensor's picture of that size. */
size_t nsk_sent_bytes(const nsk_input *input, int width, int height);
/* What the sensor sends of a picture of its size that is upright and not mirrored: line by line. */
void nsk_picture_send(const nsk_picture *picture, const nsk_input *input, uint8_t *lines);

/* What the device sees: the picture sent, and read again. One of the sensor's size is what that
 * sees, and becomes the part that is looked at; one of any other size is taken for that part
 * already, and goes through the format at its own size. */
void nsk_picture_sense(const nsk_picture *picture, const nsk_input *input, nsk_picture *result);

#endif
