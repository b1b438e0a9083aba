/* link/message: requests as bytes, and answers out of them: SLIP, CBOR, CRC-32 (docs/link.md). */
#ifndef NSK_LINK_MESSAGE_H
#define NSK_LINK_MESSAGE_H

#include <cbor.h>

#include "base/base.h"
#include "device/firmware/link_words.h"
#include "device/firmware/wire.h"

/* A message in its frame, from END to END, the checksum behind it. g_byte_array_unref. */
GByteArray *nsk_message_frame(const uint8_t *bytes, size_t count);

/* A request is built as a map of numbers by key. */
typedef struct nsk_request {
    cbor_item_t *map;
} nsk_request;

nsk_request nsk_request_new(nsk_link_what what, uint32_t number);
void nsk_request_add(nsk_request *request, nsk_link_key key, uint32_t value);
void nsk_request_add_bytes(nsk_request *request, nsk_link_key key, const uint8_t *bytes,
                           size_t count);
/* Its frame; frees the request. g_byte_array_unref. */
GByteArray *nsk_request_frame(nsk_request *request);

/* An answer is a map; nothing in it can be believed but that its checksum was right. */
/* NULL where the bytes are no map of the kind that links have. cbor_decref. */
cbor_item_t *nsk_answer_read(const uint8_t *bytes, size_t count);
/* The number at a key; false where there is none, or it has more than 32 bits. */
bool nsk_answer_number(const cbor_item_t *answer, nsk_link_key key, uint32_t *number);
/* The text at a key, cut to fit, without control characters; "" where there is none. */
void nsk_answer_text(const cbor_item_t *answer, nsk_link_key key, char *to, size_t size);
/* The bytes at a key, and how many; NULL where there are none. They live as long as the answer. */
const uint8_t *nsk_answer_bytes(const cbor_item_t *answer, nsk_link_key key, size_t *count);
/* The list at a key, or NULL; it lives as long as the answer. */
const cbor_item_t *nsk_answer_list(const cbor_item_t *answer, nsk_link_key key);
/* An element of a list as a number of 32 bits. */
bool nsk_answer_element(const cbor_item_t *list, size_t index, uint32_t *number);

#endif
