#include "estimate/link_map.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static void clear_linked(void *data) {
    g_free(((nsk_linked *)data)->object);
}

static nsk_linked *object_named(GArray *objects, const char *name) {
    for (guint i = 0; i < objects->len; i++) {
        nsk_linked *one = &g_array_index(objects, nsk_linked, i);
        if (strcmp(one->object, name) == 0) {
            return one;
        }
    }
    const nsk_linked fresh = {.object = g_strdup(name)};
    g_array_append_val(objects, fresh);
    return &g_array_index(objects, nsk_linked, objects->len - 1);
}

/* " 0x00000450  0x1a4 build/nsk_operation_conv.o", the input section's name before it or on a line
 * above. */
static void take_input(GArray *objects, const char *line, const char *output) {
    const char *at = strstr(line, " 0x");
    char path[1024];
    unsigned long long address;
    unsigned long long size;
    if (at == NULL || sscanf(at, " 0x%llx 0x%llx %1023[^\n]", &address, &size, path) != 3 ||
        size == 0) {
        return;
    }
    char *name = g_path_get_basename(path);
    char *dot = strrchr(name, '.');
    if (dot != NULL && g_str_has_prefix(dot, ".o")) {
        *dot = '\0';
        nsk_linked *object = object_named(objects, name);
        object->text += strcmp(output, ".text") == 0 ? (double)size : 0.0;
        object->data += strcmp(output, ".data") == 0 ? (double)size : 0.0;
        object->bss += strcmp(output, ".bss") == 0 ? (double)size : 0.0;
    }
    g_free(name);
}

GArray *nsk_link_map_parse(const char *text, const char *path, nsk_error *error) {
    static const char begin[] = "\nLinker script and memory map";
    const char *map = strstr(text, begin);
    if (map == NULL) {
        nsk_fail(error, "%s: not a linker's map", path);
        return NULL;
    }
    GArray *objects = g_array_new(FALSE, FALSE, sizeof(nsk_linked));
    g_array_set_clear_func(objects, clear_linked);
    char **lines = g_strsplit(map + strlen(begin), "\n", -1);
    char output[64] = "";
    for (char **line = lines; *line != NULL; line++) {
        if (**line == '.' || g_ascii_isalpha(**line)) {
            g_strlcpy(output, *line, sizeof output);
            output[strcspn(output, " \t")] = '\0';
        } else {
            take_input(objects, *line, output);
        }
    }
    g_strfreev(lines);
    return objects;
}

GArray *nsk_link_map_read(const char *path, nsk_error *error) {
    enum { MOST = 64 << 20 };
    size_t size;
    char *text = (char *)nsk_file_read(path, MOST, &size, error);
    GArray *objects = text != NULL ? nsk_link_map_parse(text, path, error) : NULL;
    g_free(text);
    return objects;
}

bool nsk_linked_is_runtime(const nsk_linked *one) {
    return g_str_has_prefix(one->object, "nsk_") &&
           !g_str_equal(one->object, "nsk_firmware_slices");
}

void nsk_link_map_free(GArray *objects) {
    if (objects != NULL) {
        g_array_free(objects, TRUE);
    }
}
