#include "scratch.h"

#include <glib/gstdio.h>
#include <string.h>

char *scratch_new(void) {
    return g_dir_make_tmp("netsuke-test-XXXXXX", NULL);
}

static void remove_tree(const char *path) {
    GDir *dir = g_dir_open(path, 0, NULL);
    for (const char *name; dir != NULL && (name = g_dir_read_name(dir)) != NULL;) {
        char *inner = g_build_filename(path, name, NULL);
        remove_tree(inner);
        g_free(inner);
    }
    if (dir != NULL) {
        g_dir_close(dir);
    }
    g_remove(path);
}

void scratch_remove(char *folder) {
    remove_tree(folder);
    g_free(folder);
}

char *scratch_path(const char *folder, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    char *name = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    char *path = g_build_filename(folder, name, NULL);
    char *parent = g_path_get_dirname(path);
    g_mkdir_with_parents(parent, 0777);
    g_free(parent);
    g_free(name);
    return path;
}

void scratch_write(const char *path, const void *bytes, size_t size) {
    g_file_set_contents(path, bytes, (gssize)size, NULL);
}

void scratch_write_text(const char *path, const char *text) {
    scratch_write(path, text, strlen(text));
}
