#include "brief/settings.h"

#include <math.h>
#include <stdio.h>
#include <string.h>

#include "netsuke/tools.h"

typedef struct entry {
    char *value;
    int line;
} entry;

struct nsk_settings {
    char *path;
    GHashTable *entries; /* "group\nkey" to entry */
    GHashTable *groups;  /* group to GPtrArray of keys */
};

static void free_entry(void *data) {
    entry *e = data;
    g_free(e->value);
    g_free(e);
}

static void free_keys(void *data) {
    g_ptr_array_free(data, TRUE);
}

static entry *find(const nsk_settings *s, const char *group, const char *key) {
    char *joined = g_strdup_printf("%s\n%s", group, key);
    entry *e = g_hash_table_lookup(s->entries, joined);
    g_free(joined);
    return e;
}

static bool is_known(const nsk_setting_name *known, const char *group, const char *key) {
    for (; known->group != NULL; known++) {
        if (strcmp(known->group, group) == 0 &&
            (key == NULL || strcmp(known->key, "*") == 0 || strcmp(known->key, key) == 0)) {
            return true;
        }
    }
    return false;
}

/* What may stand in the group, or the groups where `group` is NULL; each once, NULL behind the
 * last.
 */
static GPtrArray *known_names(const nsk_setting_name *known, const char *group) {
    GPtrArray *names = g_ptr_array_new();
    for (; known->group != NULL; known++) {
        const char *name = group == NULL ? known->group : known->key;
        bool fits = group == NULL || strcmp(known->group, group) == 0;
        if (fits && strcmp(name, "*") != 0 &&
            !g_ptr_array_find_with_equal_func(names, name, g_str_equal, NULL)) {
            g_ptr_array_add(names, (char *)name);
        }
    }
    g_ptr_array_add(names, NULL);
    return names;
}

/* "unknown KIND 'color' in [input]; did you mean 'colour'? Known are: size, colour, fit" */
static bool fail_unknown(const nsk_settings *s, int line, const char *what, const char *word,
                         GPtrArray *names, nsk_error *error) {
    char *list = g_strjoinv(", ", (char **)names->pdata);
    char *meant = nsk_did_you_mean(word, (const char *const *)names->pdata);
    nsk_fail(error, "%s:%d: unknown %s%s%s known are: %s", s->path, line, what, meant,
             meant[0] != '\0' ? "" : ";", list);
    g_free(list);
    g_free(meant);
    g_ptr_array_free(names, TRUE);
    return false;
}

/* Cuts a comment off: a ';' or '#' with a blank before it. */
static void cut_comment(char *text) {
    for (char *c = text; *c != '\0'; c++) {
        if ((*c == ';' || *c == '#') && c > text && g_ascii_isspace(c[-1])) {
            *c = '\0';
            return;
        }
    }
}

static bool take_group(nsk_settings *s, const nsk_setting_name *known, char *line, int number,
                       char **group, nsk_error *error) {
    char *end = strchr(line, ']');
    if (end == NULL) {
        return nsk_fail(error, "%s:%d: a group's name ends with ']'", s->path, number);
    }
    *end = '\0';
    g_free(*group);
    *group = g_strdup(g_strstrip(line + 1));
    if (!is_known(known, *group, NULL)) {
        char *what = g_strdup_printf("group [%s]", *group);
        fail_unknown(s, number, what, *group, known_names(known, NULL), error);
        g_free(what);
        return false;
    }
    return true;
}

static void insert(nsk_settings *s, const char *group, const char *key, const char *value,
                   int line) {
    entry *e = g_new(entry, 1);
    e->value = g_strdup(value);
    e->line = line;
    GPtrArray *keys = g_hash_table_lookup(s->groups, group);
    if (keys == NULL) {
        keys = g_ptr_array_new_with_free_func(g_free);
        g_ptr_array_add(keys, NULL);
        g_hash_table_insert(s->groups, g_strdup(group), keys);
    }
    if (find(s, group, key) == NULL) {
        g_ptr_array_insert(keys, (int)keys->len - 1, g_strdup(key));
    }
    g_hash_table_insert(s->entries, g_strdup_printf("%s\n%s", group, key), e);
}

