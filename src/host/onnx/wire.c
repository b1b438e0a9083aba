/* The encoding: protobuf's wire format. A tag is a field's number and a wire type; then a varint, 8
 * bytes, a length and so many bytes, or 4 bytes. */
#include "onnx/wire.h"

enum { VARINT = 0, EIGHT_BYTES = 1, LENGTH = 2, FOUR_BYTES = 5 };
enum { MOST_DEPTH = 64, MOST_MESSAGES = 2000000 };

typedef struct scan {
    const uint8_t *at;
    int messages;
    const char *fault;
} scan;

static bool read_varint(scan *s, const uint8_t *end, uint64_t *number) {
    *number = 0;
    for (unsigned shift = 0; shift < 64 && s->at < end; shift += 7) {
        uint8_t byte = *s->at++;
        *number |= (uint64_t)(byte & 0x7fU) << shift;
        if (byte < 0x80) {
            return true;
        }
    }
    return false;
}

static bool skip(scan *s, const uint8_t *end, uint64_t bytes) {
    bool good = bytes <= (uint64_t)(end - s->at);
    s->at += good ? bytes : 0;
    return good;
}

static bool scan_message(scan *s, const uint8_t *end, const ProtobufCMessageDescriptor *of,
                         int depth);

static bool scan_bytes(scan *s, const uint8_t *end, const ProtobufCFieldDescriptor *field,
                       int depth) {
    uint64_t bytes;
    if (!read_varint(s, end, &bytes) || bytes > (uint64_t)(end - s->at)) {
        return false;
    }
    return field != NULL && field->type == PROTOBUF_C_TYPE_MESSAGE
               ? scan_message(s, s->at + bytes, field->descriptor, depth + 1)
               : skip(s, end, bytes);
}

/* NOLINTNEXTLINE(misc-no-recursion): no deeper than MOST_DEPTH */
static bool scan_message(scan *s, const uint8_t *end, const ProtobufCMessageDescriptor *of,
                         int depth) {
    if (depth > MOST_DEPTH || ++s->messages > MOST_MESSAGES) {
        s->fault = depth > MOST_DEPTH ? "its messages are nested more than 64 deep"
                                      : "it has more than 2,000,000 messages";
        return false;
    }
    bool good = true;
    while (s->at < end && good) {
        uint64_t tag;
        uint64_t ignored;
        good = read_varint(s, end, &tag) && tag >> 3 <= UINT32_MAX;
        const ProtobufCFieldDescriptor *field =
            good ? protobuf_c_message_descriptor_get_field(of, (unsigned)(tag >> 3)) : NULL;
        switch (good ? (int)(tag & 7U) : -1) {
        case VARINT:
            good = read_varint(s, end, &ignored);
            break;
        case EIGHT_BYTES:
            good = skip(s, end, 8);
            break;
        case LENGTH:
            good = scan_bytes(s, end, field, depth);
            break;
        case FOUR_BYTES:
            good = skip(s, end, 4);
            break;
        default:
            good = false;
            break;
        }
    }
    return good;
}

bool nsk_onnx_wire_is_good(const uint8_t *bytes, size_t size, nsk_error *error) {
    return nsk_onnx_wire_fits(bytes, size, &onnx__model_proto__descriptor, error);
}

bool nsk_onnx_wire_fits(const uint8_t *bytes, size_t size, const ProtobufCMessageDescriptor *of,
                        nsk_error *error) {
    scan s = {.at = bytes};
    bool good = scan_message(&s, bytes + size, of, 0);
    return good || (s.fault != NULL ? nsk_fail(error, "no network: %s", s.fault)
                                    : nsk_fail(error, "not an ONNX model, or cut short"));
}
