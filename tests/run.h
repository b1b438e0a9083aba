/* run: a program's suites, in CUnit's verbose mode. */
#ifndef NSK_TESTS_RUN_H
#define NSK_TESTS_RUN_H

#include <CUnit/Basic.h>
#include <glib.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Whether a suite is named, "SUITE" or "SUITE/TEST"; of the latter it keeps that test alone. */
static inline bool is_wanted(const CU_SuiteInfo *suite, char **wanted) {
    for (; *wanted != NULL; wanted++) {
        size_t length = strcspn(*wanted, "/");
        if (strlen(suite->pName) != length || strncmp(suite->pName, *wanted, length) != 0) {
            continue;
        }
        CU_TestInfo *kept = suite->pTests;
        for (CU_TestInfo *test = kept; (*wanted)[length] == '/' && test->pName != NULL; test++) {
            if (strcmp(test->pName, *wanted + length + 1) == 0) {
                *kept++ = *test;
            }
        }
        if ((*wanted)[length] == '/') {
            *kept = (CU_TestInfo)CU_TEST_INFO_NULL;
        }
        return true;
    }
    return false;
}

/* Tests that take their time say how much: so that suites are thinned out where that helps. */
static gint64 run_began;

static inline void note_begin(void) {
    run_began = g_get_monotonic_time();
}

static inline void note_end(void) {
    const double seconds = (double)(g_get_monotonic_time() - run_began) / G_USEC_PER_SEC;
    if (seconds >= 1.0) {
        printf("[%.1f s] ", seconds);
    }
}

/* Runs the suites that are `wanted` by name, or all where that list is empty; the program's exit
 * status, which is bad where nothing has such a name. */
static inline int run_suites(CU_SuiteInfo *suites, char **wanted) {
    for (CU_SuiteInfo *suite = suites; suite->pName != NULL && *wanted != NULL;) {
        if (is_wanted(suite, wanted)) {
            suite++;
            continue;
        }
        for (CU_SuiteInfo *next = suite; next->pName != NULL; next++) { /* the rest moves up */
            next[0] = next[1];
        }
    }
    for (CU_SuiteInfo *suite = suites; suite->pName != NULL; suite++) {
        suite->pSetUpFunc = note_begin;
        suite->pTearDownFunc = note_end;
    }
    if (CU_initialize_registry() != CUE_SUCCESS || CU_register_suites(suites) != CUE_SUCCESS) {
        return 2;
    }
    CU_basic_set_mode(CU_BRM_VERBOSE);
    CU_basic_run_tests();
    unsigned failed = CU_get_number_of_failures();
    if (CU_get_number_of_tests_run() == 0) {
        fputs("no suite or test has this name\n", stderr);
        failed = 1;
    }
    CU_cleanup_registry();
    return failed == 0 ? EXIT_SUCCESS : EXIT_FAILURE;
}

#endif
