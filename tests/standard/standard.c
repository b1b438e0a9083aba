/* Runs the standard's cases: nsk-standard [--write FILE]. Fails where a case in scope does, and
 * where the committed table is not the one that the cases give. */
#include <stdio.h>
#include <string.h>

#include "../run.h"
#include "../scratch.h"
#include "case.h"
#include "own.h"

#define DATA "/usr/share/libonnx-testdata/data"

typedef struct tally {
    int cases, passed, failed, out_of_scope;
    int integer_passed, integer_failed, without_integer;
} tally;

static GHashTable *by_operator; /* name to tally: of the package's single-node cases */
static GHashTable *by_reason;   /* reason to count */
static GHashTable *by_group;    /* folder to tally */
static int shown;

static tally *tally_of(GHashTable *table, const char *name) {
    tally *t = g_hash_table_lookup(table, name);
    if (t == NULL) {
        t = g_new0(tally, 1);
        g_hash_table_insert(table, g_strdup(name), t);
    }
    return t;
}

static void add(tally *t, const case_result *r) {
    t->cases++;
    t->passed += r->by_float == PASSED;
    t->failed += r->by_float == FAILED;
    t->out_of_scope += r->by_float == OUT_OF_SCOPE;
    t->integer_passed += r->by_float == PASSED && r->by_integer == PASSED;
    t->integer_failed += r->by_float == PASSED && r->by_integer == FAILED;
    t->without_integer += r->by_float == PASSED && r->by_integer == OUT_OF_SCOPE;
}

/* The reason without what names the case: "node 'x' (Op): why" becomes "Op: why". */
static char *plain_reason(const char *reason) {
    GRegex *node =
        g_regex_new("^(node|layer) '[^']*' \\(([A-Za-z]+)\\)( has no integer form)?: ", 0, 0, NULL);
    GRegex *quoted = g_regex_new("'[^']*'", 0, 0, NULL);
    char *first = g_regex_replace(node, reason, -1, 0, "\\2: ", 0, NULL);
    char *second = g_regex_replace(quoted, first, -1, 0, "...", 0, NULL);
    g_free(first);
    g_regex_unref(node);
    g_regex_unref(quoted);
    return second;
}

static void count_reason(const char *what, const char *reason) {
    char *plain = plain_reason(reason);
    char *line = g_strdup_printf("%s|%s", what, plain);
    tally_of(by_reason, line)->cases++;
    g_free(line);
    g_free(plain);
}

static void run_case(const char *data, const char *group, const char *name) {
    char *folder = g_build_filename(data, group, name, NULL);
    case_result r;
    case_run(folder, &r);
    add(tally_of(by_group, group), &r);
    if (strchr(r.operators, ',') == NULL && r.by_float != OUT_OF_SCOPE) {
        add(tally_of(by_operator, r.operators), &r);
    }
    if (r.by_float == OUT_OF_SCOPE) {
        count_reason("float", r.float_reason);
    } else if (r.by_float == PASSED && r.by_integer == OUT_OF_SCOPE) {
        count_reason("integer", r.integer_reason);
    }
    bool failed = r.by_float == FAILED || (r.by_float == PASSED && r.by_integer == FAILED);
    if (failed && shown++ < 400) {
        fprintf(stderr, "\n    %s/%s (%s): %s: %s", group, name, r.operators,
                r.by_float == FAILED ? "float" : "integer",
                r.by_float == FAILED ? r.float_reason : r.integer_reason);
    }
    case_result_clear(&r);
    g_free(folder);
}

static gint by_name(gconstpointer a, gconstpointer b) {
    return strcmp(*(char *const *)a, *(char *const *)b);
}

