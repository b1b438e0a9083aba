/* The report's page: what is on it whatever labels, layers and files are called. */
#include <stdio.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"
#include "netsuke/atlas.h"
#include "netsuke/drift.h"
#include "netsuke/page.h"
#include "netsuke/stress.h"

/* Finishes the page; its text from <main> on. g_free. */
static char *finish(nsk_page *page) {
    char *folder = scratch_new();
    char *path = scratch_path(folder, "page.html");
    char *text = NULL;
    nsk_error error = {.text = ""};
    CU_ASSERT(nsk_page_finish(page, path, &error));
    assert_error(&error, "");
    CU_ASSERT_FATAL(g_file_get_contents(path, &text, NULL, NULL) != FALSE);
    g_free(path);
    scratch_remove(folder);
    return text;
}

static void has(const char *text, const char *wanted) {
    if (strstr(text, wanted) == NULL) {
        fprintf(stderr, "\n    not there: %s\n", wanted);
    }
    CU_ASSERT_PTR_NOT_NULL(strstr(text, wanted));
}

static int count(const char *text, const char *what) {
    int found = 0;
    for (const char *at = text; (at = strstr(at, what)) != NULL; at += strlen(what)) {
        found++;
    }
    return found;
}

#define HOSTILE "</td><script>alert('x & \"y\"')</script>"

/* What would be a tag stays a text, in every place that takes one. */
static void nothing_gets_out_of_its_place(void) {
    nsk_page *page = nsk_page_new(HOSTILE, HOSTILE);
    nsk_page_section(page, HOSTILE);
    nsk_page_subheading(page, HOSTILE);
    nsk_page_text(page, "%s", HOSTILE);
    nsk_page_verbatim(page, HOSTILE);
    nsk_page_verdict(page, NSK_STANDING_HOLDS, HOSTILE, "%s", HOSTILE);
    nsk_page_table(page, HOSTILE, "<" HOSTILE "\t~" HOSTILE);
    nsk_page_row(page, "%s\t0.5 %s", HOSTILE, HOSTILE);
    nsk_page_row(page, "%s\t %s", HOSTILE, HOSTILE);
    nsk_page_table_end(page);
    char *text = finish(page);
    CU_ASSERT_EQUAL(count(text, "<script"), 0);
    CU_ASSERT_EQUAL(count(text, "&lt;script&gt;"), 17); /* twice the title, twice the section */
    CU_ASSERT_EQUAL(count(text, "<td"), 4);
    CU_ASSERT_EQUAL(count(text, "</td>"), 4);
    g_free(text);
}

/* A column says what it holds; no text can, however it begins. */
static void columns_say_what_they_hold(void) {
    static const char *const texts[] = {"+1", "=0.5", "~0.5 x", "\0010.5",
                                        "<b", ">b",   "-3 %",   "0.5 x"};
    nsk_page *page = nsk_page_new("tiles", "below");
    nsk_page_table(page, "t", "<left\t>right");
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        nsk_page_row(page, "%s\t%s", texts[i], texts[i]);
    }
    nsk_page_table_end(page);
    char *text = finish(page);
    CU_ASSERT_EQUAL(count(text, "<td class=\"heat\""), 0);
    CU_ASSERT_EQUAL(count(text, "<span class=\"bar\""), 0);
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        char *escaped = g_markup_escape_text(texts[i], -1);
        char *row =
            g_strdup_printf("<tr><td>%s</td><td class=\"r\">%s</td></tr>", escaped, escaped);
        has(text, row);
        g_free(row);
        g_free(escaped);
    }
    has(text, "<th scope=\"col\">left</th><th scope=\"col\" class=\"r\">right</th>");
    g_free(text);
}

