/* case: one of the standard's cases: a model, inputs, and the outputs expected. */
#ifndef NSK_TESTS_STANDARD_CASE_H
#define NSK_TESTS_STANDARD_CASE_H

#include "base/base.h"

typedef enum verdict { PASSED, FAILED, OUT_OF_SCOPE } verdict;

typedef struct case_result {
    char *operators; /* that the model is made of, sorted, parted by ", " */
    verdict by_float, by_integer;
    char *float_reason, *integer_reason; /* why failed or out of scope */
} case_result;

/* Runs the case in a folder of the package: for every output, the graph as read, the graph folded,
 * and its integer form. */
void case_run(const char *folder, case_result *result);
void case_result_clear(case_result *result);

#endif
