#include "base/shipped.h"

#include <glib.h>
#include <stdlib.h>
#include <string.h>

enum { PLACES = 4 };

/* The folders to look into, in this order; NULL for one that is not known. */
static void find_places(char *places[PLACES]) {
    char *self = g_file_read_link("/proc/self/exe", NULL);
    char *folder = self != NULL ? g_path_get_dirname(self) : NULL;
    places[0] = g_strdup(g_getenv("NETSUKE_DATA"));
    places[1] = folder != NULL ? g_build_filename(folder, "..", "share", "netsuke", NULL) : NULL;
    places[2] = folder != NULL ? g_build_filename(folder, "..", NULL) : NULL;
    places[3] = g_strdup(NSK_DATA_FOLDER);
    g_free(self);
    g_free(folder);
}

static void clear_places(char *places[PLACES]) {
    for (int i = 0; i < PLACES; i++) {
        g_free(places[i]);
    }
}

char *nsk_shipped(const char *folder, const char *name) {
    char *places[PLACES];
    char *file = g_strconcat(name, ".ini", NULL);
    char *found = NULL;
    find_places(places);
    for (int i = 0; i < PLACES && found == NULL; i++) {
        found = places[i] != NULL ? g_build_filename(places[i], folder, file, NULL) : NULL;
        if (found != NULL && !g_file_test(found, G_FILE_TEST_IS_REGULAR)) {
            g_clear_pointer(&found, g_free);
        }
    }
    char *clean = found != NULL ? g_canonicalize_filename(found, NULL) : NULL;
    g_free(found);
    g_free(file);
    clear_places(places);
    return clean;
}

static int by_name(const void *a, const void *b) {
    return strcmp(*(char *const *)a, *(char *const *)b);
}

/* Of the first place that has the folder. */
char **nsk_shipped_names(const char *folder) {
    char *places[PLACES];
    GPtrArray *names = g_ptr_array_new();
    find_places(places);
    for (int i = 0; i < PLACES && names->len == 0; i++) {
        char *path = places[i] != NULL ? g_build_filename(places[i], folder, NULL) : NULL;
        GDir *dir = path != NULL ? g_dir_open(path, 0, NULL) : NULL;
        for (const char *name = dir != NULL ? g_dir_read_name(dir) : NULL; name != NULL;
             name = g_dir_read_name(dir)) {
            if (g_str_has_suffix(name, ".ini")) {
                g_ptr_array_add(names, g_strndup(name, strlen(name) - strlen(".ini")));
            }
        }
        if (dir != NULL) {
            g_dir_close(dir);
        }
        g_free(path);
    }
    clear_places(places);
    g_ptr_array_sort(names, by_name);
    g_ptr_array_add(names, NULL);
    return (char **)g_ptr_array_free(names, FALSE);
}
