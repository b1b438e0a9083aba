/* run: a program's suites, in CUnit's verbose mode. */
#ifndef NSK_TESTS_RUN_H
#define NSK_TESTS_RUN_H

#include <CUnit/Basic.h>
#include <glib.h>
#include <stdbool.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Whether `name` is "SUITE" or "SUITE/TEST" of that suite; `test`: what stands behind the '/', or
 * NULL. */
static inline bool names(const char *name, const CU_SuiteInfo *suite, const char **test) {
    size_t length = strcspn(name, "/");
    *test = name[length] == '/' ? name + length + 1 : NULL;
    return strlen(suite->pName) == length && strncmp(suite->pName, name, length) == 0;
}

/* Keeps of a suite's tests that one alone, or all others; false where there is none of that name.
 */
static inline bool sift(const CU_SuiteInfo *suite, const char *test, bool alone) {
    CU_TestInfo *kept = suite->pTests;
    bool found = false;
    for (CU_TestInfo *one = kept; one->pName != NULL; one++) {
        bool is_it = strcmp(one->pName, test) == 0;
        found |= is_it;
        if (is_it == alone) {
            *kept++ = *one;
        }
    }
    *kept = (CU_TestInfo)CU_TEST_INFO_NULL;
    return found;
}

/* Whether a suite is named; where that is "SUITE/TEST", it keeps that test alone. */
static inline bool is_wanted(const CU_SuiteInfo *suite, char **wanted) {
    const char *test = NULL;
    while (*wanted != NULL && !names(*wanted, suite, &test)) {
        wanted++;
    }
    if (*wanted != NULL && test != NULL) {
        sift(suite, test, true);
    }
    return *wanted != NULL;
}

/* Takes "SUITE/TEST" out of the suites; false where there is none. */
static inline bool leave_out(const CU_SuiteInfo *suites, const char *name) {
    const char *test = NULL;
    while (suites->pName != NULL && !names(name, suites, &test)) {
        suites++;
    }
    return suites->pName != NULL && test != NULL && sift(suites, test, false);
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

/* Runs the suites that are `wanted` by name, or all where that list is empty, but for the tests
 * that it has with a '-' before, "-SUITE/TEST"; the program's exit status, which is bad where
 * nothing has such a name. */
static inline int run_suites(CU_SuiteInfo *suites, char **wanted) {
    char **kept = wanted;
    for (char **name = wanted; *name != NULL; name++) {
        if (**name != '-') {
            *kept++ = *name;
        } else if (!leave_out(suites, *name + 1)) {
            fprintf(stderr, "%s: no test has this name\n", *name + 1);
            return EXIT_FAILURE;
        }
    }
    *kept = NULL;
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
