/* Pictures taken into a set. */
#include "netsuke/gather.h"

#include <errno.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>

#include "images/picture.h"

/* Hidden: no set takes them for pictures. */
static const char JOURNAL[] = ".journal.csv";
static const char ASIDE[] = ".set-aside";

typedef struct step {
    int label;
    char *name; /* "LABEL/NAME.png" */
} step;

struct nsk_gathering {
    char *folder;
    const nsk_labels *labels;
    int *counts;
    GArray *steps;
};

static void clear_step(void *data) {
    g_free(((step *)data)->name);
}

/* ---- what is there ---- */

static int count_pictures(const char *folder, const char *label) {
    char *path = g_build_filename(folder, label, NULL);
    GDir *dir = g_dir_open(path, 0, NULL);
    int count = 0;
    for (const char *name; dir != NULL && (name = g_dir_read_name(dir)) != NULL;) {
        count += name[0] != '.';
    }
    if (dir != NULL) {
        g_dir_close(dir);
    }
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
    g->steps = g_array_new(FALSE, FALSE, sizeof(step));
    g_array_set_clear_func(g->steps, clear_step);
    for (int i = 0; i < labels->count; i++) {
        g->counts[i] = is_name(labels->names[i]) ? count_pictures(folder, labels->names[i]) : 0;
    }
    return g;
}

void nsk_gathering_close(nsk_gathering *gathering) {
    if (gathering != NULL) {
        g_array_free(gathering->steps, TRUE);
        g_free(gathering->counts);
        g_free(gathering->folder);
        g_free(gathering);
    }
}

/* ---- steps ---- */

static bool note(const nsk_gathering *g, const char *what, const char *from, const char *to,
                 nsk_error *error) {
    char *path = g_build_filename(g->folder, JOURNAL, NULL);
    GDateTime *now = g_date_time_new_now_utc();
    char *time = g_date_time_format_iso8601(now);
    FILE *journal = fopen(path, "a");
    bool good = journal != NULL && fprintf(journal, "%s,%s,%s,%s\n", time, what, from, to) > 0;
    good = journal != NULL && fclose(journal) == 0 && good;
    if (!good) {
        nsk_fail_system(error, "%s: %s", path, g_strerror(errno));
    }
    g_free(time);
    g_date_time_unref(now);
    g_free(path);
    return good;
}

/* A file of that name that is not there yet, in a folder that is: "NAME-2.png" where it is. */
static char *free_name(const nsk_gathering *g, const char *folder, const char *stem,
                       nsk_error *error) {
    char *whole = g_build_filename(g->folder, folder, NULL);
    char *name = NULL;
    if (g_mkdir_with_parents(whole, 0777) != 0) {
        nsk_fail_system(error, "%s: %s", whole, g_strerror(errno));
        g_free(whole);
        return NULL;
    }
    for (int i = 1; name == NULL; i++) {
        char *file =
            i == 1 ? g_strdup_printf("%s.png", stem) : g_strdup_printf("%s-%d.png", stem, i);
        char *path = g_build_filename(whole, file, NULL);
        if (!g_file_test(path, G_FILE_TEST_EXISTS)) {
            name = g_build_filename(folder, file, NULL);
        }
        g_free(path);
        g_free(file);
    }
    g_free(whole);
    return name;
}

/* "20261201T224512.345-chip-62". */
static char *stem_of(const char *answer, double probability) {
    GDateTime *now = g_date_time_new_now_utc();
    char *time = g_date_time_format(now, "%Y%m%dT%H%M%S");
    char *said = g_strdup(answer);
    for (char *at = said; *at != '\0'; at++) {
        if (!g_ascii_isalnum(*at) && *at != '+' && *at != '_') {
            *at = '_';
        }
    }
    char *stem = g_strdup_printf("%s.%03d-%s-%.0f", time, g_date_time_get_microsecond(now) / 1000,
                                 said, 100.0 * probability);
    g_free(said);
    g_free(time);
    g_date_time_unref(now);
    return stem;
}

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
    const char *folder = label >= 0 && label < g->labels->count ? g->labels->names[label] : "";
    if (!is_name(folder)) {
        return nsk_fail(error, "label %d ('%s') can be no folder", label, folder);
    }
    char *stem = stem_of(answer, probability);
    char *name = free_name(g, folder, stem, error);
    g_free(stem);
    if (name == NULL || !write_picture(g, name, rgb, width, height, error)) {
        g_free(name);
        return false;
    }
    const step one = {label, name};
    g_array_append_val(g->steps, one);
    g->counts[label]++;
    return note(g, "taken", "", name, error);
}

static bool move(const nsk_gathering *g, const char *from, const char *to, nsk_error *error) {
    char *paths[] = {g_build_filename(g->folder, from, NULL),
                     g_build_filename(g->folder, to, NULL)};
    const bool good = g_rename(paths[0], paths[1]) == 0 ||
                      nsk_fail_system(error, "%s: %s", paths[0], g_strerror(errno));
    g_free(paths[0]);
    g_free(paths[1]);
    return good;
}

bool nsk_gathering_back(nsk_gathering *gathering, nsk_error *error) {
    nsk_gathering *g = gathering;
    if (g->steps->len == 0) {
        return nsk_fail(error, "there is no step to take back");
    }
    const step *last = &g_array_index(g->steps, step, g->steps->len - 1);
    char *stem = g_path_get_basename(last->name);
    stem[strlen(stem) - strlen(".png")] = '\0';
    char *to = free_name(g, ASIDE, stem, error);
    bool good = to != NULL && move(g, last->name, to, error);
    if (good) {
        good = note(g, "taken back", last->name, to, error);
        g->counts[last->label]--;
        g_array_set_size(g->steps, g->steps->len - 1);
    }
    g_free(to);
    g_free(stem);
    return good;
}

int nsk_gathering_count(const nsk_gathering *gathering, int label) {
    return gathering->counts[label];
}

int nsk_gathering_steps(const nsk_gathering *gathering) {
    return (int)gathering->steps->len;
}

const char *nsk_gathering_last(const nsk_gathering *gathering) {
    const GArray *steps = gathering->steps;
    return steps->len > 0 ? g_array_index(steps, step, steps->len - 1).name : "";
}
