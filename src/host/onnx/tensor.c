#include "onnx/tensor.h"

#include <math.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_AXIS = 1 << 28 };
static const size_t MOST_BYTES = (size_t)1 << 30;

/* How elements stand in raw data, and in which of the typed fields. Those of 4 bits stand two in a
 * byte, the first in its lower half, and so they do in the typed field. */
typedef enum field { IN_FLOATS, IN_DOUBLES, IN_INT32S, IN_INT64S, IN_UINT64S } field;

typedef struct element_type {
    int type, bits;
    bool whole, is_unsigned;
    field typed;
    double (*number)(const uint8_t *raw);
    int64_t (*integer)(const uint8_t *raw);
} element_type;

/* Of a standard that is newer than the schema. */
enum { UINT4 = 21, INT4 = 22 };

/* IEEE 754 binary16. */
static double half_number(uint16_t bits) {
    int exponent = bits >> 10 & 31;
    int fraction = bits & 1023;
    double magnitude = exponent == 0    ? ldexp(fraction, -24)
                       : exponent == 31 ? (fraction == 0 ? INFINITY : NAN)
                                        : ldexp(fraction + 1024, exponent - 25);
    return bits >> 15 ? -magnitude : magnitude;
}

#define NUMBER_READER(name, type)                                                                  \
    static double name(const uint8_t *raw) {                                                       \
        type x;                                                                                    \
        memcpy(&x, raw, sizeof x);                                                                 \
        return (double)x;                                                                          \
    }
#define INTEGER_READER(name, type)                                                                 \
    static int64_t name(const uint8_t *raw) {                                                      \
        type x;                                                                                    \
        memcpy(&x, raw, sizeof x);                                                                 \
        return (int64_t)x;                                                                         \
    }
NUMBER_READER(read_float, float)
NUMBER_READER(read_double, double)
INTEGER_READER(read_int8, int8_t)
INTEGER_READER(read_uint8, uint8_t)
INTEGER_READER(read_int16, int16_t)
INTEGER_READER(read_uint16, uint16_t)
INTEGER_READER(read_int32, int32_t)
INTEGER_READER(read_uint32, uint32_t)
INTEGER_READER(read_int64, int64_t)

static double read_half(const uint8_t *raw) {
    uint16_t bits;
    memcpy(&bits, raw, sizeof bits);
    return half_number(bits);
}

/* The upper half of a binary32. */
static double read_bfloat(const uint8_t *raw) {
    uint16_t bits;
    memcpy(&bits, raw, sizeof bits);
    const uint32_t whole = (uint32_t)bits << 16;
    float x;
    memcpy(&x, &whole, sizeof x);
    return (double)x;
}

static const element_type types[] = {
    {ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT, 32, false, false, IN_FLOATS, read_float, NULL},
    {ONNX__TENSOR_PROTO__DATA_TYPE__DOUBLE, 64, false, false, IN_DOUBLES, read_double, NULL},
    {ONNX__TENSOR_PROTO__DATA_TYPE__FLOAT16, 16, false, false, IN_INT32S, read_half, NULL},
    {ONNX__TENSOR_PROTO__DATA_TYPE__BFLOAT16, 16, false, false, IN_INT32S, read_bfloat, NULL},
    {ONNX__TENSOR_PROTO__DATA_TYPE__INT8, 8, true, false, IN_INT32S, NULL, read_int8},
    {ONNX__TENSOR_PROTO__DATA_TYPE__UINT8, 8, true, true, IN_INT32S, NULL, read_uint8},
    {ONNX__TENSOR_PROTO__DATA_TYPE__BOOL, 8, true, false, IN_INT32S, NULL, read_uint8},
    {ONNX__TENSOR_PROTO__DATA_TYPE__INT16, 16, true, false, IN_INT32S, NULL, read_int16},
    {ONNX__TENSOR_PROTO__DATA_TYPE__UINT16, 16, true, true, IN_INT32S, NULL, read_uint16},
    {ONNX__TENSOR_PROTO__DATA_TYPE__INT32, 32, true, false, IN_INT32S, NULL, read_int32},
    {ONNX__TENSOR_PROTO__DATA_TYPE__UINT32, 32, true, true, IN_UINT64S, NULL, read_uint32},
    {ONNX__TENSOR_PROTO__DATA_TYPE__INT64, 64, true, false, IN_INT64S, NULL, read_int64},
    {INT4, 4, true, false, IN_INT32S, NULL, read_int8},
    {UINT4, 4, true, true, IN_INT32S, NULL, read_uint8},
};

