/* Pictures taken into a set, moved in it, and back. */
#include "netsuke/gather.h"

#include <errno.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>

#include "images/set.h"

/* Hidden: no set takes them for pictures. */
static const char JOURNAL[] = ".journal.csv";
static const char ASIDE[] = ".set-aside";

struct nsk_gathering {
    char *folder;
    const nsk_labels *labels;
    int *counts;
    GPtrArray *steps; /* of GArray of nsk_moved */
    GArray *did;      /* of nsk_moved: what the last call did */
};

static void clear_moved(void *data) {
    nsk_moved *m = data;
    g_free(m->from);
    g_free(m->to);
}

static GArray *new_moves(void) {
    GArray *moves = g_array_new(FALSE, FALSE, sizeof(nsk_moved));
    g_array_set_clear_func(moves, clear_moved);
    return moves;
}

static void free_moves(void *data) {
    g_array_free(data, TRUE);
}

/* ---- what is there ---- */

static int count_pictures(const char *folder, const char *label) {
    GPtrArray *paths = g_ptr_array_new_with_free_func(g_free);
    char *path = g_build_filename(folder, label, NULL);
    nsk_error missing;
    const int count = nsk_list_pictures(path, paths, &missing) ? (int)paths->len : 0;
    g_ptr_array_free(paths, TRUE);
    g_free(path);
    return count;
}

/* A label becomes a folder's name. */
static bool is_name(const char *label) {
    return label[0] != '.' && label[0] != '\0' && strchr(label, G_DIR_SEPARATOR) == NULL;
}

nsk_gathering *nsk_gathering_open(const char *folder, const nsk_labels *labels, nsk_error *error) {
    if (g_mkdir_with_parents(folder, 0777) != 0) {
        nsk_fail_system(error, "%s: %s", folder, g_strerror(errno));
        return NULL;
    }
    nsk_gathering *g = g_new0(nsk_gathering, 1);
    g->folder = g_strdup(folder);
    g->labels = labels;
    g->counts = g_new0(int, labels->count);
    g->steps = g_ptr_array_new_with_free_func(free_moves);
    g->did = new_moves();
    for (int i = 0; i < labels->count; i++) {
        g->counts[i] = is_name(labels->names[i]) ? count_pictures(folder, labels->names[i]) : 0;
    }
    return g;
}

void nsk_gathering_close(nsk_gathering *gathering) {
    if (gathering != NULL) {
        g_ptr_array_free(gathering->steps, TRUE);
        g_array_free(gathering->did, TRUE);
        g_free(gathering->counts);
        g_free(gathering->folder);
        g_free(gathering);
    }
}

int nsk_gathering_label(const nsk_gathering *gathering, const char *name) {
    const char *slash = strchr(name, G_DIR_SEPARATOR);
    char *folder = slash != NULL ? g_strndup(name, (gsize)(slash - name)) : g_strdup("");
    const int label = strcmp(folder, ASIDE) == 0 ? NSK_SET_ASIDE
                      : slash == NULL            ? NSK_NO_LABEL
                                                 : nsk_label_index(gathering->labels, folder);
    g_free(folder);
    return label;
}

/* ---- the journal ---- */

static bool note(const nsk_gathering *g, const char *what, const nsk_moved *moved,
                 nsk_error *error) {
    char *path = g_build_filename(g->folder, JOURNAL, NULL);
    GDateTime *now = g_date_time_new_now_utc();
    char *time = g_date_time_format_iso8601(now);
    FILE *journal = fopen(path, "a");
    bool good = journal != NULL &&
                fprintf(journal, "%s,%s,%s,%s\n", time, what, moved->from, moved->to) > 0;
    good = journal != NULL && fclose(journal) == 0 && good;
    if (!good) {
        nsk_fail_system(error, "%s: %s", path, g_strerror(errno));
    }
    g_free(time);
    g_date_time_unref(now);
    g_free(path);
    return good;
}