/* Bars and grounds keep to their column, whatever their number is. */
static void bars_and_grounds(void) {
    static const struct {
        const char *cell, *bar, *ground;
    } cases[] = {{"0", "width:0px", "0%,transparent)\"></td>"},
                 {"0.5", "width:90px", "35%,transparent)\"></td>"},
                 {"0.25 a b", "width:45px", "18%,transparent)\">a b</td>"},
                 {"1.0 +1", "width:180px", "70%,transparent)\">+1</td>"},
                 {"7 x", "width:180px", "70%,transparent)\">x</td>"},
                 {"-2 x", "width:0px", "0%,transparent)\">x</td>"},
                 {"1e999 x", "width:180px", "70%,transparent)\">x</td>"}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_page *page = nsk_page_new("tiles", "below");
        nsk_page_table(page, "t", "=\t~shade");
        nsk_page_row(page, "%s\t%s", cases[i].cell, cases[i].cell);
        nsk_page_row(page, "0\t plain");
        nsk_page_table_end(page);
        char *text = finish(page);
        has(text, cases[i].bar);
        has(text, cases[i].ground);
        has(text, "<td class=\"r\">plain</td>");
        CU_ASSERT_EQUAL(count(text, "<td class=\"heat\""), 1);
        g_free(text);
    }
}

/* Two drawings that call their parts alike: names are apart, colours follow the page's. */
static void drawings_keep_their_names(void) {
    nsk_error error = {.text = ""};
    char *folder = scratch_new();
    char *svg = scratch_path(folder, "a.svg");
    char *png = scratch_path(folder, "a.png");
    nsk_page *page = nsk_page_new("tiles", "below");
    for (int i = 0; i < 2; i++) {
        scratch_write_text(svg, "<?xml version=\"1.0\"?><svg width=\"9\"><g id=\"p\"/><use "
                                "xlink:href=\"#p\"/><path fill=\"url(#p)\"/></svg>");
        CU_ASSERT(nsk_page_figure(page, svg, "one & two", &error));
        CU_ASSERT_FALSE(g_file_test(svg, G_FILE_TEST_EXISTS));
    }
    scratch_write_text(png, "no picture");
    CU_ASSERT(nsk_page_figure(page, png, "three", &error));
    CU_ASSERT_FALSE(nsk_page_figure(page, png, "gone", &error));
    assert_error(&error, "a.png");
    char *text = finish(page);
    CU_ASSERT_EQUAL(count(text, "<?xml"), 0);
    CU_ASSERT_EQUAL(count(text, "aria-label=\"one &amp; two\""), 2);
    has(text, "<g id=\"f1-p\"/><use href=\"#f1-p\"/><path fill=\"url(#f1-p)\"/>");
    has(text, "<g id=\"f2-p\"/><use href=\"#f2-p\"/><path fill=\"url(#f2-p)\"/>");
    has(text, "src=\"data:image/png;base64,bm8gcGljdHVyZQ==\"");
    CU_ASSERT_EQUAL(count(text, "<figure>"), 3);
    g_free(text);
    g_free(svg);
    g_free(png);
    scratch_remove(folder);
}

/* Verdicts make a list, which whatever comes next ends; sections are linked in order. */
static void lists_end(void) {
    nsk_page *page = nsk_page_new("tiles", "below");
    nsk_page_section(page, "First");
    nsk_page_verdict(page, NSK_STANDING_HOLDS, "flash", "%d of %d", 3, 4);
    nsk_page_verdict(page, NSK_STANDING_OPEN, "loss", "chance");
    nsk_page_text(page, "between");
    nsk_page_verdict(page, NSK_STANDING_BROKEN, "ram", "too much");
    nsk_page_section(page, "Second");
    nsk_page_verdict(page, NSK_STANDING_HOLDS, "last", "at the end");
    char *text = finish(page);
    CU_ASSERT_EQUAL(count(text, "<ul"), 3);
    CU_ASSERT_EQUAL(count(text, "</ul>"), 3);
    has(text, "<li class=\"good\"><b>flash</b> ✓ 3 of 4</li>\n<li class=\"look\"><b>loss</b> open: "
              "chance</li>\n</ul>\n<p>between</p>");
    has(text, "<li class=\"bad\"><b>ram</b> ✗ too much</li>\n</ul>\n<h2 id=\"s2\">Second</h2>");
    has(text, "<a href=\"#s1\">First</a> <a href=\"#s2\">Second</a>");
    g_free(text);
}

