/* suites: every suite of the unit tests, one a file. */
#ifndef NSK_TESTS_SUITES_H
#define NSK_TESTS_SUITES_H

/* By how much rounds of random cases are fewer where sanitizers slow every access: the plain build
 * runs them all. */
#if defined(__has_feature)
#if __has_feature(address_sanitizer)
#define TESTS_FEWER 20
#endif
#endif
#if !defined(TESTS_FEWER)
#define TESTS_FEWER 1
#endif

#include <CUnit/CUnit.h>

extern CU_TestInfo arithmetic_tests[], kernel_tests[], open_tests[], decide_tests[],
    firmware_tests[], core_tests[], product_tests[], stream_tests[], ordered_tests[],
    packed_tests[], slices_tests[], sensor_tests[];
extern CU_TestInfo settings_tests[], picture_tests[], format_tests[], array_tests[], set_tests[],
    onnx_tests[], wild_tests[], float_tests[], quantise_tests[], accuracy_tests[], refine_tests[],
    exchange_tests[], plan_tests[], join_tests[], compare_tests[], vet_tests[], report_tests[],
    page_tests[], stress_tests[], atlas_tests[], cost_tests[], budget_tests[], weigh_tests[],
    sim_tests[], train_tests[], verdict_tests[], reference_tests[], handed_tests[], proof_tests[],
    rule_tests[], probe_tests[], several_tests[], fine_tests[], fine_gain_tests[], link_tests[],
    slots_tests[], live_tests[], on_board_tests[], channel_tests[], pare_tests[];

#endif
