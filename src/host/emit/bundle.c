#include "emit/bundle.h"

#include <errno.h>
#include <gio/gio.h>
#include <glib/gstdio.h>
#include <stdlib.h>
#include <string.h>

#include "emit/handover.h"
#include "estimate/cost_kind.h"
#include "estimate/costs.h"
#include "netsuke/version.h"

typedef struct bundled {
    char *name;
    GString *text;
} bundled;

struct nsk_bundle {
    GArray *files; /* of bundled */
};

/* Lists what a hand-over wrote, so that the next one knows its own. */
static const char LIST[] = "files.txt";

static void clear_file(void *file) {
    g_free(((bundled *)file)->name);
    g_string_free(((bundled *)file)->text, TRUE);
}

nsk_bundle *nsk_bundle_new(void) {
    nsk_bundle *bundle = g_new0(nsk_bundle, 1);
    bundle->files = g_array_new(FALSE, FALSE, sizeof(bundled));
    g_array_set_clear_func(bundle->files, clear_file);
    return bundle;
}

void nsk_bundle_free(nsk_bundle *bundle) {
    if (bundle != NULL) {
        g_array_free(bundle->files, TRUE);
        g_free(bundle);
    }
}

void nsk_bundle_add(nsk_bundle *bundle, const char *name, GString *text) {
    const bundled file = {g_strdup(name), text};
    g_array_append_val(bundle->files, file);
}

/* ---- what came with the program ---- */

static GString *carried(const char *name) {
    char *path = g_strconcat("/netsuke/", name, NULL);
    GBytes *bytes = g_resource_lookup_data(handover_get_resource(), path, 0, NULL);
    gsize size = 0;
    const char *data = bytes != NULL ? g_bytes_get_data(bytes, &size) : "";
    GString *text = g_string_new_len(data, (gssize)size);
    g_bytes_unref(bytes);
    g_free(path);
    return text;
}

static int by_name(const void *a, const void *b) {
    return strcmp(*(char *const *)a, *(char *const *)b);
}

/* A folder's files, by name; folders end in a slash. */
static char **carried_names(const char *folder) {
    char *path = g_strconcat("/netsuke/", folder, NULL);
    char **names = g_resource_enumerate_children(handover_get_resource(), path, 0, NULL);
    qsort(names, g_strv_length(names), sizeof *names, by_name);
    g_free(path);
    return names;
}

void nsk_bundle_add_template(nsk_bundle *bundle, const char *name, const char *template_name,
                             const char *const *values) {
    char *path = g_strconcat("template/", template_name, NULL);
    GString *text = carried(path);
    for (; values != NULL && *values != NULL; values += 2) {
        char *key = g_strdup_printf("@%s@", values[0]);
        g_string_replace(text, key, values[1], 0);
        g_free(key);
    }
    nsk_bundle_add(bundle, name, text);
    g_free(path);
}

/* "conv.c" as "nsk_operation_conv.c", "arm-dsp/product.c" as "nsk_arm_dsp_product.c". */
static char *flat_name(const char *folder, const char *file) {
    char *name = g_strconcat("nsk_", folder, file, NULL);
    return g_strdelimit(name, "/-", '_');
}

/* Headers are side by side with what includes them, under their new names. */
static void flatten_includes(GString *text) {
    static const char include[] = "#include \"";
    char **lines = g_strsplit(text->str, "\n", -1);
    g_string_truncate(text, 0);
    for (char **line = lines; *line != NULL; line++) {
        const char *file = *line + strlen(include);
        bool own = g_str_has_prefix(*line, include) && !g_str_has_prefix(file, "netsuke/");
        if (own) {
            file += g_str_has_prefix(file, "../") ? 3 : 0;
            g_string_append_printf(text, "%snsk_%s", include, file);
        } else {
            g_string_append(text, *line);
        }
        g_string_append(text, line[1] != NULL ? "\n" : "");
    }
    g_strfreev(lines);
}

/* The files of one folder of src/device, `under` being "" or an architecture's. */
static void add_sources(nsk_bundle *bundle, const char *under, const nsk_needs *needs) {
    char *folder = g_strconcat("device/", under, NULL);
    char **names = carried_names(folder);
    for (char **name = names; *name != NULL; name++) {
        char *base = g_strndup(*name, strcspn(*name, "."));
        bool header = g_str_has_suffix(*name, ".h") || g_str_has_suffix(*name, ".def");
        bool source = header || g_str_has_suffix(*name, ".c");
        if (g_str_has_suffix(*name, "/")) {
            add_sources(bundle, *name, needs);
        } else if (source && nsk_device_file_is_needed(base, needs) &&
                   strcmp(*name, "operations.c") != 0 && strcmp(*name, "streaming.c") != 0) {
            char *path = g_strconcat(folder, *name, NULL);
            char *flat = flat_name(header ? "" : under, *name);
            GString *text = carried(path);
            flatten_includes(text);
            nsk_bundle_add(bundle, flat, text);
            g_free(flat);
            g_free(path);
        }
        g_free(base);
    }
    g_strfreev(names);
    g_free(folder);
}