/* A page that cannot be written leaves nothing. */
static void a_page_that_cannot_be_written(void) {
    nsk_error error = {.text = ""};
    char *folder = scratch_new();
    char *path = g_build_filename(folder, "nowhere", "page.html", NULL); /* no such folder */
    CU_ASSERT_FALSE(nsk_page_finish(nsk_page_new("tiles", "below"), path, &error));
    assert_error(&error, "nowhere/page.html");
    CU_ASSERT_FALSE(g_file_test(path, G_FILE_TEST_EXISTS));
    g_free(path);
    scratch_remove(folder);
}

/* ---- what the sections are told ---- */

/* More than ten points, of both: ten exactly are not. */
static void both_fail_beyond_ten_points(void) {
    static const struct {
        int float_correct, integer_correct;
        bool fail;
    } cases[] = {{70, 70, false}, {69, 69, true}, {69, 70, false}, {70, 69, false}, {0, 0, true}};
    const nsk_stress s = {.images = 100, .unchanged = {.float_correct = 80, .integer_correct = 80}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        const nsk_stress_count c = {.float_correct = cases[i].float_correct,
                                    .integer_correct = cases[i].integer_correct};
        CU_ASSERT_EQUAL(nsk_stress_both_fail(&s, &c), cases[i].fail);
    }
}

static void classes_of_an_atlas(void) {
    const nsk_atlas_side among = {.of_its_own = 2, .other = 0, .of_other = 8};
    const nsk_atlas_side at_home = {.of_its_own = 10, .other = 0};
    nsk_atlas_image images[] = {{.label = 1, .in_float = among, .in_integer = among},
                                {.label = 1, .in_float = at_home, .in_integer = among},
                                {.label = 0, .in_float = at_home, .in_integer = at_home}};
    const nsk_atlas a = {.images = 3, .image = images};
    nsk_atlas_class of = nsk_atlas_class_of(&a, 1);
    CU_ASSERT(of.images == 2 && of.astray == 1);
    CU_ASSERT_DOUBLE_EQUAL(of.float_own, 6.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(of.integer_own, 2.0, 1e-12);
    of = nsk_atlas_class_of(&a, 2); /* of a class without images, no figure */
    CU_ASSERT(of.images == 0 && of.astray == 0 && of.float_own == 0.0 && of.integer_own == 0.0);
}

static void regained_is_a_share_of_the_loss(void) {
    nsk_regain r = {.rounded = {.apart = 200}};
    const nsk_regained half = {.apart = 100};
    const nsk_regained worse = {.apart = 250};
    CU_ASSERT_DOUBLE_EQUAL(nsk_regain_closer(&r, &half), 50.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(nsk_regain_closer(&r, &worse), -25.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(nsk_regain_closer(&r, &r.exact), 100.0, 1e-12);
    r.rounded.apart = 0; /* nothing was lost */
    CU_ASSERT_DOUBLE_EQUAL(nsk_regain_closer(&r, &r.exact), 0.0, 1e-12);
}

CU_TestInfo page_tests[] = {
    {"nothing gets out of its place", nothing_gets_out_of_its_place},
    {"columns say what they hold", columns_say_what_they_hold},
    {"bars and grounds", bars_and_grounds},
    {"drawings keep their names", drawings_keep_their_names},
    {"lists end", lists_end},
    {"a page that cannot be written", a_page_that_cannot_be_written},
    {"both fail beyond ten points", both_fail_beyond_ten_points},
    {"classes of an atlas", classes_of_an_atlas},
    {"regained is a share of the loss", regained_is_a_share_of_the_loss},
    CU_TEST_INFO_NULL,
};
