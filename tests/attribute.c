#include "attribute.h"

#include <stdlib.h>
#include <string.h>

static void *keep(GPtrArray *memory, void *item) {
    g_ptr_array_add(memory, item);
    return item;
}

Onnx__AttributeProto *attribute_of(GPtrArray *memory, const char *word) {
    Onnx__AttributeProto *a = keep(memory, g_new(Onnx__AttributeProto, 1));
    onnx__attribute_proto__init(a);
    const char *equals = strchr(word, '=');
    const char *value = equals + 2;
    a->name = keep(memory, g_strndup(word, (gsize)(equals - word)));
    a->has_type = 1;
    switch (equals[1]) {
    case 'i':
        a->type = ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INT;
        a->has_i = 1;
        a->i = strtol(value, NULL, 10);
        break;
    case 'f':
        a->type = ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__FLOAT;
        a->has_f = 1;
        a->f = strtof(value, NULL);
        break;
    case 's':
        a->type = ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__STRING;
        a->has_s = 1;
        a->s.len = strlen(value);
        a->s.data = keep(memory, g_strdup(value));
        break;
    case '$':
        a->ref_attr_name = keep(memory, g_strdup(value));
        break;
    default:
        a->type = ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INTS;
        a->ints = keep(memory, g_new(int64_t, 16));
        for (char *at = (char *)value; *at != '\0'; at += *at == ',') {
            a->ints[a->n_ints++] = strtol(at, &at, 10);
        }
    }
    return a;
}
