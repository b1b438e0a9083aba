/* Measurements of variants, kept in a folder until next time. */
#include "brief/settings.h"
#include "netsuke/weigh.h"

static const nsk_setting_name known[] = {
    {"measured", "images", NULL},
    {"measured", "float-correct", NULL},
    {"measured", "integer-correct", NULL},
    {"measured", "agree", NULL},
    {"measured", "lost", NULL},
    {"measured", "won", NULL},
    {NULL, NULL, NULL},
};

/* The counts in the order of `known`. */
static void list_counts(nsk_measured *m, int **counts) {
    counts[0] = &m->images;
    counts[1] = &m->float_correct;
    counts[2] = &m->integer_correct;
    counts[3] = &m->agree;
    counts[4] = &m->lost;
    counts[5] = &m->won;
}

enum { COUNTS = 6 };

static char *file_of(const char *folder, const char *key, const char *ending) {
    return g_strdup_printf("%s/%s.%s", folder, key, ending);
}

/* The counts come last: where they are, the model is. */
bool nsk_measured_write(const nsk_measured *measured, const char *folder, const char *key,
                        nsk_error *error) {
    nsk_measured copy = *measured;
    int *counts[COUNTS];
    list_counts(&copy, counts);
    GString *text =
        g_string_new("# What 'netsuke weigh' has measured; may be deleted.\n[measured]\n");
    for (int i = 0; i < COUNTS; i++) {
        g_string_append_printf(text, "%s = %d\n", known[i].key, *counts[i]);
    }
    char *model = file_of(folder, key, "nsk");
    char *path = file_of(folder, key, "ini");
    bool good = (g_mkdir_with_parents(folder, 0777) == 0 ||
                 nsk_fail(error, "%s: the folder cannot be made; check the path", folder)) &&
                nsk_model_file_write(measured->model, model, error) &&
                nsk_file_write(path, text->str, text->len, error);
    g_string_free(text, TRUE);
    g_free(model);
    g_free(path);
    return good;
}

bool nsk_measured_read(nsk_measured *m, const char *folder, const char *key) {
    nsk_error error;
    int *counts[COUNTS];
    char *path = file_of(folder, key, "ini");
    char *model = file_of(folder, key, "nsk");
    nsk_settings *s =
        g_file_test(path, G_FILE_TEST_EXISTS) ? nsk_settings_read(path, known, &error) : NULL;
    bool good = s != NULL;
    *m = (nsk_measured){0};
    list_counts(m, counts);
    for (int i = 0; i < COUNTS && good; i++) {
        double value = -1.0;
        good = nsk_settings_number(s, "measured", known[i].key, NSK_UNIT_NUMBER, 0, 1e9, &value,
                                   &error) &&
               value >= 0.0;
        *counts[i] = (int)value;
    }
    good = good && m->images > 0;
    m->model = good ? nsk_model_file_read(model, &error) : NULL;
    nsk_settings_free(s);
    g_free(path);
    g_free(model);
    return m->model != NULL;
}
