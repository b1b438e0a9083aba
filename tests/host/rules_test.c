/* The rules of the house: which room may use which, names, sizes. The table in src/README.md is the
 * order; sources and the objects that were made of them are held against it. */
#include <glib.h>
#include <stdbool.h>
#include <stdio.h>
#include <string.h>

#include "../suites.h"

/* Files, and what they take from each other. */
typedef struct house {
    char **rooms;      /* folders below the sources, in the table's order */
    GHashTable *owner; /* of a symbol: the file that defines it */
    GPtrArray *uses;   /* of use */
} house;

typedef struct use {
    char *from, *to, *what;
} use;

static void free_use(void *item) {
    use *u = item;
    g_free(u->from);
    g_free(u->to);
    g_free(u->what);
    g_free(u);
}

static void add_use(const house *h, const char *from, const char *to, const char *what) {
    use *u = g_new(use, 1);
    *u = (use){g_strdup(from), g_strdup(to), g_strdup(what)};
    g_ptr_array_add(h->uses, u);
}

/* The first column of the table: | `graph` | ... */
static char **rooms_of(const char *table) {
    GPtrArray *rooms = g_ptr_array_new();
    char **lines = g_strsplit(table, "\n", 0);
    for (char **line = lines; *line != NULL; line++) {
        if (g_str_has_prefix(*line, "| `")) {
            char *name = g_strndup(*line + 3, strcspn(*line + 3, "`"));
            char *path = g_strconcat("src/", name, NULL);
            g_ptr_array_add(rooms, g_canonicalize_filename(path, "/"));
            g_free(path);
            g_free(name);
        }
    }
    g_strfreev(lines);
    g_ptr_array_add(rooms, NULL);
    return (char **)g_ptr_array_free(rooms, FALSE);
}

static house *house_new(const char *table) {
    house *h = g_new0(house, 1);
    h->rooms = rooms_of(table);
    h->owner = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    h->uses = g_ptr_array_new_with_free_func(free_use);
    return h;
}

static void house_free(house *h) {
    g_strfreev(h->rooms);
    g_hash_table_destroy(h->owner);
    g_ptr_array_free(h->uses, TRUE);
    g_free(h);
}

/* The place in the order of the folder that a file stands in, or of the nearest around it. */
static int room_of(const house *h, const char *file) {
    int found = -1;
    size_t longest = 0;
    for (int i = 0; h->rooms[i] != NULL; i++) {
        const char *folder = h->rooms[i] + 1;
        size_t length = strlen(folder);
        if (length > longest && g_str_has_prefix(file, folder) && file[length] == '/') {
            found = i;
            longest = length;
        }
    }
    return found;
}

/* Uses of what stands further down in the table; how many. */
static int count_against_order(const house *h, bool tell) {
    int wrong = 0;
    for (guint i = 0; i < h->uses->len; i++) {
        const use *u = g_ptr_array_index(h->uses, i);
        int from = room_of(h, u->from);
        int to = room_of(h, u->to);
        if (from < 0 || to < 0 || from < to) {
            wrong++;
            if (tell) {
                fprintf(stderr, "\n    %s may not use %s of %s", u->from, u->what, u->to);
            }
        }
    }
    return wrong;
}

/* ---- circles of files ---- */

enum { NEW, OPEN, DONE };

/* A path on which files call each other and that comes back to where it began; NULL: none. */
static char *circle_from(const house *h, GHashTable *state, const char *file) {
    g_hash_table_insert(state, g_strdup(file), GINT_TO_POINTER(OPEN));
    for (guint i = 0; i < h->uses->len; i++) {
        const use *u = g_ptr_array_index(h->uses, i);
        if (strcmp(u->from, file) != 0 || strcmp(u->to, file) == 0) {
            continue;
        }
        int to = GPOINTER_TO_INT(g_hash_table_lookup(state, u->to));
        char *more = to == OPEN ? g_strdup(u->to) : to == NEW ? circle_from(h, state, u->to) : NULL;
        if (more != NULL) {
            char *path = g_strdup_printf("%s by %s to %s", file, u->what, more);
            g_free(more);
            return path;
        }
    }
    g_hash_table_insert(state, g_strdup(file), GINT_TO_POINTER(DONE));
    return NULL;
}

static char *first_circle(const house *h) {
    GHashTable *state = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, NULL);
    char *circle = NULL;
    for (guint i = 0; i < h->uses->len && circle == NULL; i++) {
        const use *u = g_ptr_array_index(h->uses, i);
        if (GPOINTER_TO_INT(g_hash_table_lookup(state, u->from)) == NEW) {
            circle = circle_from(h, state, u->from);
        }
    }
    g_hash_table_destroy(state);
    return circle;
}

/* ---- the sources ---- */

