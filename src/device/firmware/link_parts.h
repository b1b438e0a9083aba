/* link_parts: what the parts of a link's end share: how an answer begins, and a handler of each
 * request. Every request may come twice, and must do the same as once then. */
#ifndef NSK_FIRMWARE_LINK_PARTS_H
#define NSK_FIRMWARE_LINK_PARTS_H

#include "link_words.h"
#include "netsuke/link.h"
#include "wire.h"

/* link_answers.c. Begins an answer, with `more` keys of its own, that the caller adds and ends. */
void nsk_link_begin_answer(nsk_wire *wire, const nsk_link *link, const nsk_wire_map *asked,
                           nsk_link_answer answer, unsigned more);
/* A whole answer: nothing more is to be said than how it went. */
void nsk_link_say(const nsk_link *link, const nsk_wire_map *asked, nsk_link_answer answer);
/* A bit for each kind of layer that this build has. */
uint32_t nsk_link_kinds(void);
/* link_memory.c. Divides the memory up for a model, which runs from then on. Where that is not
 * possible, another one must be laid out instead. */
nsk_status nsk_link_lay(nsk_link *link, const void *model, size_t model_bytes);

/* link_frames.c. What looks at layers as they run. With a frame's last row the network is run. */
void nsk_link_set_observer(nsk_link *link);
void nsk_link_begin_frame(nsk_link *link, uint32_t frame, uint32_t sums);
void nsk_link_feed(nsk_link *link, const uint8_t *pixels, unsigned rows);
bool nsk_link_has_run(const nsk_link *link, const nsk_wire_map *asked);
void nsk_link_rows(nsk_link *link, const nsk_wire_map *asked);
void nsk_link_scores(nsk_link *link, const nsk_wire_map *asked);
void nsk_link_layers(nsk_link *link, const nsk_wire_map *asked);

/* link_models.c. Starts the newest model that is sound and fits: of the slots, or the one built in.
 */
nsk_status nsk_link_start_model(nsk_link *link);
void nsk_link_model(nsk_link *link, const nsk_wire_map *asked);
void nsk_link_try(nsk_link *link, const nsk_wire_map *asked);
void nsk_link_keep(nsk_link *link, const nsk_wire_map *asked);
void nsk_link_back(nsk_link *link, const nsk_wire_map *asked);

/* link_live.c. What a camera takes of memory, without the picture that is kept; that picture; a
 * side of it: the model's where the camera says nothing, 0 where there is no camera. */
size_t nsk_link_camera_bytes(const nsk_link_port *port, const nsk_model *model);
size_t nsk_link_picture_bytes(const nsk_link_port *port, const nsk_model *model);
unsigned nsk_link_camera_size(const nsk_link_port *port, unsigned of_model, bool height);
/* For the link's model; a status where its pictures cannot be brought to that one's frames. */
nsk_status nsk_link_set_camera(nsk_link *link, uint8_t *memory);
void nsk_link_rule(nsk_link *link, const nsk_wire_map *asked);
void nsk_link_look(nsk_link *link, const nsk_wire_map *asked);
void nsk_link_picture(nsk_link *link, const nsk_wire_map *asked);

#endif
