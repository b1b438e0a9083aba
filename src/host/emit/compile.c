/* Code as a linker places it: a hand-over, built for a core in a folder of its own. */
#include <glib/gstdio.h>
#include <string.h>

#include "estimate/link_map.h"
#include "netsuke/budget.h"
#include "netsuke/emit.h"

static bool build(const char *folder, const char *core, nsk_error *error) {
    char *target = g_strdup_printf("build/%s.elf", core);
    char *setting = g_strdup_printf("CORE=%s", core);
    char *arguments[] = {(char *)"make", (char *)"-s", (char *)"-C", (char *)folder,
                         setting,        target,       NULL};
    char **environment = g_environ_unsetenv(g_get_environ(), "MAKEFLAGS");
    char *said = NULL;
    int status = 0;
    GError *reason = NULL;
    bool good =
        g_spawn_sync(NULL, arguments, environment, G_SPAWN_SEARCH_PATH | G_SPAWN_STDOUT_TO_DEV_NULL,
                     NULL, NULL, NULL, &said, &status, &reason) != FALSE;
    if (!good) {
        nsk_fail(error, "make cannot be started: %s", reason->message);
        g_error_free(reason);
    } else if (status != 0) {
        said[strcspn(said, "\n")] = '\0';
        good = nsk_fail(error, "the hand-over does not compile for %s: %s", core, said);
    }
    g_free(said);
    g_free(setting);
    g_free(target);
    g_strfreev(environment);
    return good;
}

static bool sum_code(const char *folder, const char *core, double *code, nsk_error *error) {
    char *path = g_strdup_printf("%s/build/%s.map", folder, core);
    GArray *objects = nsk_link_map_read(path, error);
    *code = 0.0;
    for (guint i = 0; objects != NULL && i < objects->len; i++) {
        const nsk_linked *one = &g_array_index(objects, nsk_linked, i);
        *code += nsk_linked_is_runtime(one) ? one->text : 0.0;
    }
    bool good = objects != NULL;
    nsk_link_map_free(objects);
    g_free(path);
    return good;
}

static void remove_folder(const char *folder) {
    char *arguments[] = {(char *)"rm", (char *)"-rf", (char *)"--", (char *)folder, NULL};
    g_spawn_sync(NULL, arguments, NULL, G_SPAWN_SEARCH_PATH, NULL, NULL, NULL, NULL, NULL, NULL);
}

bool nsk_budget_compile(const nsk_model_file *model, const char *core, double *code,
                        nsk_error *error) {
    GError *reason = NULL;
    char *scratch = g_dir_make_tmp("netsuke-XXXXXX", &reason);
    if (scratch == NULL) {
        nsk_fail(error, "%s", reason->message);
        g_error_free(reason);
        return false;
    }
    char *folder = g_build_filename(scratch, "handed", NULL);
    const nsk_handed_network network = {.name = "model", .model = model};
    char **files = nsk_emit(&network, 1, folder, error);
    bool good = files != NULL && build(folder, core, error) && sum_code(folder, core, code, error);
    g_strfreev(files);
    remove_folder(scratch);
    g_free(folder);
    g_free(scratch);
    return good;
}