static char *text_of(const char *file) {
    char *path = g_build_filename(NSK_SOURCE_DIR, file, NULL);
    char *text = NULL;
    CU_ASSERT_FATAL(g_file_get_contents(path, &text, NULL, NULL));
    g_free(path);
    return text;
}

/* All files below a folder that end so, in order; as seen from the root of `base`. */
static void list_files(const char *base, const char *folder, const char *ending, GPtrArray *to) {
    char *path = g_build_filename(base, folder, NULL);
    GDir *dir = g_dir_open(path, 0, NULL);
    const char *name = NULL;
    while (dir != NULL && (name = g_dir_read_name(dir)) != NULL) {
        char *inside = g_build_filename(folder, name, NULL);
        char *whole = g_build_filename(base, inside, NULL);
        if (g_file_test(whole, G_FILE_TEST_IS_DIR)) {
            list_files(base, inside, ending, to);
        } else if (g_str_has_suffix(name, ending)) {
            g_ptr_array_add(to, g_strdup(inside));
        }
        g_free(inside);
        g_free(whole);
    }
    if (dir != NULL) {
        g_dir_close(dir);
    }
    g_free(path);
}

static GPtrArray *sources(void) {
    GPtrArray *files = g_ptr_array_new_with_free_func(g_free);
    list_files(NSK_SOURCE_DIR, "src", ".c", files);
    list_files(NSK_SOURCE_DIR, "src", ".h", files);
    list_files(NSK_SOURCE_DIR, "ports/sim", ".c", files);
    list_files(NSK_SOURCE_DIR, "ports/sim", ".h", files);
    CU_ASSERT(files->len > 200);
    return files;
}

/* The file that an #include names: seen from the file itself, or from a folder that compilers are
 * told of. NULL: made while building. */
static char *included(const char *file, const char *name) {
    char *folder = g_path_get_dirname(file);
    const char *const around[] = {folder, "src/host", "src", "ports", "include"};
    char *found = NULL;
    for (size_t i = 0; i < G_N_ELEMENTS(around) && found == NULL; i++) {
        char *whole = g_build_filename(NSK_SOURCE_DIR, around[i], name, NULL);
        if (g_file_test(whole, G_FILE_TEST_IS_REGULAR)) {
            char *real = g_canonicalize_filename(whole, NULL);
            found = g_strdup(real + strlen(NSK_SOURCE_DIR) + 1);
            g_free(real);
        }
        g_free(whole);
    }
    g_free(folder);
    return found;
}

static void add_includes(const house *h, const char *file) {
    static const char include[] = "#include \"";
    char *text = text_of(file);
    for (const char *at = text; (at = strstr(at, include)) != NULL;) {
        at += strlen(include);
        char *name = g_strndup(at, strcspn(at, "\""));
        char *to = included(file, name);
        if (to != NULL && !g_str_has_prefix(to, "include/")) {
            add_use(h, file, to, name);
        }
        g_free(name);
        g_free(to);
    }
    g_free(text);
}

static void rooms_include_what_stands_above(void) {
    char *table = text_of("src/README.md");
    house *h = house_new(table);
    GPtrArray *files = sources();
    for (guint i = 0; i < files->len; i++) {
        const char *file = g_ptr_array_index(files, i);
        add_includes(h, file);
    }
    CU_ASSERT(h->uses->len > 500);
    CU_ASSERT_EQUAL(count_against_order(h, true), 0);
    for (guint i = 0; i < h->uses->len; i++) { /* the command sees public headers, and its own */
        const use *u = g_ptr_array_index(h->uses, i);
        bool alien = g_str_has_prefix(u->from, "src/cli/") && !g_str_has_prefix(u->to, "src/cli/");
        if (alien) {
            fprintf(stderr, "\n    %s includes %s", u->from, u->to);
        }
        CU_ASSERT(!alien);
    }
    g_ptr_array_free(files, TRUE);
    house_free(h);
    g_free(table);
}

/* ---- the objects ---- */

/* "netsuke-host.dir/src/host/graph/graph.c.o": the source; NULL where that was made, too. */
static char *source_of(const char *object) {
    const char *at = strstr(object, ".dir/");
    char *source = at != NULL ? g_strndup(at + 5, strlen(at + 5) - strlen(".o")) : g_strdup("");
    char *whole = g_build_filename(NSK_SOURCE_DIR, source, NULL);
    bool ours = (g_str_has_prefix(source, "src/") || g_str_has_prefix(source, "ports/")) &&
                g_file_test(whole, G_FILE_TEST_EXISTS); /* else one of an earlier build */
    g_free(whole);
    if (!ours) {
        g_free(source);
        return NULL;
    }
    return source;
}

static void note_owner(house *h, const char *source, char letter, const char *name) {
    if (strchr("TDRBVW", letter) != NULL) {
        g_hash_table_insert(h->owner, g_strdup(name), g_strdup(source));
    }
}