void nsk_settings_put(nsk_settings *s, const char *group, const char *key, const char *text,
                      const char *like_group, const char *like_key) {
    const entry *like = find(s, like_group, like_key);
    insert(s, group, key, text, like != NULL ? like->line : 0);
}

static bool take_setting(nsk_settings *s, const nsk_setting_name *known, char *line, int number,
                         const char *group, nsk_error *error) {
    char *equals = strchr(line, '=');
    if (equals == NULL || group == NULL) {
        return nsk_fail(error, "%s:%d: neither a [group], a 'key = value' under one, nor a comment",
                        s->path, number);
    }
    *equals = '\0';
    char *key = g_strstrip(line);
    char *value = equals + 1;
    cut_comment(value);
    g_strstrip(value);
    if (!is_known(known, group, key)) {
        char *what = g_strdup_printf("key '%s' in [%s]", key, group);
        fail_unknown(s, number, what, key, known_names(known, group), error);
        g_free(what);
        return false;
    }
    if (find(s, group, key) != NULL) {
        return nsk_fail(error, "%s:%d: '%s' stands on line %d already; keep one", s->path, number,
                        key, find(s, group, key)->line);
    }
    if (*value == '\0') {
        return nsk_fail(error, "%s:%d: '%s' has no value; give it one, or leave the line out",
                        s->path, number, key);
    }
    insert(s, group, key, value, number);
    return true;
}

static bool parse(nsk_settings *s, const char *text, const nsk_setting_name *known,
                  nsk_error *error) {
    char **lines = g_strsplit(text, "\n", -1);
    char *group = NULL;
    bool good = true;
    for (int i = 0; lines[i] != NULL && good; i++) {
        char *line = g_strstrip(lines[i]);
        if (*line == '[') {
            good = take_group(s, known, line, i + 1, &group, error);
        } else if (*line != '\0' && *line != '#' && *line != ';') {
            good = take_setting(s, known, line, i + 1, group, error);
        }
    }
    g_free(group);
    g_strfreev(lines);
    return good;
}

nsk_settings *nsk_settings_read(const char *path, const nsk_setting_name *known, nsk_error *error) {
    size_t size;
    char *text = (char *)nsk_file_read(path, 1 << 20, &size, error);
    if (text == NULL) {
        return NULL;
    }
    nsk_settings *s = g_new0(nsk_settings, 1);
    s->path = g_strdup(path);
    s->entries = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, free_entry);
    s->groups = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, free_keys);
    bool good = strlen(text) == size && g_utf8_validate(text, (gssize)size, NULL);
    good = good ? parse(s, nsk_past_mark(text), known, error)
                : nsk_fail(error, "%s: not a text file; check the path", path);
    g_free(text);
    if (!good) {
        nsk_settings_free(s);
        return NULL;
    }
    return s;
}

void nsk_settings_free(nsk_settings *s) {
    if (s != NULL) {
        g_free(s->path);
        g_hash_table_destroy(s->entries);
        g_hash_table_destroy(s->groups);
        g_free(s);
    }
}

const char *nsk_settings_text(const nsk_settings *s, const char *group, const char *key) {
    const entry *e = find(s, group, key);
    return e != NULL && *e->value != '\0' ? e->value : NULL;
}

const char *nsk_settings_need(const nsk_settings *s, const char *group, const char *key,
                              nsk_error *error) {
    const char *text = nsk_settings_text(s, group, key);
    if (text == NULL) {
        nsk_fail(error, "%s: '%s' is missing; add it under [%s]", s->path, key, group);
    }
    return text;
}

int nsk_settings_line(const nsk_settings *s, const char *group, const char *key) {
    const entry *e = find(s, group, key);
    return e != NULL ? e->line : 0;
}