static void run_group(const char *data, const char *group) {
    char *folder = g_build_filename(data, group, NULL);
    GDir *dir = g_dir_open(folder, 0, NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(dir);
    GPtrArray *names = g_ptr_array_new_with_free_func(g_free);
    for (const char *name; (name = g_dir_read_name(dir)) != NULL;) {
        g_ptr_array_add(names, g_strdup(name));
    }
    g_dir_close(dir);
    g_ptr_array_sort(names, by_name);
    for (guint i = 0; i < names->len; i++) {
        run_case(data, group, names->pdata[i]);
    }
    const tally *t = tally_of(by_group, group);
    CU_ASSERT(t->passed > 0);
    CU_ASSERT_EQUAL(t->failed, 0);
    CU_ASSERT_EQUAL(t->integer_failed, 0);
    g_ptr_array_free(names, TRUE);
    g_free(folder);
}

static void single_nodes(void) {
    run_group(DATA, "node");
}

static void converted_operators(void) {
    run_group(DATA, "pytorch-operator");
}

static void converted_models(void) {
    run_group(DATA, "pytorch-converted");
}

static void small_models(void) {
    run_group(DATA, "simple");
}

static void own_cases(void) {
    char *folder = scratch_new();
    char *own = scratch_path(folder, "own");
    own_cases_write(own);
    run_group(folder, "own");
    g_free(own);
    scratch_remove(folder);
}

/* ---- the table ---- */

static GList *sorted_keys(GHashTable *table) {
    return g_list_sort(g_hash_table_get_keys(table), (GCompareFunc)strcmp);
}

static void append_row(GString *text, const char *name, const tally *t) {
    g_string_append_printf(text, "| %s | %d | %d | %d | %d | %d | %d |\n", name, t->cases,
                           t->passed, t->failed, t->out_of_scope, t->integer_passed,
                           t->without_integer);
}

static void append_reasons(GString *text, const char *what) {
    GList *keys = sorted_keys(by_reason);
    for (GList *k = keys; k != NULL; k = k->next) {
        const char *bar = strchr(k->data, '|');
        if (strncmp(k->data, what, (size_t)(bar - (char *)k->data)) == 0) {
            const tally *t = g_hash_table_lookup(by_reason, k->data);
            g_string_append_printf(text, "| %s | %d |\n", bar + 1, t->cases);
        }
    }
    g_list_free(keys);
}

static GString *document(void) {
    static const char *const head =
        "| cases | float: passed | failed | out of scope | integer: passed | no integer form |\n";
    GString *text = g_string_new(
        "# ONNX support, by the standard's own cases\n\n"
        "Made by the test `nsk-standard` (`make onnx-table`) from the cases of the ONNX standard "
        "that\n"
        "the Debian package libonnx-testdata installs, and, as group `own`, from cases of what\n"
        "operators learned since, whose outputs formulas give (tests/standard). Do not edit.\n\n"
        "Each case is a model, its inputs and the outputs expected. It runs three times: the "
        "graph\n"
        "as read, the graph folded (both within the standard runner's own tolerances, 1e-3 "
        "relative\n"
        "and 1e-7), and the integer model, whose outputs may be off by what its scales imply: half "
        "a\n"
        "level of the input, passed on by every layer as steep as it is, and each layer's own\n"
        "rounding.\n\n"
        "## By group\n\n| group ");
    g_string_append_printf(text, "%s|---|---|---|---|---|---|---|\n", head);
    GList *keys = sorted_keys(by_group);
    for (GList *k = keys; k != NULL; k = k->next) {
        append_row(text, k->data, g_hash_table_lookup(by_group, k->data));
    }
    g_list_free(keys);
    g_string_append_printf(text,
                           "\n## By operator\n\nCases of one operator.\n\n| operator "
                           "%s|---|---|---|---|---|---|---|\n",
                           head);
    keys = sorted_keys(by_operator);
    for (GList *k = keys; k != NULL; k = k->next) {
        append_row(text, k->data, g_hash_table_lookup(by_operator, k->data));
    }
    g_list_free(keys);
    g_string_append(text, "\n## Out of scope\n\n| why | cases |\n|---|---|\n");
    append_reasons(text, "float");
    g_string_append(text, "\n## No integer form\n\nThe float pass of these has passed.\n\n"
                          "| why | cases |\n|---|---|\n");
    append_reasons(text, "integer");
    return text;
}

static const char *write_to;

static void the_table_is_this(void) {
    GString *text = document();
    char *path = g_build_filename(NSK_SOURCE_DIR, "docs", "onnx-support.md", NULL);
    char *committed = NULL;
    nsk_error error;
    if (write_to != NULL) {
        CU_ASSERT(nsk_file_write(write_to, text->str, text->len, &error));
    } else {
        CU_ASSERT(g_file_get_contents(path, &committed, NULL, NULL));
        CU_ASSERT(committed != NULL && strcmp(committed, text->str) == 0);
    }
    g_free(committed);
    g_free(path);
    g_string_free(text, TRUE);
}

static CU_TestInfo standard_tests[] = {
    {"single nodes", single_nodes},
    {"converted operators", converted_operators},
    {"converted models", converted_models},
    {"small models", small_models},
    {"what the package is too old for", own_cases},
    {"docs/onnx-support.md is what came out", the_table_is_this},
    CU_TEST_INFO_NULL,
};

int main(int argc, char **argv) {
    CU_SuiteInfo suites[] = {
        {"the standard's cases", NULL, NULL, NULL, NULL, standard_tests},
        CU_SUITE_INFO_NULL,
    };
    write_to = argc == 3 && strcmp(argv[1], "--write") == 0 ? argv[2] : NULL;
    by_operator = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    by_reason = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    by_group = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, g_free);
    int status = run_suites(suites, argv + argc);
    g_hash_table_destroy(by_operator);
    g_hash_table_destroy(by_reason);
    g_hash_table_destroy(by_group);
    return status;
}