static void note_call(house *h, const char *source, char letter, const char *name) {
    const char *owner = g_hash_table_lookup(h->owner, name);
    if (letter == 'U' && owner != NULL) {
        add_use(h, source, owner, name);
    }
}

/* What nm says of the objects of a library and of the command: "FILE: NAME LETTER ..." a line. */
static char **symbol_lines(void) {
    static const char *const libraries[] = {"netsuke-device.dir", "netsuke-host.dir",
                                            "netsuke-train.dir", "netsuke-cli.dir", "netsuke.dir"};
    GPtrArray *call = g_ptr_array_new_with_free_func(g_free);
    g_ptr_array_add(call, g_strdup("nm"));
    g_ptr_array_add(call, g_strdup("-AP"));
    for (size_t i = 0; i < G_N_ELEMENTS(libraries); i++) {
        list_files(NSK_OBJECTS, libraries[i], ".o", call);
    }
    CU_ASSERT(call->len > 150);
    g_ptr_array_add(call, NULL);
    char *out = NULL;
    int status = 1;
    CU_ASSERT_FATAL(g_spawn_sync(NSK_OBJECTS, (char **)call->pdata, NULL, G_SPAWN_SEARCH_PATH, NULL,
                                 NULL, &out, NULL, &status, NULL) &&
                    status == 0);
    char **lines = g_strsplit(out, "\n", 0);
    g_ptr_array_free(call, TRUE);
    g_free(out);
    return lines;
}

typedef void each_symbol(house *h, const char *source, char letter, const char *name);
static void for_symbols(house *h, char *const *lines, each_symbol *each) {
    for (; *lines != NULL; lines++) {
        char **part = g_strsplit(*lines, " ", 4);
        if (g_strv_length(part) >= 3) {
            part[0][strlen(part[0]) - 1] = '\0'; /* the colon */
            char *source = source_of(part[0]);
            if (source != NULL) {
                each(h, source, part[2][0], part[1]);
            }
            g_free(source);
        }
        g_strfreev(part);
    }
}

static house *house_of_objects(void) {
    char *table = text_of("src/README.md");
    house *h = house_new(table);
    char **lines = symbol_lines();
    for_symbols(h, lines, note_owner);
    for_symbols(h, lines, note_call);
    g_strfreev(lines);
    g_free(table);
    return h;
}

static void rooms_call_what_stands_above(void) {
    house *h = house_of_objects();
    CU_ASSERT(h->uses->len > 1000);
    CU_ASSERT_EQUAL(count_against_order(h, true), 0);
    char *circle = first_circle(h);
    if (circle != NULL) {
        fprintf(stderr, "\n    a circle: %s", circle);
    }
    CU_ASSERT_PTR_NULL(circle);
    g_free(circle);
    house_free(h);
}

/* In the library all names begin with nsk_; in the command with cli_, or with the part of it that
 * they belong to: that of their file, up to a low line. */
static void names_say_where_they_belong(void) {
    house *h = house_of_objects();
    GHashTableIter at;
    void *name = NULL;
    void *file = NULL;
    g_hash_table_iter_init(&at, h->owner);
    while (g_hash_table_iter_next(&at, &name, &file)) {
        char *stem = g_path_get_basename(file);
        stem[strcspn(stem, "._")] = '\0';
        bool own = g_str_has_prefix(name, stem) && ((const char *)name)[strlen(stem)] == '_';
        bool good = g_str_has_prefix(file, "src/cli/")
                        ? own || g_str_has_prefix(name, "cli_") || strcmp(name, "main") == 0
                        : g_str_has_prefix(name, "nsk_");
        if (!good) {
            fprintf(stderr, "\n    %s of %s", (const char *)name, (const char *)file);
        }
        CU_ASSERT(good);
        g_free(stem);
    }
    house_free(h);
}

/* ---- sizes ---- */

enum { MOST_HEADER = 300, MOST_FUNCTION = 60 };

/* Whether a function is defined from this line on, not declared or called. */
static bool begins_function(char *const *at) {
    if (!(g_ascii_isalpha(**at) || **at == '_') || strchr(*at, '(') == NULL) {
        return false;
    }
    for (; *at != NULL; at++) {
        if (g_str_has_suffix(*at, ") {")) {
            return true;
        }
        if (strpbrk(*at, ";={") != NULL) {
            return false;
        }
    }
    return false;
}

/* Lines of a function's body, its tables of data left out; `at` stands at its first line. */
static int function_lines(char *const *at) {
    int lines = 0;
    bool in_table = false;
    for (; *at != NULL && strcmp(*at, "}") != 0; at++) {
        in_table = in_table || strstr(*at, "] = {") != NULL;
        lines += !in_table;
        in_table = in_table && !g_str_has_suffix(*at, ";");
    }
    return lines;
}