/* What a product has around a model: a folder of its own, to be taken where it is wanted. */
static void add_firmware(nsk_bundle *bundle) {
    char **names = carried_names("firmware/");
    for (char **name = names; *name != NULL; name++) {
        char *path = g_strconcat("firmware/", *name, NULL);
        const bool header = g_str_has_suffix(*name, ".h"); /* as flatten_includes calls it */
        char *handed =
            g_strconcat(header ? "firmware/nsk_" : "firmware/nsk_firmware_", *name, NULL);
        GString *text = carried(path);
        flatten_includes(text);
        nsk_bundle_add(bundle, handed, text);
        g_free(handed);
        g_free(path);
    }
    g_strfreev(names);
}

char *nsk_runtime_mark(const nsk_needs *needs) {
    uint64_t kinds = 0;
    for (int i = 0; i < NSK_KINDS; i++) {
        kinds |= (uint64_t)needs->kinds[i] << i;
    }
    char *mark = g_strdup_printf("nsk_runtime_%s_%" G_GINT64_MODIFIER "x%s", nsk_version(), kinds,
                                 needs->streams ? "_streamed" : "");
    return g_strdelimit(mark, ".", '_');
}

static GString *operations_source(const nsk_needs *needs) {
    GString *text = g_string_new("/* The kinds of layer that the networks here have. */\n"
                                 "#include \"nsk_layer.h\"\n\n"
                                 "const nsk_operation *const nsk_operations[NSK_KINDS] = {\n");
    for (int i = 0; i < NSK_KINDS; i++) {
        const char *kind = i > 0 ? nsk_kind_name((nsk_kind)i) : "no kind";
        char *name = g_strdelimit(g_strdup(kind), "-", '_');
        g_string_append_printf(
            text, needs->kinds[i] ? "    &nsk_operation_%s,\n" : "    NULL, /* %s */\n", name);
        g_free(name);
    }
    g_string_append_printf(text,
                           "};\n\n/* Layers that run while the frame comes in. */\n"
                           "const nsk_streaming *const nsk_streaming_of_build = %s;\n",
                           needs->streams ? "&nsk_streams" : "NULL");
    char *mark = nsk_runtime_mark(needs);
    g_string_append_printf(text,
                           "\n/* What networks that came along with this runtime ask for. */\n"
                           "#ifdef __cplusplus\nextern \"C\" const uint8_t %s;\n#else\n"
                           "extern const uint8_t %s;\n#endif\nconst uint8_t %s = 1;\n",
                           mark, mark, mark);
    g_free(mark);
    return text;
}

void nsk_bundle_add_runtime(nsk_bundle *bundle, const nsk_needs *needs) {
    static const char *const headers[] = {"device.h", "port.h",   "firmware.h",
                                          "link.h",   "sensor.h", "slots.h"};
    for (size_t i = 0; i < G_N_ELEMENTS(headers); i++) {
        char *name = g_strconcat("netsuke/", headers[i], NULL);
        nsk_bundle_add(bundle, name, carried(headers[i]));
        g_free(name);
    }
    add_sources(bundle, "", needs);
    add_firmware(bundle);
    nsk_bundle_add(bundle, "nsk_operations.c", operations_source(needs));
}

void nsk_bundle_add_boards(nsk_bundle *bundle) {
    char **names = carried_names("board/");
    for (char **name = names; *name != NULL; name++) {
        char *from = g_strconcat("board/", *name, NULL);
        bool shared = strcmp(*name, "board.h") == 0;
        nsk_bundle_add(bundle, shared ? *name : from, carried(from));
        g_free(from);
    }
    g_strfreev(names);
}

/* ---- writing ---- */

static char *list_text(const nsk_bundle *bundle) {
    GString *text = g_string_new(NULL);
    for (guint i = 0; i < bundle->files->len; i++) {
        g_string_append_printf(text, "%s\n", g_array_index(bundle->files, bundled, i).name);
    }
    return g_string_free(text, FALSE);
}

/* Where files wait until all of them are written; the folder's own. */
static const char WAITING[] = ".incoming";

static bool is_empty(const char *folder) {
    GDir *dir = g_dir_open(folder, 0, NULL);
    const char *name = dir != NULL ? g_dir_read_name(dir) : NULL;
    if (name != NULL && strcmp(name, WAITING) == 0) { /* of a hand-over that was killed */
        name = g_dir_read_name(dir);
    }
    bool empty = name == NULL;
    if (dir != NULL) {
        g_dir_close(dir);
    }
    return empty;
}

