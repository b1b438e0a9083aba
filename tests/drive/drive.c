#include "drive.h"

#include "../run.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

static char *folder; /* the scratch folder */

const char *scratch(void) {
    return folder;
}

static outcome run_line(const char *line) {
    outcome o = {-1, NULL, NULL};
    char *script = g_strdup_printf("N='%s'; netsuke() { \"$N\" \"$@\"; }; T='%s'; export "
                                   "XDG_CACHE_HOME='%s/cache'; %s",
                                   NSK_COMMAND, folder, folder, line);
    char *arguments[] = {(char *)"bash", (char *)"-c", script, NULL};
    int status = 0;
    if (g_spawn_sync(NSK_SOURCE_DIR, arguments, NULL, G_SPAWN_SEARCH_PATH, NULL, NULL, &o.out,
                     &o.err, &status, NULL)) {
        o.status = WIFEXITED(status) ? WEXITSTATUS(status) : -1;
    }
    g_free(script);
    return o;
}

outcome drive(const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    char *line = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    outcome o = run_line(line);
    g_free(line);
    return o;
}

void outcome_clear(outcome *o) {
    g_free(o->out);
    g_free(o->err);
}

static outcome run_expecting(int status, const char *line) {
    outcome o = run_line(line);
    if (o.status != status) {
        fprintf(stderr, "\n    %s\n    status %d, not %d: %s%s\n", line, o.status, status, o.err,
                o.out);
    }
    CU_ASSERT_EQUAL(o.status, status);
    return o;
}

outcome drive_for(int status, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    char *line = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    outcome o = run_expecting(status, line);
    g_free(line);
    return o;
}

void drive_fails(const char *said, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    char *line = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    outcome o = run_expecting(2, line);
    const char *end = strchr(o.err, '\n');
    bool one_line = end != NULL && end[1] == '\0' && g_str_has_prefix(o.err, "netsuke: ");
    if (!one_line || strstr(o.err, said) == NULL) {
        fprintf(stderr, "\n    %s\n    said   %s    wanted %s\n", line, o.err, said);
    }
    CU_ASSERT(one_line);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, said));
    CU_ASSERT_STRING_EQUAL(o.out, "");
    g_free(line);
    outcome_clear(&o);
}

JsonNode *drive_json(int status, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    char *line = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    outcome o = run_expecting(status, line);
    GError *reason = NULL;
    JsonNode *root = json_from_string(o.out, &reason);
    if (root == NULL) {
        fprintf(stderr, "\n    %s\n    no JSON: %s\n", line,
                reason != NULL ? reason->message : "empty");
    }
    CU_ASSERT_PTR_NOT_NULL_FATAL(root);
    CU_ASSERT_FATAL(JSON_NODE_HOLDS_OBJECT(root));
    g_free(line);
    outcome_clear(&o);
    return root;
}

static JsonNode *find(JsonNode *node, const char *path) {
    char **parts = g_strsplit(path, ".", -1);
    for (char **part = parts; *part != NULL && node != NULL; part++) {
        if (JSON_NODE_HOLDS_ARRAY(node)) {
            JsonArray *array = json_node_get_array(node);
            guint index = (guint)atoi(*part);
            node =
                index < json_array_get_length(array) ? json_array_get_element(array, index) : NULL;
        } else if (JSON_NODE_HOLDS_OBJECT(node)) {
            node = json_object_get_member(json_node_get_object(node), *part);
        } else {
            node = NULL;
        }
    }
    g_strfreev(parts);
    if (node == NULL) {
        fprintf(stderr, "\n    the JSON holds no %s\n", path);
    }
    CU_ASSERT_PTR_NOT_NULL_FATAL(node);
    return node;
}

double json_number(JsonNode *root, const char *path) {
    JsonNode *node = find(root, path);
    CU_ASSERT_FATAL(JSON_NODE_HOLDS_VALUE(node));
    return json_node_get_value_type(node) == G_TYPE_BOOLEAN ? json_node_get_boolean(node)
                                                            : json_node_get_double(node);
}

const char *json_text(JsonNode *root, const char *path) {
    const char *text = json_node_get_string(find(root, path));
    CU_ASSERT_PTR_NOT_NULL_FATAL(text);
    return text;
}

int json_length(JsonNode *root, const char *path) {
    return (int)json_array_get_length(json_node_get_array(find(root, path)));
}

/* nsk-drive [SUITE...]: all suites, or those named. */
int main(int argc, char **argv) {
    CU_SuiteInfo suites[] = {
        {"commands", NULL, NULL, NULL, NULL, command_tests},
        {"ladders", NULL, NULL, NULL, NULL, pare_tests},
        {"contracts", NULL, NULL, NULL, NULL, contract_tests},
        {"broken input", NULL, NULL, NULL, NULL, broken_tests},
        {"large sets", NULL, NULL, NULL, NULL, large_tests},
        {"examples and installing", NULL, NULL, NULL, NULL, example_tests},
        {"the device half on its own", NULL, NULL, NULL, NULL, device_build_tests},
        {"handing over", NULL, NULL, NULL, NULL, emit_tests},
        {"boards at a line", NULL, NULL, NULL, NULL, trial_tests},
        {"a camera", NULL, NULL, NULL, NULL, watch_tests},
        {"as packages", NULL, NULL, NULL, NULL, package_tests},
        {"mistakes of a first day", NULL, NULL, NULL, NULL, mistake_tests},
        {"installing", NULL, NULL, NULL, NULL, install_tests},
        {"proofs with a stand-in", NULL, NULL, NULL, NULL, proofs_tests},
        {"README", NULL, NULL, NULL, NULL, readme_tests},
        CU_SUITE_INFO_NULL,
    };
    (void)argc;
    folder = g_dir_make_tmp("netsuke-drive-XXXXXX", NULL);
    int status = run_suites(suites, argv + 1);
    outcome o = drive("rm -rf \"$T\"");
    outcome_clear(&o);
    g_free(folder);
    return status;
}