static void count_moved(nsk_gathering *g, const nsk_moved *moved) {
    const int labels[] = {moved->from[0] != '\0' ? nsk_gathering_label(g, moved->from)
                                                 : NSK_NO_LABEL,
                          nsk_gathering_label(g, moved->to)};
    for (int k = 0; k < 2; k++) {
        if (labels[k] >= 0) {
            g->counts[labels[k]] += k == 0 ? -1 : 1;
        }
    }
}

/* It has happened: counted, told by nsk_gathering_did, and written down. */
static bool has_moved(nsk_gathering *g, const char *what, const char *from, const char *to,
                      nsk_error *error) {
    const nsk_moved moved = {g_strdup(from), g_strdup(to)};
    g_array_append_val(g->did, moved);
    count_moved(g, &moved);
    return note(g, what, &moved, error);
}

/* The step that can be taken back later. */
static void remember(nsk_gathering *g) {
    GArray *step = new_moves();
    for (guint i = 0; i < g->did->len; i++) {
        const nsk_moved *m = &g_array_index(g->did, nsk_moved, i);
        const nsk_moved copy = {g_strdup(m->from), g_strdup(m->to)};
        g_array_append_val(step, copy);
    }
    if (step->len > 0) {
        g_ptr_array_add(g->steps, step);
    } else {
        free_moves(step);
    }
}

/* ---- names ---- */

/* A file of that name that is not there yet, in a folder that is: "a-2.png" where "a.png" is. */
static char *free_name(const nsk_gathering *g, const char *folder, const char *file,
                       nsk_error *error) {
    char *whole = g_build_filename(g->folder, folder, NULL);
    const char *dot = strrchr(file, '.');
    const int stem = (int)(dot != NULL ? dot - file : (ptrdiff_t)strlen(file));
    char *name = NULL;
    if (g_mkdir_with_parents(whole, 0777) != 0) {
        nsk_fail_system(error, "%s: %s", whole, g_strerror(errno));
        g_free(whole);
        return NULL;
    }
    for (int i = 1; name == NULL; i++) {
        char *one = i == 1 ? g_strdup(file)
                           : g_strdup_printf("%.*s-%d%s", stem, file, i, dot != NULL ? dot : "");
        char *path = g_build_filename(whole, one, NULL);
        if (!g_file_test(path, G_FILE_TEST_EXISTS)) {
            name = g_build_filename(folder, one, NULL);
        }
        g_free(path);
        g_free(one);
    }
    g_free(whole);
    return name;
}

/* "20261201T224512.345-chip-62.png". */
static char *name_of(const char *answer, double probability) {
    GDateTime *now = g_date_time_new_now_utc();
    char *time = g_date_time_format(now, "%Y%m%dT%H%M%S");
    char *said = g_strdup(answer);
    for (char *at = said; *at != '\0'; at++) {
        if (!g_ascii_isalnum(*at) && *at != '+' && *at != '_') {
            *at = '_';
        }
    }
    char *name =
        g_strdup_printf("%s.%03d-%s-%.0f.png", time, g_date_time_get_microsecond(now) / 1000, said,
                        100.0 * probability);
    g_free(said);
    g_free(time);
    g_date_time_unref(now);
    return name;
}

/* The folder of a label, or NULL and an error. */
static const char *folder_of(const nsk_gathering *g, int label, nsk_error *error) {
    if (label == NSK_SET_ASIDE) {
        return ASIDE;
    }
    const char *folder = label >= 0 && label < g->labels->count ? g->labels->names[label] : "";
    if (!is_name(folder)) {
        nsk_fail(error, "label %d ('%s') can be no folder", label, folder);
        return NULL;
    }
    return folder;
}

/* ---- steps ---- */

static bool write_picture(const nsk_gathering *g, const char *name, const uint8_t *rgb, int width,
                          int height, nsk_error *error) {
    char *path = g_build_filename(g->folder, name, NULL);
    const nsk_picture picture = {.width = width, .height = height, .rgb = (uint8_t *)rgb};
    const bool good = nsk_picture_write_png(&picture, path, error);
    g_free(path);
    return good;
}

