/* run: a program's suites, in CUnit's verbose mode. */
#ifndef NSK_TESTS_RUN_H
#define NSK_TESTS_RUN_H

#include <CUnit/Basic.h>
#include <glib.h>
#include <stdlib.h>

/* Runs the suites that are `wanted` by name, or all where that list is empty; the program's exit
 * status. */
static inline int run_suites(CU_SuiteInfo *suites, char **wanted) {
    for (CU_SuiteInfo *suite = suites; suite->pName != NULL && *wanted != NULL;) {
        if (g_strv_contains((const char *const *)wanted, suite->pName)) {
            suite++;
            continue;
        }
        for (CU_SuiteInfo *next = suite; next->pName != NULL; next++) { /* the rest moves up */
            next[0] = next[1];
        }
    }
    if (CU_initialize_registry() != CUE_SUCCESS || CU_register_suites(suites) != CUE_SUCCESS) {
        return 2;
    }
    CU_basic_set_mode(CU_BRM_VERBOSE);
    CU_basic_run_tests();
    unsigned failed = CU_get_number_of_failures();
    CU_cleanup_registry();
    return failed == 0 ? EXIT_SUCCESS : EXIT_FAILURE;
}

#endif