bool nsk_settings_fail(const nsk_settings *s, const char *group, const char *key, nsk_error *error,
                       const char *text) {
    return nsk_fail(error, "%s:%d: %s: %s", s->path, nsk_settings_line(s, group, key), key, text);
}

static bool scale_by_unit(const char *text, nsk_unit unit, double *value) {
    static const struct {
        nsk_unit unit;
        const char *name;
        double factor;
    } units[] = {
        {NSK_UNIT_NUMBER, "", 1.0},
        {NSK_UNIT_SHARE, "", 1.0},
        {NSK_UNIT_SHARE, "%", 0.01},
        {NSK_UNIT_POINTS, "", 1.0}, /* as every version has read it */
        {NSK_UNIT_POINTS, "%", 1.0},
        {NSK_UNIT_POINTS, "point", 1.0},
        {NSK_UNIT_POINTS, "points", 1.0},
        {NSK_UNIT_BYTES, "B", 1.0},
        {NSK_UNIT_BYTES, "KiB", 1024.0},
        {NSK_UNIT_BYTES, "MiB", 1048576.0},
        {NSK_UNIT_BYTES, "kB", 1000.0},
        {NSK_UNIT_BYTES, "MB", 1e6},
        {NSK_UNIT_SECONDS, "s", 1.0},
        {NSK_UNIT_SECONDS, "ms", 1e-3},
        {NSK_UNIT_SECONDS, "us", 1e-6},
        {NSK_UNIT_HERTZ, "Hz", 1.0},
        {NSK_UNIT_HERTZ, "kHz", 1e3},
        {NSK_UNIT_HERTZ, "MHz", 1e6},
        {NSK_UNIT_HERTZ, "GHz", 1e9},
        {NSK_UNIT_PER_SECOND, "/s", 1.0},
        {NSK_UNIT_WATTS, "W", 1.0},
        {NSK_UNIT_WATTS, "mW", 1e-3},
        {NSK_UNIT_WATTS, "uW", 1e-6},
        {NSK_UNIT_JOULES, "Wh", 3600.0},
        {NSK_UNIT_JOULES, "mWh", 3.6},
        {NSK_UNIT_JOULES, "J", 1.0},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(units); i++) {
        if (units[i].unit == unit && strcmp(units[i].name, text) == 0) {
            *value *= units[i].factor;
            return true;
        }
    }
    return false;
}

static const char *unit_example(nsk_unit unit) {
    static const char *const examples[] = {[NSK_UNIT_NUMBER] = "a number",
                                           [NSK_UNIT_SHARE] = "a share, as in '0.6' or '60 %'",
                                           [NSK_UNIT_POINTS] = "points, as in '1 points' or '1 %'",
                                           [NSK_UNIT_BYTES] = "bytes, as in '64 KiB'",
                                           [NSK_UNIT_SECONDS] = "a time, as in '40 ms'",
                                           [NSK_UNIT_HERTZ] = "a frequency, as in '80 MHz'",
                                           [NSK_UNIT_PER_SECOND] = "a rate, as in '5 /s'",
                                           [NSK_UNIT_WATTS] = "power, as in '30 mW'",
                                           [NSK_UNIT_JOULES] = "energy, as in '9 Wh'"};
    return examples[unit];
}

/* A decimal number: none in hexadecimal, none in words. */
static bool take_number(const char *text, char **end, double *number) {
    *number = g_ascii_strtod(text, end);
    size_t plain = strspn(text, " \t+-.0123456789eE");
    return *end != text && *end <= text + plain && isfinite(*number);
}

static bool take_with_unit(const char *text, nsk_unit unit, double *number) {
    char *end;
    bool good = take_number(text, &end, number);
    char *name = g_strstrip(g_strdup(end));
    good = good && scale_by_unit(name, unit, number);
    g_free(name);
    return good;
}

