#include "kept.h"

#include <glib/gstdio.h>
#include <sys/stat.h>
#include <utime.h>

#include "netsuke/tools.h"
#include "netsuke/weigh.h"

enum { MOST_KEPT = 100 };

char *cli_kept_place(const cli_context *context, const nsk_recipe *recipe) {
    nsk_error ignored; /* what cannot be read is said where it is wanted */
    char *key = nsk_measurement_key(context->network, context->calibration, recipe, NULL, &ignored);
    char *name = key != NULL ? g_strconcat(key, ".nsk", NULL) : NULL;
    char *place = name != NULL
                      ? g_build_filename(g_get_user_cache_dir(), "netsuke", "models", name, NULL)
                      : NULL;
    nsk_string_free(key);
    g_free(name);
    return place;
}

nsk_model_file *cli_kept_model(const char *place) {
    nsk_error ignored;
    nsk_model_file *model = place != NULL && g_file_test(place, G_FILE_TEST_IS_REGULAR)
                                ? nsk_model_file_read(place, &ignored)
                                : NULL;
    if (model != NULL) {
        g_utime(place, NULL); /* used now */
    }
    return model;
}

typedef struct aged {
    char *path;
    gint64 used;
} aged;

static void clear_aged(void *item) {
    g_free(((aged *)item)->path);
}

static int by_age(const void *a, const void *b) {
    const aged *one = a;
    const aged *other = b;
    return (one->used < other->used) - (one->used > other->used);
}

/* The newest stay. */
static void thin_out(const char *folder) {
    GDir *open = g_dir_open(folder, 0, NULL);
    GArray *files = g_array_new(FALSE, FALSE, sizeof(aged));
    g_array_set_clear_func(files, clear_aged);
    for (const char *name = NULL; open != NULL && (name = g_dir_read_name(open)) != NULL;) {
        GStatBuf state;
        aged one = {g_build_filename(folder, name, NULL), 0};
        if (g_str_has_suffix(name, ".nsk") && g_lstat(one.path, &state) == 0 &&
            S_ISREG(state.st_mode)) {
            one.used = (gint64)state.st_mtime;
            g_array_append_val(files, one);
        } else {
            g_free(one.path);
        }
    }
    g_array_sort(files, by_age);
    for (guint i = MOST_KEPT; i < files->len; i++) {
        g_unlink(g_array_index(files, aged, i).path);
    }
    g_array_unref(files);
    if (open != NULL) {
        g_dir_close(open);
    }
}

void cli_keep_model(const nsk_model_file *model, const char *place) {
    nsk_error ignored;
    char *folder = place != NULL ? g_path_get_dirname(place) : NULL;
    if (folder != NULL && g_mkdir_with_parents(folder, 0777) == 0 &&
        nsk_model_file_write(model, place, &ignored)) {
        thin_out(folder);
    }
    g_free(folder);
}
