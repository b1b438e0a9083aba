/* drive: runs the built command as a user would, and reads what comes back. */
#ifndef NSK_TESTS_DRIVE_DRIVE_H
#define NSK_TESTS_DRIVE_DRIVE_H

#include <CUnit/CUnit.h>
#include <glib.h>
#include <json-glib/json-glib.h>
#include <stdbool.h>

extern CU_TestInfo command_tests[], contract_tests[], broken_tests[], large_tests[],
    example_tests[], device_build_tests[], emit_tests[], package_tests[], mistake_tests[],
    install_tests[], readme_tests[], proofs_tests[], trial_tests[], watch_tests[], pare_tests[];

typedef struct outcome {
    int status; /* of the exit; -1 where a signal ended it */
    char *out, *err;
} outcome;

/* Runs a command line through the shell, in the project's folder. "netsuke" stands for the built
 * command, "$N" for its file, "$T" for the scratch folder. Free with outcome_clear. */
outcome drive(const char *format, ...) G_GNUC_PRINTF(1, 2);
void outcome_clear(outcome *o);

/* Runs it and asserts the status; shows what was said where it differs. */
outcome drive_for(int status, const char *format, ...) G_GNUC_PRINTF(2, 3);

/* The command fails: status 2, nothing on standard output, one line on standard error that begins
 * with "netsuke: " and holds `said`. */
void drive_fails(const char *said, const char *format, ...) G_GNUC_PRINTF(2, 3);

/* The one JSON object on standard output of a command that ends with `status`. json_node_unref. */
JsonNode *drive_json(int status, const char *format, ...) G_GNUC_PRINTF(2, 3);
/* A number somewhere in it, by names and indices parted by dots: "limits.0.value". */
double json_number(JsonNode *root, const char *path);
const char *json_text(JsonNode *root, const char *path);
int json_length(JsonNode *root, const char *path);

/* A scratch folder for all of a suite's tests; removed at the end. */
const char *scratch(void);

#endif