bool nsk_gathering_take(nsk_gathering *gathering, const uint8_t *rgb, int width, int height,
                        int label, const char *answer, double probability, nsk_error *error) {
    nsk_gathering *g = gathering;
    const char *folder = folder_of(g, label, error);
    g_array_set_size(g->did, 0);
    if (folder == NULL) {
        return false;
    }
    char *file = name_of(answer, probability);
    char *name = free_name(g, folder, file, error);
    bool good = name != NULL && write_picture(g, name, rgb, width, height, error);
    if (good) {
        good = has_moved(g, "taken", "", name, error);
        remember(g);
    }
    g_free(name);
    g_free(file);
    return good;
}

/* Into a folder under its own name, or one like it that is free. */
static bool move_one(nsk_gathering *g, const char *what, const char *name, const char *folder,
                     const char *file, nsk_error *error) {
    char *to = free_name(g, folder, file, error);
    char *paths[] = {g_build_filename(g->folder, name, NULL),
                     to != NULL ? g_build_filename(g->folder, to, NULL) : NULL};
    const bool good = to != NULL &&
                      (g_rename(paths[0], paths[1]) == 0 ||
                       nsk_fail_system(error, "%s: %s", paths[0], g_strerror(errno))) &&
                      has_moved(g, what, name, to, error);
    g_free(paths[0]);
    g_free(paths[1]);
    g_free(to);
    return good;
}

bool nsk_gathering_move(nsk_gathering *gathering, const char *const *names, int count, int label,
                        nsk_error *error) {
    nsk_gathering *g = gathering;
    const char *folder = folder_of(g, label, error);
    bool good = folder != NULL;
    g_array_set_size(g->did, 0);
    for (int i = 0; i < count && good; i++) {
        char *file = g_path_get_basename(names[i]);
        if (nsk_gathering_label(g, names[i]) != label) {
            good = move_one(g, label == NSK_SET_ASIDE ? "set aside" : "moved", names[i], folder,
                            file, error);
        }
        g_free(file);
    }
    remember(g);
    return good;
}

/* Where a picture came from, or, where it was new, out of the set. */
static bool move_back(nsk_gathering *g, const nsk_moved *moved, nsk_error *error) {
    const bool was_new = moved->from[0] == '\0';
    char *folder = was_new ? g_strdup(ASIDE) : g_path_get_dirname(moved->from);
    char *file = g_path_get_basename(was_new ? moved->to : moved->from);
    const bool good =
        move_one(g, "taken back", moved->to, strcmp(folder, ".") == 0 ? "" : folder, file, error);
    g_free(file);
    g_free(folder);
    return good;
}

bool nsk_gathering_back(nsk_gathering *gathering, nsk_error *error) {
    nsk_gathering *g = gathering;
    g_array_set_size(g->did, 0);
    if (g->steps->len == 0) {
        return nsk_fail(error, "there is no step to take back");
    }
    GArray *last = g->steps->pdata[g->steps->len - 1];
    bool good = true;
    while (last->len > 0 && good) { /* what cannot be moved back can be tried again */
        good = move_back(g, &g_array_index(last, nsk_moved, last->len - 1), error);
        if (good) {
            g_array_set_size(last, last->len - 1);
        }
    }
    if (good) {
        g_ptr_array_set_size(g->steps, (int)g->steps->len - 1);
    }
    return good;
}

int nsk_gathering_did(const nsk_gathering *gathering, const nsk_moved **moved) {
    *moved = (const nsk_moved *)(void *)gathering->did->data;
    return (int)gathering->did->len;
}

int nsk_gathering_count(const nsk_gathering *gathering, int label) {
    return gathering->counts[label];
}

int nsk_gathering_steps(const nsk_gathering *gathering) {
    return (int)gathering->steps->len;
}

const char *nsk_gathering_last(const nsk_gathering *gathering) {
    const GPtrArray *steps = gathering->steps;
    if (steps->len == 0) {
        return "";
    }
    const GArray *last = steps->pdata[steps->len - 1];
    return g_array_index(last, nsk_moved, last->len - 1).to;
}
