/* What is drawn: sheets and diagrams, looked at pixel by pixel or as text. */
#include <math.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "draw/parts.h"
#include "draw/scale.h"
#include "draw/sheet.h"
#include "netsuke/budget.h"
#include "netsuke/drift.h"
#include "network/network.h"

static nsk_picture flat(int width, int height, uint8_t r, uint8_t g, uint8_t b) {
    const uint8_t rgb[3] = {r, g, b};
    nsk_picture p = {.width = width, .height = height};
    p.rgb = g_malloc((gsize)(3 * width * height));
    for (int i = 0; i < 3 * width * height; i++) {
        p.rgb[i] = rgb[i % 3];
    }
    return p;
}

/* Pixels of exactly that colour. */
static int count_pixels(const nsk_picture *p, uint8_t r, uint8_t g, uint8_t b) {
    const uint8_t rgb[3] = {r, g, b};
    int count = 0;
    for (int i = 0; i < p->width * p->height; i++) {
        count += memcmp(p->rgb + 3 * (size_t)i, rgb, 3) == 0;
    }
    return count;
}

static void sheets_show_their_pictures(void) {
    char *folder = scratch_new();
    char *path = scratch_path(folder, "sheet.png");
    nsk_error error = {.text = ""};
    nsk_picture drawn;
    nsk_picture red = flat(40, 30, 250, 0, 3);
    nsk_picture blue = flat(40, 30, 1, 2, 240);
    nsk_sheet *sheet = nsk_sheet_new("Tiles", 40, 30, 3);
    nsk_sheet_row(sheet, "first");
    nsk_sheet_add(sheet, &red, "a caption that is much too long for the picture above it", NULL,
                  false);
    nsk_sheet_skip_to(sheet, 2);
    nsk_sheet_add(sheet, &blue, "b", "and below", true);
    nsk_sheet_add(sheet, &blue, "c", NULL, false); /* does not fit the row: a new one */
    CU_ASSERT(nsk_sheet_write(sheet, path, &error));
    CU_ASSERT_FATAL(nsk_picture_read(path, &drawn, &error));
    /* each pixel three by three, since 30 rows are too few to see */
    CU_ASSERT_EQUAL(count_pixels(&drawn, 250, 0, 3), 40 * 30 * 9);
    CU_ASSERT_EQUAL(count_pixels(&drawn, 1, 2, 240), 2 * 40 * 30 * 9);
    CU_ASSERT(drawn.width > 3 * 120 && drawn.width < 3 * 120 + 100);
    nsk_picture_clear(&drawn);
    sheet = nsk_sheet_new("absurd", 400, 30, 200);
    CU_ASSERT_FALSE(nsk_sheet_write(sheet, path, &error));
    assert_error(&error, "show fewer images");
    nsk_picture_clear(&red);
    nsk_picture_clear(&blue);
    g_free(path);
    scratch_remove(folder);
}

/* A scale's lines stand at numbers that a reader can take in, however far it goes. */
static void scales_have_round_lines(void) {
    static const double ends[] = {0.0, 0.4, 4.0, 189.0, 3600.0, 1e12};
    for (size_t i = 0; i < G_N_ELEMENTS(ends); i++) {
        double numbers[NSK_ROUND_NUMBERS];
        int count = nsk_round_numbers(ends[i], numbers);
        CU_ASSERT(count >= 1 && count <= NSK_ROUND_NUMBERS && numbers[0] <= 0.0);
        for (int k = 1; k < count; k++) {
            double leading = numbers[k] / pow(10.0, floor(log10(numbers[k])));
            CU_ASSERT_DOUBLE_EQUAL(2.0 * leading, round(2.0 * leading), 1e-9); /* 1.5, too */
            CU_ASSERT(numbers[k] > numbers[k - 1] && numbers[k] <= ends[i]);
        }
        CU_ASSERT(ends[i] < 1.0 || numbers[count - 1] * 1.6 > ends[i]);
    }
}