/* Bytes that hold `count` elements. */
static size_t bytes_of(const element_type *type, size_t count) {
    return (count * (size_t)type->bits + 7) / 8;
}

static const element_type *type_of(int type) {
    for (size_t i = 0; i < G_N_ELEMENTS(types); i++) {
        if (types[i].type == type) {
            return &types[i];
        }
    }
    return NULL;
}

bool nsk_onnx_type_is_read(int type, bool *whole) {
    const element_type *t = type_of(type);
    *whole = t != NULL && t->whole;
    return t != NULL;
}

static bool read_shape(const Onnx__TensorProto *t, nsk_value *value, nsk_error *error) {
    int64_t count = 1;
    if (t->n_dims > NSK_MOST_RANK) {
        return nsk_fail(error, "constant '%s' has %zu axes; at most %d are read", value->name,
                        t->n_dims, NSK_MOST_RANK);
    }
    value->rank = (int)t->n_dims;
    for (int i = 0; i < value->rank; i++) {
        value->dims[i] = t->dims[i];
        if (t->dims[i] < 0 || t->dims[i] > MOST_AXIS || (count *= t->dims[i]) > MOST_AXIS) {
            return nsk_fail(error, "constant '%s' claims an absurd size; the file is damaged",
                            value->name);
        }
    }
    value->shaped = true;
    return true;
}

static size_t typed_count(const Onnx__TensorProto *t, field typed) {
    switch (typed) {
    case IN_FLOATS:
        return t->n_float_data;
    case IN_DOUBLES:
        return t->n_double_data;
    case IN_INT32S:
        return t->n_int32_data;
    case IN_INT64S:
        return t->n_int64_data;
    default:
        return t->n_uint64_data;
    }
}

static double typed_number(const Onnx__TensorProto *t, const element_type *type, size_t i) {
    if (type->typed != IN_INT32S) {
        return type->typed == IN_FLOATS ? (double)t->float_data[i] : t->double_data[i];
    }
    const uint16_t bits = (uint16_t)t->int32_data[i];
    uint8_t raw[2];
    memcpy(raw, &bits, sizeof raw);
    return type->number(raw);
}

static int64_t typed_integer(const Onnx__TensorProto *t, const element_type *type, size_t i) {
    return type->typed == IN_INT64S   ? t->int64_data[i]
           : type->typed == IN_INT32S ? t->int32_data[i]
                                      : (int64_t)t->uint64_data[i];
}

/* One of two integers in a byte. */
static int64_t half_byte(const element_type *type, uint8_t byte, size_t i) {
    int64_t half = i % 2 == 0 ? byte & 15 : byte >> 4;
    return type->is_unsigned || half < 8 ? half : half - 16;
}

static int64_t integer_at(const Onnx__TensorProto *t, const element_type *type, const uint8_t *raw,
                          size_t i) {
    if (type->bits == 4) {
        return half_byte(type, raw != NULL ? raw[i / 2] : (uint8_t)t->int32_data[i / 2], i);
    }
    return raw != NULL ? type->integer(raw + bytes_of(type, i)) : typed_integer(t, type, i);
}

/* `raw` is NULL where the typed fields hold the elements. */
static void convert(const Onnx__TensorProto *t, const element_type *type, const uint8_t *raw,
                    nsk_value *value) {
    size_t count = nsk_value_count(value);
    value->whole = type->whole;
    value->bits = type->whole ? type->bits : 0;
    value->is_unsigned = type->is_unsigned;
    value->data = g_new0(float, count + 1); /* never NULL: an empty constant is one too */
    value->integers = type->whole ? g_new0(int64_t, count + 1) : NULL;
    for (size_t i = 0; i < count; i++) {
        if (value->integers != NULL) {
            value->integers[i] = integer_at(t, type, raw, i);
            value->data[i] = (float)value->integers[i];
            continue;
        }
        value->data[i] =
            (float)(raw != NULL ? type->number(raw + bytes_of(type, i)) : typed_number(t, type, i));
    }
}

bool nsk_onnx_is_finite(const nsk_value *value, nsk_error *error) {
    size_t count = value->data != NULL ? nsk_value_count(value) : 0;
    for (size_t i = 0; i < count; i++) {
        /* a single infinite number is a bound, or what a maximum is padded with */
        if (isnan(value->data[i]) || (isinf(value->data[i]) && count > 1)) {
            return nsk_fail(error,
                            "constant '%s' holds a number that is not finite; train again "
                            "or export again",
                            value->name);
        }
    }
    return true;
}

