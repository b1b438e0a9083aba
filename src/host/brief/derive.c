/* A brief made of another. */
#include <stdio.h>
#include <string.h>

#include "brief/settings.h"
#include "netsuke/brief.h"
#include "netsuke/tools.h"

/* Settings that are paths, and what the brief has made of them: options may have put another in
 * their place. */
typedef struct path_setting {
    const char *group, *key, *path;
} path_setting;

enum { PATHS = 11 };

static void paths_of(const nsk_brief *b, path_setting *paths) {
    const path_setting all[PATHS] = {{"model", "labels", b->labels_path},
                                     {"images", "calibration", b->calibration},
                                     {"images", "held-out", b->held_out},
                                     {"images", "training", b->training},
                                     {"images", "calibration-labels", b->calibration_labels},
                                     {"images", "held-out-labels", b->held_out_labels},
                                     {"images", "training-labels", b->training_labels},
                                     {"stages", "teacher", b->teacher},
                                     {"board", "file", b->board},
                                     {"rehearsal", "scenes", NULL},
                                     {"report", "variants", b->variants_brief}};
    memcpy(paths, all, sizeof all);
}

/* A path as seen from a folder, both as they are from here. g_free. */
static char *seen_from(const char *folder, const char *path) {
    char *from = g_canonicalize_filename(folder, NULL);
    char *to = g_canonicalize_filename(path, NULL);
    char **up = g_strsplit(from, "/", -1);
    char **down = g_strsplit(to, "/", -1);
    int shared = 0;
    while (up[shared] != NULL && down[shared] != NULL && strcmp(up[shared], down[shared]) == 0) {
        shared++;
    }
    GString *seen = g_string_new(NULL);
    for (int i = shared; up[i] != NULL; i++) {
        g_string_append(seen, up[i][0] != '\0' ? "../" : "");
    }
    for (int i = shared; down[i] != NULL; i++) {
        g_string_append_printf(seen, "%s%s", down[i], down[i + 1] != NULL ? "/" : "");
    }
    g_strfreev(up);
    g_strfreev(down);
    g_free(from);
    g_free(to);
    return g_string_free(seen, FALSE);
}

static void put(GString *text, const char *key, const char *value) {
    g_string_append_printf(text, "%s = %s\n", key, value);
}

static void put_scenes(GString *text, const nsk_brief *brief, const char *folder) {
    GString *all = g_string_new(NULL);
    for (char **scene = brief->scenes; scene != NULL && *scene != NULL; scene++) {
        char *seen = seen_from(folder, *scene);
        g_string_append_printf(all, "%s%s", all->len > 0 ? ";" : "", seen);
        g_free(seen);
    }
    put(text, "scenes", all->str);
    g_string_free(all, TRUE);
}

/* A setting as it is, or its path as seen from the folder. */
static void put_setting(GString *text, const nsk_brief *brief, const char *group, const char *key,
                        const char *folder) {
    path_setting paths[PATHS];
    const char *path = NULL;
    paths_of(brief, paths);
    for (int i = 0; i < PATHS; i++) {
        const bool own = strcmp(paths[i].group, group) == 0 && strcmp(paths[i].key, key) == 0;
        path = own ? paths[i].path : path;
    }
    if (strcmp(group, "rehearsal") == 0) {
        put_scenes(text, brief, folder);
    } else if (path != NULL) {
        char *seen = seen_from(folder, path);
        put(text, key, seen);
        g_free(seen);
    } else {
        put(text, key, nsk_settings_text(brief->settings, group, key));
    }
}

static bool has_key(const char *const *keys, const char *key) {
    return keys != NULL && g_strv_contains(keys, key);
}

/* What options have said of the brief, where it says nothing itself. */
static void put_added(GString *text, const nsk_brief *brief, const char *group,
                      const char *folder) {
    path_setting paths[PATHS];
    const char *const *keys = nsk_settings_keys(brief->settings, group);
    paths_of(brief, paths);
    for (int i = 0; i < PATHS; i++) {
        if (strcmp(paths[i].group, group) == 0 && paths[i].path != NULL &&
            !has_key(keys, paths[i].key)) {
            put_setting(text, brief, group, paths[i].key, folder);
        }
    }
}

static void put_group(GString *text, const nsk_brief *brief, const nsk_derived *derived,
                      const char *group, const char *folder) {
    const gsize before = text->len;
    g_string_append_printf(text, "\n[%s]\n", group);
    const gsize head = text->len;
    if (strcmp(group, "model") == 0) {
        put(text, "file", derived->models[0]);
    }
    const char *const *keys = nsk_settings_keys(brief->settings, group);
    for (; keys != NULL && *keys != NULL; keys++) {
        const bool said = (strcmp(group, "model") == 0 &&
                           (strcmp(*keys, "file") == 0 || strcmp(*keys, "output") == 0)) ||
                          (strcmp(group, "limits") == 0 && derived->latency > 0.0 &&
                           strcmp(*keys, "latency") == 0);
        if (!said) {
            put_setting(text, brief, group, *keys, folder);
        }
    }
    put_added(text, brief, group, folder);
    if (strcmp(group, "limits") == 0 && derived->latency > 0.0) {
        g_string_append_printf(text, "latency = %.6g ms\n", 1e3 * derived->latency);
    }
    if (text->len == head) {
        g_string_truncate(text, before);
    }
}

static void put_variants(GString *text, const nsk_derived *derived) {
    if (derived->models[1] != NULL) {
        char *all = g_strjoinv(";", (char **)derived->models);
        g_string_append(text, "\n[vary]\n");
        put(text, "model", all);
        g_free(all);
    }
}

bool nsk_brief_derive(const nsk_brief *brief, const nsk_derived *derived, const char *path,
                      nsk_error *error) {
    GString *text = g_string_new(NULL);
    char *folder = g_path_get_dirname(path);
    g_string_append_printf(text, "# %s\n", derived->comment);
    for (const nsk_setting_name *s = nsk_brief_settings; s->group != NULL; s++) {
        bool first = strcmp(s->group, "vary") != 0;
        for (const nsk_setting_name *before = nsk_brief_settings; before < s; before++) {
            first = first && strcmp(before->group, s->group) != 0;
        }
        if (first) {
            put_group(text, brief, derived, s->group, folder);
        }
    }
    put_variants(text, derived);
    const bool good = nsk_file_write(path, text->str, text->len, error);
    g_string_free(text, TRUE);
    g_free(folder);
    return good;
}