bool nsk_seconds_of(const char *text, double *seconds) {
    return take_with_unit(text, NSK_UNIT_SECONDS, seconds);
}

bool nsk_settings_number(const nsk_settings *s, const char *group, const char *key, nsk_unit unit,
                         double least, double most, double *value, nsk_error *error) {
    const char *text = nsk_settings_text(s, group, key);
    if (text == NULL) {
        return true;
    }
    double number;
    const bool good = take_with_unit(text, unit, &number);
    if (!good || number < least || number > most) {
        char *wanted =
            g_strdup_printf("'%s' should be %s, from %g to %g%s", text, unit_example(unit), least,
                            most, good || unit == NSK_UNIT_NUMBER ? "" : ": a number and its unit");
        nsk_settings_fail(s, group, key, error, wanted);
        g_free(wanted);
        return false;
    }
    *value = number;
    return true;
}

bool nsk_settings_triple(const nsk_settings *s, const char *group, const char *key, double *values,
                         nsk_error *error) {
    const char *text = nsk_settings_text(s, group, key);
    if (text == NULL) {
        return true;
    }
    int count = 0;
    const char *at = text;
    while (count < 3) {
        char *end;
        if (!take_number(at, &end, &values[count])) {
            break;
        }
        count++;
        at = end + strspn(end, " \t");
        if (*at != ';') {
            break;
        }
        at++;
    }
    if ((count != 1 && count != 3) || *at != '\0') {
        return nsk_settings_fail(s, group, key, error,
                                 "one number, or three parted by ';', is needed");
    }
    for (int i = count; i < 3; i++) {
        values[i] = values[0];
    }
    return true;
}

int nsk_settings_count(const nsk_settings *s, const char *group, const char *key) {
    int count = 0;
    for (const char *at = nsk_settings_text(s, group, key); at != NULL; count++) {
        at = strchr(at, ';');
        at = at != NULL ? at + 1 : NULL;
    }
    return count;
}

bool nsk_settings_choice(const nsk_settings *s, const char *group, const char *key,
                         const char *const *words, int *value, nsk_error *error) {
    const char *text = nsk_settings_text(s, group, key);
    if (text == NULL) {
        return true;
    }
    for (int i = 0; words[i] != NULL; i++) {
        if (strcmp(words[i], text) == 0) {
            *value = i;
            return true;
        }
    }
    char *list = g_strjoinv(", ", (char **)words);
    char *meant = nsk_did_you_mean(text, words);
    char *wanted = g_strdup_printf("'%s' is none of: %s%s", text, list, meant);
    nsk_settings_fail(s, group, key, error, wanted);
    g_free(list);
    g_free(meant);
    g_free(wanted);
    return false;
}

const char *const *nsk_settings_keys(const nsk_settings *s, const char *group) {
    const GPtrArray *keys = g_hash_table_lookup(s->groups, group);
    return keys != NULL ? (const char *const *)keys->pdata : NULL;
}

bool nsk_settings_whole(const nsk_settings *s, const char *group, const char *key, int least,
                        int most, int *to, nsk_error *error) {
    double value = *to;
    if (!nsk_settings_number(s, group, key, NSK_UNIT_NUMBER, least, most, &value, error)) {
        return false;
    }
    *to = (int)value;
    return *to == value || nsk_settings_fail(s, group, key, error, "a whole number is needed");
}

bool nsk_settings_size(const nsk_settings *s, const char *group, const char *key, int *width,
                       int *height, nsk_error *error) {
    const char *text = nsk_settings_text(s, group, key);
    char rest;
    if (text == NULL) {
        return true;
    }
    if (sscanf(text, "%4dx%4d%c", width, height, &rest) != 2 || *width < 1 || *height < 1 ||
        *width > 4096 || *height > 4096) {
        return nsk_settings_fail(s, group, key, error,
                                 "width x height in pixels is needed, as in '48x48', at most 4096");
    }
    return true;
}
