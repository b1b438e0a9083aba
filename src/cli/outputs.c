#include "outputs.h"

#include <errno.h>
#include <glib/gstdio.h>
#include <string.h>
#include <unistd.h>

typedef struct output {
    const char *option, *path;
    char *real;
} output;

/* The path without links and detours, as far as it exists. g_free. */
static char *real_path(const char *path) {
    char *whole = g_canonicalize_filename(path, NULL);
    char *real = realpath(whole, NULL);
    if (real == NULL) {
        char *folder = g_path_get_dirname(whole);
        char *name = g_path_get_basename(whole);
        char *real_folder = realpath(folder, NULL);
        real = real_folder != NULL ? g_build_filename(real_folder, name, NULL) : g_strdup(whole);
        free(real_folder);
        g_free(folder);
        g_free(name);
    } else {
        char *copy = g_strdup(real);
        free(real);
        real = copy;
    }
    g_free(whole);
    return real;
}

static void clear_output(void *item) {
    g_free(((output *)item)->real);
}

static GArray *outputs_of(const cli_context *context) {
    GArray *all = g_array_new(FALSE, FALSE, sizeof(output));
    g_array_set_clear_func(all, clear_output);
    for (const cli_option *o = cli_options; o->name != NULL; o++) {
        char *const *path = o->value == CLI_WRITTEN ? cli_value_of(context, o) : NULL;
        if (path != NULL && *path != NULL) {
            const output one = {o->name, *path, real_path(*path)};
            g_array_append_val(all, one);
        }
    }
    return all;
}

static bool kinds_are_good(const GArray *outputs, nsk_error *error) {
    for (guint i = 0; i < outputs->len; i++) {
        const output *one = &g_array_index(outputs, output, i);
        GStatBuf info;
        if (g_stat(one->path, &info) == 0 && !S_ISREG(info.st_mode) && !S_ISDIR(info.st_mode)) {
            return nsk_fail(error,
                            "--%s %s: a device or a pipe, which would be replaced; name a file",
                            one->option, one->path);
        }
        for (guint k = 0; k < i; k++) {
            const output *other = &g_array_index(outputs, output, k);
            if (strcmp(one->real, other->real) == 0) {
                return nsk_fail(error, "--%s and --%s are both %s; name two files", other->option,
                                one->option, one->path);
            }
        }
    }
    return true;
}

/* Whether each has a folder to stand in. */
static bool folders_are_there(const GArray *outputs, const cli_command *command, nsk_error *error) {
    bool good = true;
    for (guint i = 0; i < outputs->len && good; i++) {
        const output *one = &g_array_index(outputs, output, i);
        char *folder = g_path_get_dirname(one->path);
        const bool made = command->makes_folder && strcmp(one->option, "output") == 0;
        if (!made && g_access(folder, W_OK) != 0) {
            good = nsk_fail_system(error, "--%s %s: cannot be written: %s: %s; name another folder",
                                   one->option, one->path, folder, g_strerror(errno));
        }
        g_free(folder);
    }
    return good;
}

/* ---- what is read ---- */

static void add(GPtrArray *paths, const char *path) {
    if (path != NULL) {
        g_ptr_array_add(paths, real_path(path));
    }
}

static void add_all(GPtrArray *paths, char *const *more) {
    for (; more != NULL && *more != NULL; more++) {
        add(paths, *more);
    }
}

/* Of a brief that cannot be read nothing is known; the command will say why. */
static void add_brief(GPtrArray *paths, const char *path) {
    nsk_error ignored;
    nsk_brief *b = nsk_brief_read(path, &ignored);
    if (b == NULL) {
        return;
    }
    const char *const named[] = {b->model,           b->board,           b->calibration,
                                 b->held_out,        b->training,        b->calibration_labels,
                                 b->held_out_labels, b->training_labels, b->variants_brief,
                                 b->labels_path,     b->teacher};
    for (size_t i = 0; i < G_N_ELEMENTS(named); i++) {
        add(paths, named[i]);
    }
    add_all(paths, b->scenes);
    nsk_brief_free(b);
}

static GPtrArray *inputs_of(const cli_context *context) {
    GPtrArray *paths = g_ptr_array_new_with_free_func(g_free);
    for (const cli_option *o = cli_options; o->name != NULL; o++) {
        void *value = cli_value_of(context, o);
        if (value != NULL && o->value == CLI_FILE) {
            add(paths, *(char *const *)value);
        } else if (value != NULL && o->value == CLI_FILES) {
            add_all(paths, *(char *const *const *)value);
        }
    }
    add_all(paths, context->arguments);
    for (char **argument = context->arguments; *argument != NULL; argument++) {
        if (g_file_test(*argument, G_FILE_TEST_IS_REGULAR)) {
            add_brief(paths, *argument);
        }
    }
    return paths;
}

/* The same file, or one that stands in a folder that is read. */
static bool would_harm(const char *written, const char *read) {
    size_t length = strlen(read);
    return strcmp(written, read) == 0 ||
           (strncmp(written, read, length) == 0 && written[length] == '/' &&
            g_file_test(read, G_FILE_TEST_IS_DIR));
}

static bool inputs_are_safe(const GArray *outputs, const cli_context *context, nsk_error *error) {
    GPtrArray *inputs = inputs_of(context);
    bool good = true;
    for (guint i = 0; i < outputs->len && good; i++) {
        const output *one = &g_array_index(outputs, output, i);
        for (guint k = 0; k < inputs->len && good; k++) {
            const char *read = g_ptr_array_index(inputs, k);
            if (would_harm(one->real, read)) {
                bool same = strcmp(one->real, read) == 0;
                good = nsk_fail(error, "--%s %s: %s; name another file, or say --force",
                                one->option, one->path,
                                same ? "this is read by the same command"
                                     : "it would stand in a folder that the same command reads");
            }
        }
    }
    g_ptr_array_free(inputs, TRUE);
    return good;
}

bool cli_outputs_are_good(cli_context *context) {
    GArray *outputs = outputs_of(context);
    bool good =
        kinds_are_good(outputs, &context->error) &&
        folders_are_there(outputs, context->command, &context->error) &&
        (context->force || outputs->len == 0 || inputs_are_safe(outputs, context, &context->error));
    g_array_free(outputs, TRUE);
    return good;
}