static bool has(const nsk_bundle *bundle, const char *name) {
    for (guint i = 0; i < bundle->files->len; i++) {
        if (strcmp(g_array_index(bundle->files, bundled, i).name, name) == 0) {
            return true;
        }
    }
    return false;
}

/* Takes away what an earlier hand-over wrote and this one has not; nothing outside of the folder.
 */
static void remove_stale(const nsk_bundle *bundle, const char *folder, const char *list) {
    char **names = g_strsplit(list, "\n", -1);
    for (char **name = names; *name != NULL; name++) {
        bool inside = **name != '\0' && !g_path_is_absolute(*name) && strstr(*name, "..") == NULL;
        if (inside && !has(bundle, *name)) {
            char *path = g_build_filename(folder, *name, NULL);
            g_unlink(path);
            g_free(path);
        }
    }
    g_strfreev(names);
}

static bool write_file(const char *folder, const char *name, const char *text, size_t size,
                       nsk_error *error) {
    char *path = g_build_filename(folder, name, NULL);
    char *parent = g_path_get_dirname(path);
    bool good = (g_mkdir_with_parents(parent, 0777) == 0 ||
                 nsk_fail(error, "%s: cannot be made: %s", parent, g_strerror(errno))) &&
                nsk_file_write(path, text, size, error);
    g_free(parent);
    g_free(path);
    return good;
}

/* ---- all or nothing ---- */

static void take_away(const char *path) {
    GDir *dir = g_dir_open(path, 0, NULL);
    for (const char *name; dir != NULL && (name = g_dir_read_name(dir)) != NULL;) {
        char *file = g_build_filename(path, name, NULL);
        g_unlink(file);
        g_free(file);
    }
    if (dir != NULL) {
        g_dir_close(dir);
    }
    g_rmdir(path);
}

/* Each under its number. */
static bool write_waiting(const nsk_bundle *bundle, const char *waiting, const char *list,
                          nsk_error *error) {
    bool good = write_file(waiting, LIST, list, strlen(list), error);
    for (guint i = 0; i < bundle->files->len && good; i++) {
        const bundled *file = &g_array_index(bundle->files, bundled, i);
        char number[16];
        g_snprintf(number, sizeof number, "%u", i);
        good = write_file(waiting, number, file->text->str, file->text->len, error);
    }
    return good;
}

static bool move_file(const char *waiting, const char *as, const char *folder, const char *name,
                      nsk_error *error) {
    char *from = g_build_filename(waiting, as, NULL);
    char *to = g_build_filename(folder, name, NULL);
    char *parent = g_path_get_dirname(to);
    bool good = (g_mkdir_with_parents(parent, 0777) == 0 && g_rename(from, to) == 0) ||
                nsk_fail(error, "%s: cannot be written: %s", to, g_strerror(errno));
    g_free(parent);
    g_free(to);
    g_free(from);
    return good;
}

/* The list comes first, so that the next hand-over knows its own whatever happens. */
static bool move_waiting(const nsk_bundle *bundle, const char *waiting, const char *folder,
                         nsk_error *error) {
    bool good = move_file(waiting, LIST, folder, LIST, error);
    for (guint i = 0; i < bundle->files->len && good; i++) {
        char number[16];
        g_snprintf(number, sizeof number, "%u", i);
        good = move_file(waiting, number, folder, g_array_index(bundle->files, bundled, i).name,
                         error);
    }
    return good;
}

bool nsk_bundle_write(const nsk_bundle *bundle, const char *folder, nsk_error *error) {
    char *list_path = g_build_filename(folder, LIST, NULL);
    char *earlier = NULL;
    g_file_get_contents(list_path, &earlier, NULL, NULL);
    g_free(list_path);
    if (g_file_test(folder, G_FILE_TEST_EXISTS) && !g_file_test(folder, G_FILE_TEST_IS_DIR)) {
        return nsk_fail(error, "%s: is a file; name a folder", folder);
    }
    if (earlier == NULL && !is_empty(folder)) {
        return nsk_fail(error, "%s: holds files that are not of a hand-over; name a new folder",
                        folder);
    }
    char *list = list_text(bundle);
    char *waiting = g_build_filename(folder, WAITING, NULL);
    bool good =
        write_waiting(bundle, waiting, list, error) && move_waiting(bundle, waiting, folder, error);
    take_away(waiting);
    if (good && earlier != NULL) {
        remove_stale(bundle, folder, earlier);
    }
    if (!good && earlier == NULL) {
        g_rmdir(folder); /* where nothing has come into it */
    }
    g_free(waiting);
    g_free(list);
    g_free(earlier);
    return good;
}

char **nsk_bundle_names(const nsk_bundle *bundle) {
    char *list = list_text(bundle);
    char **names = g_strsplit(g_strchomp(list), "\n", -1);
    g_free(list);
    return names;
}
