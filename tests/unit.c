/* Runs the suites, or those that are named: nsk-unit [SUITE...]. */
#include "run.h"
#include "suites.h"

int main(int argc, char **argv) {
    (void)argc;
    CU_SuiteInfo suites[] = {
        {"arithmetic", NULL, NULL, NULL, NULL, arithmetic_tests},
        {"kernels", NULL, NULL, NULL, NULL, kernel_tests},
        {"inner products", NULL, NULL, NULL, NULL, product_tests},
        {"slices", NULL, NULL, NULL, NULL, slices_tests},
        {"weights in a core's order", NULL, NULL, NULL, NULL, ordered_tests},
        {"packed weights", NULL, NULL, NULL, NULL, packed_tests},
        {"streams", NULL, NULL, NULL, NULL, stream_tests},
        {"open", NULL, NULL, NULL, NULL, open_tests},
        {"around the model", NULL, NULL, NULL, NULL, firmware_tests},
        {"decide", NULL, NULL, NULL, NULL, decide_tests},
        {"settings and briefs", NULL, NULL, NULL, NULL, settings_tests},
        {"pictures", NULL, NULL, NULL, NULL, picture_tests},
        {"picture formats", NULL, NULL, NULL, NULL, format_tests},
        {"arrays and lists", NULL, NULL, NULL, NULL, array_tests},
        {"image sets", NULL, NULL, NULL, NULL, set_tests},
        {"several labels", NULL, NULL, NULL, NULL, several_tests},
        {"ONNX", NULL, NULL, NULL, NULL, onnx_tests},
        {"as exported", NULL, NULL, NULL, NULL, wild_tests},
        {"float", NULL, NULL, NULL, NULL, float_tests},
        {"quantise", NULL, NULL, NULL, NULL, quantise_tests},
#if TESTS_FEWER == 1 /* numbers, by code that the suite before runs under sanitizers */
        {"accuracy", NULL, NULL, NULL, NULL, accuracy_tests},
#endif
        {"fine tensors", NULL, NULL, NULL, NULL, fine_tests},
        {"what finer numbers gain", NULL, NULL, NULL, NULL, fine_gain_tests},
        {"refining", NULL, NULL, NULL, NULL, refine_tests},
        {"channels", NULL, NULL, NULL, NULL, channel_tests},
        {"paring", NULL, NULL, NULL, NULL, pare_tests},
        {"quantised ONNX", NULL, NULL, NULL, NULL, exchange_tests},
        {"reference", NULL, NULL, NULL, NULL, reference_tests},
        {"handed names", NULL, NULL, NULL, NULL, handed_tests},
#if TESTS_FEWER == 1 /* it looks at the sources, whatever they are built with */
        {"proof", NULL, NULL, NULL, NULL, proof_tests},
        {"rules", NULL, NULL, NULL, NULL, rule_tests},
#endif
        {"concatenations", NULL, NULL, NULL, NULL, join_tests},
        {"plan", NULL, NULL, NULL, NULL, plan_tests},
        {"compare", NULL, NULL, NULL, NULL, compare_tests},
        {"probe", NULL, NULL, NULL, NULL, probe_tests},
        {"vet", NULL, NULL, NULL, NULL, vet_tests},
        {"verdict", NULL, NULL, NULL, NULL, verdict_tests},
        {"drawings", NULL, NULL, NULL, NULL, report_tests},
        {"the page", NULL, NULL, NULL, NULL, page_tests},
        {"stress", NULL, NULL, NULL, NULL, stress_tests},
        {"atlas", NULL, NULL, NULL, NULL, atlas_tests},
        {"costs", NULL, NULL, NULL, NULL, cost_tests},
#if TESTS_FEWER == 1 /* what runs in an emulator has no sanitizer: once is enough */
        {"emulated cores", NULL, NULL, NULL, NULL, core_tests},
#endif
        {"budget", NULL, NULL, NULL, NULL, budget_tests},
        {"weigh", NULL, NULL, NULL, NULL, weigh_tests},
        {"simulated board", NULL, NULL, NULL, NULL, sim_tests},
        {"links", NULL, NULL, NULL, NULL, link_tests},
        {"slots", NULL, NULL, NULL, NULL, slots_tests},
        {"sensors", NULL, NULL, NULL, NULL, sensor_tests},
        {"what a board has said", NULL, NULL, NULL, NULL, on_board_tests},
        {"live", NULL, NULL, NULL, NULL, live_tests},
        {"train", NULL, NULL, NULL, NULL, train_tests},
        CU_SUITE_INFO_NULL,
    };
    return run_suites(suites, argv + 1);
}
