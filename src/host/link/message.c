/* Requests and answers of a link. */
#include "link/message.h"

#include <string.h>

#include "device/crc.h"

/* ---- requests ---- */

static void add(nsk_request *request, unsigned key, cbor_item_t *value) {
    if (!cbor_map_add(request->map, (struct cbor_pair){cbor_move(cbor_build_uint8((uint8_t)key)),
                                                       cbor_move(value)})) {
        g_error("a request has more keys than it was made for");
    }
}

nsk_request nsk_request_new(nsk_link_what what, uint32_t number) {
    nsk_request request = {cbor_new_definite_map(NSK_WIRE_FIELDS)};
    nsk_request_add(&request, NSK_KEY_WHAT, (uint32_t)what);
    nsk_request_add(&request, NSK_KEY_NUMBER, number);
    return request;
}

void nsk_request_add(nsk_request *request, nsk_link_key key, uint32_t value) {
    add(request, key, cbor_build_uint32(value));
}

void nsk_request_add_bytes(nsk_request *request, nsk_link_key key, const uint8_t *bytes,
                           size_t count) {
    add(request, key, cbor_build_bytestring(bytes, count));
}

static void append_end(GByteArray *frame) {
    static const uint8_t end = NSK_SLIP_END;
    g_byte_array_append(frame, &end, 1);
}

static void append(GByteArray *frame, const uint8_t *bytes, size_t count) {
    static const uint8_t end[] = {NSK_SLIP_ESC, NSK_SLIP_ESC_END};
    static const uint8_t escape[] = {NSK_SLIP_ESC, NSK_SLIP_ESC_ESC};
    for (size_t i = 0; i < count; i++) {
        if (bytes[i] == NSK_SLIP_END) {
            g_byte_array_append(frame, end, sizeof end);
        } else if (bytes[i] == NSK_SLIP_ESC) {
            g_byte_array_append(frame, escape, sizeof escape);
        } else {
            g_byte_array_append(frame, &bytes[i], 1);
        }
    }
}

GByteArray *nsk_message_frame(const uint8_t *bytes, size_t count) {
    const uint32_t sum = GUINT32_TO_LE(nsk_crc32(0, bytes, count));
    GByteArray *frame = g_byte_array_new();
    append_end(frame);
    append(frame, bytes, count);
    append(frame, (const uint8_t *)&sum, sizeof sum);
    append_end(frame);
    return frame;
}

GByteArray *nsk_request_frame(nsk_request *request) {
    unsigned char *bytes = NULL;
    size_t room = 0;
    const size_t count = cbor_serialize_alloc(request->map, &bytes, &room);
    GByteArray *frame = nsk_message_frame(bytes, count);
    free(bytes);
    cbor_decref(&request->map);
    return frame;
}

/* ---- answers ---- */

cbor_item_t *nsk_answer_read(const uint8_t *bytes, size_t count) {
    struct cbor_load_result result;
    nsk_wire_map known;
    /* the library would take memory for lists as long as they claim to be: here nothing is longer
     * than its bytes */
    if (count > UINT32_MAX || !nsk_wire_read(&known, bytes, (uint32_t)count)) {
        return NULL;
    }
    cbor_item_t *answer = cbor_load(bytes, count, &result);
    if (answer != NULL && !cbor_isa_map(answer)) {
        cbor_decref(&answer);
    }
    return answer;
}

static bool number_of(const cbor_item_t *item, uint32_t *number) {
    const bool good = cbor_isa_uint(item) && cbor_get_int(item) <= UINT32_MAX;
    if (good) {
        *number = (uint32_t)cbor_get_int(item);
    }
    return good;
}

static const cbor_item_t *find(const cbor_item_t *answer, nsk_link_key key) {
    const struct cbor_pair *pairs = cbor_map_handle(answer);
    for (size_t i = 0; i < cbor_map_size(answer); i++) {
        uint32_t number;
        if (number_of(pairs[i].key, &number) && number == (uint32_t)key) {
            return pairs[i].value;
        }
    }
    return NULL;
}

bool nsk_answer_number(const cbor_item_t *answer, nsk_link_key key, uint32_t *number) {
    const cbor_item_t *item = find(answer, key);
    return item != NULL && number_of(item, number);
}

void nsk_answer_text(const cbor_item_t *answer, nsk_link_key key, char *to, size_t size) {
    const cbor_item_t *item = find(answer, key);
    size_t length = 0;
    if (item != NULL && cbor_isa_string(item) && cbor_string_is_definite(item)) {
        length = MIN(cbor_string_length(item), size - 1);
        memcpy(to, cbor_string_handle(item), length);
    }
    to[length] = '\0';
    nsk_make_visible(to);
}

const uint8_t *nsk_answer_bytes(const cbor_item_t *answer, nsk_link_key key, size_t *count) {
    const cbor_item_t *item = find(answer, key);
    const bool good =
        item != NULL && cbor_isa_bytestring(item) && cbor_bytestring_is_definite(item);
    *count = good ? cbor_bytestring_length(item) : 0;
    return good ? cbor_bytestring_handle(item) : NULL;
}

const cbor_item_t *nsk_answer_list(const cbor_item_t *answer, nsk_link_key key) {
    const cbor_item_t *item = find(answer, key);
    return item != NULL && cbor_isa_array(item) ? item : NULL;
}

bool nsk_answer_element(const cbor_item_t *list, size_t index, uint32_t *number) {
    return index < cbor_array_size(list) && number_of(cbor_array_handle(list)[index], number);
}
