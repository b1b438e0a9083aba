/* Model files on the host: reading, writing, as C source. */
#include <string.h>

#include "device/format.h"
#include "device/layer.h"
#include "modelfile/file.h"
#include "modelfile/pack.h"

static const size_t MOST_BYTES = (size_t)1 << 30;

/* Of one layer, as they stand, with what requantises its outputs. */
static size_t weight_bytes_of(const nsk_layer *l) {
    const size_t channels = l->out.channels;
    const nsk_kind kind = nsk_kind_unpacked(l->kind);
    const size_t area = (size_t)(l->kernel_height * l->kernel_width);
    const size_t taps = kind == NSK_KIND_CONV || kind == NSK_KIND_CONV_FINE
                            ? area * l->in.channels / l->count
                        : kind == NSK_KIND_DEPTHWISE || kind == NSK_KIND_DEPTHWISE_FINE ? area
                        : kind == NSK_KIND_DENSE ? nsk_tensor_bytes(&l->in)
                                                 : 0;
    if (taps == 0) {
        return 0;
    }
    const size_t row = (size_t)nsk_row_bytes((int32_t)taps);
    const size_t weights = l->kind != kind
                               ? nsk_packed_bytes(channels * row, (int)(l->flags & NSK_FLAG_BITS))
                               : channels * taps;
    return weights + channels * 4;
}

static size_t count_weight_bytes(const nsk_model *model) {
    size_t total = 0;
    for (unsigned i = 0; i < model->layers; i++) {
        nsk_layer l;
        nsk_layer_decode(model, i, &l);
        total += weight_bytes_of(&l);
    }
    return total;
}

/* What the device says of a model, and what to do about it here. */
static bool complain(nsk_error *error, nsk_status status) {
    static const char *const advice[NSK_STATUSES] = {
        [NSK_STATUS_TRUNCATED] = "; copy it again, whole",
        [NSK_STATUS_NOT_A_MODEL] = "; 'netsuke quantise' makes one",
        [NSK_STATUS_OTHER_VERSION] = "; build it again with 'netsuke quantise'",
        [NSK_STATUS_DAMAGED] = "; copy it again, or build it again with 'netsuke quantise'",
        [NSK_STATUS_INCONSISTENT] = "; build it again with 'netsuke quantise'",
    };
    return nsk_fail(error, "%s%s", nsk_status_text(status),
                    advice[status] != NULL ? advice[status] : "");
}

nsk_model_file *nsk_model_file_adopt(uint8_t *bytes, size_t size, nsk_error *error) {
    nsk_model model;
    nsk_status status = nsk_open(&model, bytes, size);
    if (status != NSK_STATUS_OK) {
        complain(error, status);
        g_free(bytes);
        return NULL;
    }
    nsk_model_file *file = g_new0(nsk_model_file, 1);
    file->bytes = bytes;
    file->size = model.size;
    file->weight_bytes = count_weight_bytes(&model);
    file->workspace_lower_bound = nsk_load32(bytes + NSK_H_LEAST);
    return file;
}

nsk_model_file *nsk_model_file_read(const char *path, nsk_error *error) {
    size_t size;
    uint8_t *bytes = nsk_file_read(path, MOST_BYTES, &size, error);
    nsk_model_file *file = bytes != NULL ? nsk_model_file_adopt(bytes, size, error) : NULL;
    if (bytes != NULL && file == NULL) {
        nsk_fail_in(error, "%s", path);
    }
    nsk_model_file *usual = file != NULL ? nsk_model_file_for_core(file, "any") : NULL;
    nsk_model_file_free(file);
    return usual;
}

bool nsk_model_file_write(const nsk_model_file *file, const char *path, nsk_error *error) {
    return nsk_file_write(path, file->bytes, file->size, error);
}

static bool is_identifier(const char *name) {
    bool good = g_ascii_isalpha(name[0]) || name[0] == '_';
    for (const char *c = name; *c != '\0'; c++) {
        good = good && (g_ascii_isalnum(*c) || *c == '_');
    }
    return good;
}

bool nsk_model_file_write_c(const nsk_model_file *file, const char *path, const char *name,
                            nsk_error *error) {
    if (!is_identifier(name)) {
        return nsk_fail(error, "'%s' cannot be a C name; use letters, digits and _", name);
    }
    GString *text = g_string_new(NULL);
    g_string_printf(
        text,
        "/* A netsuke model of %zu bytes. Made by a program: change the model, not this "
        "file. */\n#include <stddef.h>\n#include <stdint.h>\n\n"
        "extern const uint8_t %s[];\nextern const size_t %s_bytes;\n\n"
        "const size_t %s_bytes = %zu;\n_Alignas(4) const uint8_t %s[%zu] = {",
        file->size, name, name, name, file->size, name, file->size);
    for (size_t i = 0; i < file->size; i++) {
        g_string_append_printf(text, "%s%u,", i % 20 == 0 ? "\n    " : "", file->bytes[i]);
    }
    g_string_append(text, "\n};\n");
    bool good = nsk_file_write(path, text->str, text->len, error);
    g_string_free(text, TRUE);
    return good;
}

void nsk_model_file_free(nsk_model_file *file) {
    if (file != NULL) {
        g_free(file->bytes);
        g_free(file);
    }
}
