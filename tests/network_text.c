#include "network_text.h"

#include <stdlib.h>
#include <string.h>

static void add_constant(onnx_maker *m, const char *name) {
    char **parts = g_strsplit(name + 2, "_", -1);
    int count = (int)g_strv_length(parts);
    int dims[8] = {0};
    int64_t integers[8] = {0};
    bool number = name[0] >= 'k' && name[0] <= 'n';
    for (int i = 0; i < count && i < 8; i++) {
        dims[i] = (int)strtol(parts[i], NULL, 10);
        integers[i] = dims[i];
    }
    if (name[0] == 'i') {
        onnx_integers(m, name, count, integers);
    } else if (number) {
        onnx_floats(m, name, count - 1, dims, NULL, strtof(parts[count - 1], NULL));
    } else {
        random_state r = {(uint64_t)name[0]};
        onnx_floats(m, name, count, dims, &r, 1.0F);
    }
    g_strfreev(parts);
}

static void add_node(onnx_maker *m, GHashTable *known, const char *text) {
    char **sides = g_strsplit(text, " > ", 2);
    char **left = g_strsplit(g_strstrip(sides[0]), " ", 2);
    GString *outputs = g_string_new(NULL);
    GString *attributes = g_string_new(NULL);
    char **right = g_strsplit(sides[1], " ", -1);
    for (char **word = right; *word != NULL; word++) {
        GString *to = strchr(*word, '=') != NULL ? attributes : outputs;
        g_string_append_printf(to, "%s%s", to->len > 0 ? " " : "", *word);
    }
    char **inputs = g_strsplit(left[1] != NULL ? left[1] : "", " ", -1);
    for (char **input = inputs; *input != NULL; input++) {
        if (**input != '\0' && (*input)[1] == '_' && g_hash_table_add(known, g_strdup(*input))) {
            add_constant(m, *input);
        }
    }
    onnx_node(m, left[0], left[1] != NULL ? left[1] : "", outputs->str, attributes->str);
    g_string_free(outputs, TRUE);
    g_string_free(attributes, TRUE);
    g_strfreev(sides);
    g_strfreev(left);
    g_strfreev(right);
    g_strfreev(inputs);
}

uint8_t *network_of_text(const char *text, size_t *size) {
    onnx_maker *m = onnx_new(13 + (strstr(text, "HardSwish") != NULL), 3, 9, 9);
    GHashTable *known = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
    char **nodes = g_strsplit(text, "; ", -1);
    for (char **node = nodes; *node != NULL; node++) {
        add_node(m, known, *node);
    }
    g_strfreev(nodes);
    g_hash_table_destroy(known);
    return onnx_bytes(m, size);
}

void noisy_load(noisy *n, const char *text, int classes) {
    nsk_error error = {.text = ""};
    size_t size;
    nsk_input input = {.width = 9, .height = 9, .deviation = {0.3, 0.3, 0.3}, .top = 1};
    nsk_labels labels = {.count = classes, .names = g_new0(char *, classes + 1)};
    for (int i = 0; i < classes; i++) {
        labels.names[i] = g_strdup_printf("c%d", i);
    }
    uint8_t *bytes = network_of_text(text, &size);
    n->folder = scratch_new();
    char *path = scratch_path(n->folder, "m.onnx");
    char *noise = scratch_path(n->folder, "noise");
    scratch_write(path, bytes, size);
    noise_set(noise, &labels, 10, 9, 9);
    n->network = nsk_network_read(path, &input, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(n->network);
    n->images = nsk_images_open(noise, &labels, &input, 0, false, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(n->images);
    n->file = nsk_quantise(n->network, n->images, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(n->file);
    n->comparison = nsk_compare(n->network, n->file, n->images, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(n->comparison);
    g_strfreev(labels.names);
    g_free(bytes);
    g_free(noise);
    g_free(path);
}

void noisy_free(noisy *n) {
    nsk_comparison_free(n->comparison);
    nsk_model_file_free(n->file);
    nsk_images_free(n->images);
    nsk_network_free(n->network);
    scratch_remove(n->folder);
}
