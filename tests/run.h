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

/* Takes "SUITE/TEST" out of the suites; false where there is none. */
static inline bool leave_out(CU_SuiteInfo *suites, const char *name) {
    const char *test = strchr(name, '/');
    bool found = false;
    for (; test != NULL && suites->pName != NULL; suites++) {
        size_t length = strlen(suites->pName);
        if (length != (size_t)(test - name) || strncmp(suites->pName, name, length) != 0) {
            continue;
        }
        CU_TestInfo *kept = suites->pTests;
        for (CU_TestInfo *one = kept; one->pName != NULL; one++) {
            bool out = strcmp(one->pName, test + 1) == 0;
            found |= out;
            if (!out) {
                *kept++ = *one;
            }
        }
        *kept = (CU_TestInfo)CU_TEST_INFO_NULL;
    }
    return found;
}

/* Runs the suites that are `wanted` by name, or all where that list is empty, but for the tests
 * that it has with a '-' before, "-SUITE/TEST"; the program's exit status, which is bad where
 * nothing has such a name. */
static inline int run_suites(CU_SuiteInfo *suites, char **wanted) {
    char **names = wanted;
    for (char **name = wanted; *name != NULL; name++) {
        if (**name != '-') {
            *names++ = *name;
        } else if (!leave_out(suites, *name + 1)) {
            fprintf(stderr, "%s: no test has this name\n", *name + 1);
            return EXIT_FAILURE;
        }
    }
    *names = NULL;
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