/* The plan of the workspace: whole, with the frame in it, and streamed, with rows of tensors. */
static void plans_are_drawn(void) {
    kiln k;
    char *folder = scratch_new();
    char *png = scratch_path(folder, "plan.png");
    char *svg = scratch_path(folder, "plan.svg");
    nsk_error error = {.text = ""};
    nsk_picture drawn[2];
    char *text;
    nsk_recipe always;
    nsk_recipe_init(&always);
    kiln_load(&k, 12);
    always.streaming = NSK_STREAMING_ALWAYS;
    nsk_model_file *streamed = nsk_quantise(k.network, k.calibration, &always, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(streamed);
    const nsk_model_file *files[2] = {k.file, streamed};
    for (int i = 0; i < 2; i++) {
        CU_ASSERT(nsk_plan_draw(files[i], png, &error));
        CU_ASSERT_FATAL(nsk_picture_read(png, &drawn[i], &error));
        CU_ASSERT(drawn[i].width == 1280 && drawn[i].height == 800);
        CU_ASSERT(count_pixels(&drawn[i], 0xb5, 0x53, 0x3c) > 60000); /* outputs */
    }
    CU_ASSERT(count_pixels(&drawn[0], 0x2f, 0x6f, 0x73) > 10000); /* the frame */
    CU_ASSERT_EQUAL(count_pixels(&drawn[0], 0xd9, 0xb8, 0x71), 0);
    CU_ASSERT(count_pixels(&drawn[1], 0xd9, 0xb8, 0x71) > 3000); /* some rows */
    CU_ASSERT(nsk_plan_draw(k.file, svg, &error));
    CU_ASSERT_FATAL(g_file_get_contents(svg, &text, NULL, NULL));
    CU_ASSERT_PTR_NOT_NULL(strstr(text, "<svg"));
    CU_ASSERT_FALSE(nsk_plan_draw(k.file, "plan.bmp", &error));
    assert_error(&error, "end the name in .svg or .png");
    g_free(text);
    nsk_picture_clear(&drawn[0]);
    nsk_picture_clear(&drawn[1]);
    nsk_model_file_free(streamed);
    kiln_free(&k);
    g_free(png);
    g_free(svg);
    scratch_remove(folder);
}

static void frames_become_pictures_again(void) {
    static const uint8_t frame[6] = {1, 2, 3, 4, 5, 6};
    nsk_input input = {.width = 2, .height = 1, .colour = NSK_COLOUR_BGR};
    nsk_picture p;
    nsk_picture_of_frame(frame, &input, &p);
    CU_ASSERT_EQUAL(memcmp(p.rgb, "\3\2\1\6\5\4", 6), 0);
    nsk_picture_clear(&p);
    input.colour = NSK_COLOUR_GREY;
    nsk_picture_of_frame(frame, &input, &p);
    CU_ASSERT_EQUAL(memcmp(p.rgb, "\1\1\1\2\2\2", 6), 0);
    nsk_picture_clear(&p);
}

/* A residual network is drawn: an SVG that is whole, a PNG with its boxes and their colours. What
 * stands in them is for the eye. */
static void networks_are_drawn(void) {
    random_state r = {3};
    char *folder = scratch_new();
    char *model = scratch_path(folder, "branches.onnx");
    char *svg = scratch_path(folder, "branches.svg");
    char *png = scratch_path(folder, "branches.PNG");
    nsk_error error = {.text = ""};
    onnx_maker *m = onnx_new(13, 3, 12, 10);
    onnx_floats(m, "w", 4, (int[]){8, 3, 3, 3}, &r, 1);
    onnx_floats(m, "v", 4, (int[]){8, 8, 1, 1}, &r, 1);
    onnx_node(m, "Conv", "x w", "a", "pads=l1,1,1,1 strides=l2,2");
    onnx_node(m, "Conv", "a v", "b", "");
    onnx_node(m, "Add", "a b", "c", "");
    onnx_node(m, "GlobalAveragePool", "c", "g", "");
    onnx_node(m, "Flatten", "g", "f", "");
    onnx_finish(m, model);
    nsk_network *n = nsk_network_read(model, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(n);
    CU_ASSERT(nsk_network_draw(n, svg, &error));
    CU_ASSERT(nsk_network_draw(n, png, &error));
    char *text = NULL;
    gsize size;
    CU_ASSERT(g_file_get_contents(svg, &text, &size, NULL));
    CU_ASSERT(size > 1000 && strstr(text, "<svg") != NULL && strstr(text, "</svg>") != NULL);
    nsk_picture drawn;
    CU_ASSERT_FATAL(nsk_picture_read(png, &drawn, &error));
    CU_ASSERT(count_pixels(&drawn, 0xff, 0xff, 0xff) > 6 * 200 * 40); /* boxes */
    CU_ASSERT(count_pixels(&drawn, 0xb5, 0x53, 0x3c) > 2 * 6 * 60);   /* two convolutions */
    nsk_picture_clear(&drawn);
    CU_ASSERT_FALSE(nsk_network_draw(n, "/nowhere/a.svg", &error));
    assert_error(&error, "/nowhere/a.svg");
    CU_ASSERT_FALSE(nsk_network_draw(n, "a.pdf", &error));
    assert_error(&error, "end the name in .svg or .png");
    g_free(text);
    nsk_network_free(n);
    g_free(model);
    g_free(svg);
    g_free(png);
    scratch_remove(folder);
}

/* Error by layer: bars of both colours, and with what would come back a third; hand-made figures.
 */
static void drifts_are_drawn(void) {
    static char *const names[] = {(char *)"first", (char *)"second", (char *)"third"};
    nsk_drift_layer layers[] = {{names[0], true, 40.0, 45.0, 0.0, 0.0, 100, 0, 30.0, 0, NULL},
                                {names[1], false, 0.0, 0.0, 0.0, 0.0, 0, 0, 0.0, 0, NULL},
                                {names[2], true, 20.0, NAN, 0.0, 0.0, 50, 0, 10.0, 0, NULL}};
    nsk_regained regained[] = {{names[2], 9, 10, 200000, 0}, {names[0], 8, 9, 900000, 0}};
    const nsk_drift drift = {10, 3, layers};
    const nsk_regain regain = {10, 2, {NULL, 10, 10, 0, 0}, {NULL, 8, 9, 1000000, 0}, regained};
    char *folder = scratch_new();
    char *png = scratch_path(folder, "drift.png");
    nsk_error error = {.text = ""};
    int sand[2];
    for (int i = 0; i < 2; i++) {
        nsk_picture drawn;
        CU_ASSERT(nsk_drift_draw(&drift, i == 1 ? &regain : NULL, "kiln", png, &error));
        CU_ASSERT_FATAL(nsk_picture_read(png, &drawn, &error));
        CU_ASSERT(drawn.width == 1280 && drawn.height == 800);
        int clay = count_pixels(&drawn, 0xb5, 0x53, 0x3c);
        int glaze = count_pixels(&drawn, 0x2f, 0x6f, 0x73);
        CU_ASSERT(clay > 4000 && clay > glaze); /* 60 dB of it beside 45 */
        CU_ASSERT(glaze > 3000);
        sand[i] = count_pixels(&drawn, 0xd9, 0xb8, 0x71);
        nsk_picture_clear(&drawn);
    }
    CU_ASSERT_EQUAL(sand[0], 0);
    CU_ASSERT(sand[1] > 3000); /* 80 % closer, and a tenth */
    CU_ASSERT_FALSE(nsk_drift_draw(&drift, NULL, "kiln", "/nowhere/d.svg", &error));
    assert_error(&error, "/nowhere/d.svg");
    g_free(png);
    scratch_remove(folder);
}

/* Parts of a concatenation are one box, which lives from the first of them on. */
static void joined_plans_are_drawn(void) {
    noisy n;
    nsk_picture drawn;
    nsk_error error = {.text = ""};
    noisy_load(&n,
               "Conv x w_8_3_3_3 b_8 > a; Conv a u_6_8_1_1 > l; Conv a r_6_8_3_3 > m "
               "pads=l1,1,1,1; Concat l m > y axis=i1; GlobalAveragePool y > g; Flatten g > f; "
               "Gemm f h_5_12 c_5 > z transB=i1",
               5);
    char *png = scratch_path(n.folder, "plan.png");
    char *svg = scratch_path(n.folder, "plan.svg");
    CU_ASSERT(nsk_plan_draw(n.file, png, &error));
    CU_ASSERT_FATAL(nsk_picture_read(png, &drawn, &error));
    CU_ASSERT(count_pixels(&drawn, 0xb5, 0x53, 0x3c) > 60000);
    CU_ASSERT(nsk_plan_draw(n.file, svg, &error));
    nsk_picture_clear(&drawn);
    g_free(png);
    g_free(svg);
    noisy_free(&n);
}

/* Parts as people see them: so many of each kind, none over another. */
static void parts_are_found(void) {
    static const struct {
        const char *network;
        int residual, gated, gates, attention;
    } cases[] = {{"kiln", 0, 0, 0, 0},
                 {"kiln-gated", 0, 3, 2, 0},
                 {"kiln-transformer", 3, 0, 0, 3},
                 {"kiln-mixer", 6, 0, 0, 0}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_error error = {.text = ""};
        char *path = g_strdup_printf(NSK_SOURCE_DIR "/demo/%s.onnx", cases[i].network);
        nsk_network *network = nsk_network_read(path, NULL, NULL, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(network);
        int count;
        int found[4] = {0};
        nsk_part *parts = nsk_parts_of(network->graph, &count);
        for (int k = 0; k < count; k++) {
            const char *what = parts[k].what;
            found[0] += strcmp(what, "residual") == 0;
            found[1] += strcmp(what, "gated, residual") == 0;
            found[2] += strcmp(what, "gate") == 0;
            found[3] += strcmp(what, "attention, residual") == 0;
            CU_ASSERT(parts[k].first < parts[k].last);
            CU_ASSERT(k == 0 || parts[k - 1].last < parts[k].first);
        }
        const int wanted[4] = {cases[i].residual, cases[i].gated, cases[i].gates,
                               cases[i].attention};
        CU_ASSERT_EQUAL(memcmp(found, wanted, sizeof found), 0);
        g_free(parts);
        g_free(path);
        nsk_network_free(network);
    }
}

CU_TestInfo report_tests[] = {
    {"parts of networks are found", parts_are_found},
    {"plans of the workspace are drawn", plans_are_drawn},
    {"joined plans are drawn", joined_plans_are_drawn},
    {"drifts are drawn", drifts_are_drawn},
    {"scales have round lines", scales_have_round_lines},
    {"sheets show their pictures", sheets_show_their_pictures},
    {"frames become pictures again", frames_become_pictures_again},
    {"networks are drawn", networks_are_drawn},
    CU_TEST_INFO_NULL,
};