static void measure(const char *file) {
    char *text = text_of(file);
    char **lines = g_strsplit(text, "\n", 0);
    bool header = g_str_has_suffix(file, ".h");
    if (header && g_strv_length(lines) > MOST_HEADER) {
        CU_FAIL("a header is long");
        fprintf(stderr, "\n    %s has %u lines", file, g_strv_length(lines));
    }
    for (char **line = lines; *line != NULL; line++) {
        if (begins_function(line) && function_lines(line) > MOST_FUNCTION) {
            CU_FAIL("a function is long");
            fprintf(stderr, "\n    %s: %d lines: %s", file, function_lines(line), *line);
        }
    }
    g_strfreev(lines);
    g_free(text);
}

static void files_can_be_seen_whole(void) {
    GPtrArray *files = sources();
    list_files(NSK_SOURCE_DIR, "include", ".h", files);
    list_files(NSK_SOURCE_DIR, "tests", ".c", files);
    list_files(NSK_SOURCE_DIR, "tests", ".h", files);
    for (guint i = 0; i < files->len; i++) {
        measure(g_ptr_array_index(files, i));
    }
    g_ptr_array_free(files, TRUE);
}

/* ---- the rules themselves ---- */

static void what_breaks_them_is_found(void) {
    house *h = house_new("| `device` | ... |\n| `host/base` | ... |\n| `host/base/deep` | ... |\n");
    add_use(h, "src/host/base/a.c", "src/device/kernels/b.c", "nsk_b");
    add_use(h, "src/host/base/a.c", "src/host/base/c.c", "nsk_c");
    CU_ASSERT_EQUAL(count_against_order(h, false), 0);
    CU_ASSERT_PTR_NULL(first_circle(h));
    add_use(h, "src/device/kernels/b.c", "src/host/base/c.c", "nsk_c");
    add_use(h, "src/host/base/a.c", "src/host/base/deep/d.c", "nsk_d");
    add_use(h, "src/host/base/a.c", "src/elsewhere/e.c", "nsk_e");
    CU_ASSERT_EQUAL(count_against_order(h, false), 3);
    CU_ASSERT_PTR_NULL(first_circle(h));
    add_use(h, "src/host/base/c.c", "src/host/base/a.c", "nsk_a");
    char *circle = first_circle(h);
    CU_ASSERT_PTR_NOT_NULL_FATAL(circle);
    CU_ASSERT_PTR_NOT_NULL(strstr(circle, "src/host/base/c.c by nsk_a to src/host/base/a.c"));
    g_free(circle);
    house_free(h);
    char *const lines[] = {"int f(void) {",
                           "    static const int t[] = {",
                           "        1};",
                           "    return t[0];",
                           "}",
                           NULL};
    CU_ASSERT_EQUAL(function_lines(lines), 2);
}

/* A suite that the build's list leaves out is run by nobody. */
static int suites_left_out(const char *path, const char *list) {
    char *text = NULL;
    GMatchInfo *match = NULL;
    int left_out = 0;
    GRegex *suite = g_regex_new("\\{\"([^\"]+)\", NULL, NULL, NULL, NULL", 0, 0, NULL);
    CU_ASSERT_FATAL(g_file_get_contents(path, &text, NULL, NULL));
    g_regex_match(suite, text, 0, &match);
    CU_ASSERT(g_match_info_matches(match));
    for (; g_match_info_matches(match); g_match_info_next(match, NULL)) {
        char *name = g_match_info_fetch(match, 1);
        char *entry = g_strdup_printf("\"%s|", name);
        left_out += strstr(list, entry) == NULL;
        g_free(entry);
        g_free(name);
    }
    g_match_info_free(match);
    g_regex_unref(suite);
    g_free(text);
    return left_out;
}

static void all_suites_are_run(void) {
    char *list = NULL;
    CU_ASSERT_FATAL(g_file_get_contents(NSK_SOURCE_DIR "/CMakeLists.txt", &list, NULL, NULL));
    CU_ASSERT_EQUAL(suites_left_out(NSK_SOURCE_DIR "/tests/unit.c", list), 0);
    CU_ASSERT_EQUAL(suites_left_out(NSK_SOURCE_DIR "/tests/drive/drive.c", list), 0);
    CU_ASSERT_NOT_EQUAL(suites_left_out(NSK_SOURCE_DIR "/tests/drive/drive.c", ""), 0);
    g_free(list);
}

CU_TestInfo rule_tests[] = {
    {"rooms include what stands above", rooms_include_what_stands_above},
    {"rooms call what stands above, files in no circle", rooms_call_what_stands_above},
    {"names say where they belong", names_say_where_they_belong},
    {"files can be seen whole", files_can_be_seen_whole},
    {"all suites are run", all_suites_are_run},
    {"what breaks them is found", what_breaks_them_is_found},
    CU_TEST_INFO_NULL,
};