/* ---- external data ---- */

static bool is_key(const Onnx__StringStringEntryProto *entry, const char *key) {
    return entry->key != NULL && entry->value != NULL && strcmp(entry->key, key) == 0;
}

/* A relative path without a step upwards. */
static bool steps_down_only(const char *location) {
    char **parts = g_strsplit(location, "/", -1);
    bool down = *location != '\0' && !g_path_is_absolute(location);
    for (int i = 0; parts[i] != NULL; i++) {
        down = down && strcmp(parts[i], "..") != 0;
    }
    g_strfreev(parts);
    return down;
}

/* No symbolic link leads out, either; a file that is not there leads nowhere. */
static bool stays_inside(const char *folder, const char *location) {
    if (!steps_down_only(location)) {
        return false;
    }
    char *path = g_build_filename(folder, location, NULL);
    char *really = realpath(path, NULL);
    char *within = realpath(folder, NULL);
    size_t length = within != NULL ? strlen(within) : 0;
    bool inside = really == NULL || (within != NULL && strncmp(really, within, length) == 0 &&
                                     (really[length] == '/' || strcmp(within, "/") == 0));
    free(really);
    free(within);
    g_free(path);
    return inside;
}

static bool read_count(const Onnx__StringStringEntryProto *e, const char *key, uint64_t *to) {
    return !is_key(e, key) || g_ascii_string_to_unsigned(e->value, 10, 0, INT64_MAX, to, NULL);
}

static bool load_external(const Onnx__TensorProto *t, const element_type *type, const char *folder,
                          nsk_value *value, nsk_error *error) {
    const char *location = NULL;
    uint64_t offset = 0;
    uint64_t length = (uint64_t)bytes_of(type, nsk_value_count(value));
    uint64_t stated = length;
    bool counts = true;
    for (size_t i = 0; i < t->n_external_data; i++) {
        const Onnx__StringStringEntryProto *e = t->external_data[i];
        location = is_key(e, "location") ? e->value : location;
        counts = counts && read_count(e, "offset", &offset) && read_count(e, "length", &stated);
    }
    if (folder == NULL || location == NULL || !counts || stated != length ||
        !stays_inside(folder, location)) {
        return nsk_fail(error,
                        "constant '%s' stands in a file of its own, '%s', whose place or length "
                        "makes no sense; it must lie beside the model",
                        value->name, location != NULL ? location : "");
    }
    char *path = g_build_filename(folder, location, NULL);
    size_t size = 0;
    uint8_t *bytes = nsk_file_read(path, MOST_BYTES, &size, error);
    g_free(path);
    if (bytes == NULL) {
        return nsk_fail_in(error, "constant '%s'", value->name);
    }
    bool good = (offset <= size && length <= size - offset) ||
                nsk_fail(error, "constant '%s' lies behind the end of '%s'; copy the file again",
                         value->name, location);
    if (good) {
        convert(t, type, bytes + offset, value);
    }
    g_free(bytes);
    return good;
}

bool nsk_onnx_tensor_load(const Onnx__TensorProto *t, const char *folder, nsk_value *value,
                          nsk_error *error) {
    const element_type *type = type_of(t->data_type);
    if (type == NULL) {
        return nsk_unsupported(error,
                               "constant '%s' has ONNX data type %d; floating point and integers "
                               "are read: export in 32-bit float",
                               value->name, t->data_type);
    }
    if (!read_shape(t, value, error)) {
        return false;
    }
    if (t->has_data_location && t->data_location == ONNX__TENSOR_PROTO__DATA_LOCATION__EXTERNAL) {
        return load_external(t, type, folder, value, error);
    }
    size_t count = nsk_value_count(value);
    size_t has = t->has_raw_data ? t->raw_data.len : typed_count(t, type->typed);
    bool packed = t->has_raw_data || type->bits == 4;
    if (has != (packed ? bytes_of(type, count) : count)) {
        char shape[160];
        return nsk_fail(error, "constant '%s' is %s but holds %zu %s; the file is damaged",
                        value->name, nsk_value_text(value, shape, sizeof shape), has,
                        packed ? "bytes" : "elements");
    }
    convert(t, type, t->has_raw_data ? t->raw_data.data : NULL, value);
    return true;
}
