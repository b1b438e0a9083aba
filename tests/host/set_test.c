/* Labelled sets of pictures. */
#include <glib/gstdio.h>
#include <math.h>
#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "../suites.h"
#include "../support.h"
#include "images/picture.h"
#include "netsuke/survey.h"

static char *names[] = {(char *)"belt", (char *)"sound", (char *)"crack", NULL};
static const nsk_labels labels = {.count = 3, .names = names};
static const nsk_input input = {.width = 4, .height = 4, .deviation = {1, 1, 1}, .top = 1};

static void folders_are_classes(void) {
    char *folder = scratch_new();
    nsk_error error = {.text = ""};
    noise_set(folder, &labels, 5, 6, 5);
    nsk_images *set = nsk_images_open(folder, &labels, &input, 0, false, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(set);
    CU_ASSERT_EQUAL(nsk_images_count(set), 15);
    CU_ASSERT_EQUAL(nsk_images_frame_bytes(set), 48);
    for (int i = 0; i < 15; i++) {
        const char *label = names[nsk_images_label(set, i)];
        CU_ASSERT_PTR_NOT_NULL(strstr(nsk_images_path(set, i), label));
    }
    nsk_images_free(set);
    scratch_remove(folder);
}

static void limits_spread_over_classes(void) {
    char *folder = scratch_new();
    nsk_error error = {.text = ""};
    noise_set(folder, &labels, 10, 4, 4);
    for (int limit = 1; limit <= 40; limit++) {
        nsk_images *set = nsk_images_open(folder, &labels, &input, limit, false, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(set);
        int in_class[3] = {0};
        for (int i = 0; i < nsk_images_count(set); i++) {
            in_class[nsk_images_label(set, i)]++;
        }
        CU_ASSERT_EQUAL(nsk_images_count(set), MIN(limit, 30));
        CU_ASSERT(in_class[0] - in_class[2] >= 0 && in_class[0] - in_class[2] <= 1);
        nsk_images_free(set);
    }
    scratch_remove(folder);
}

/* The same set twice, parted: every picture is in one of both. */
static void parts_have_nothing_in_common(void) {
    char *folder = scratch_new();
    nsk_error error = {.text = ""};
    noise_set(folder, &labels, 11, 4, 4);
    for (int of = 2; of <= 5; of++) {
        nsk_images *most = nsk_images_open(folder, &labels, &input, 0, false, &error);
        nsk_images *rest = nsk_images_open(folder, &labels, &input, 0, false, &error);
        CU_ASSERT_FATAL(most != NULL && rest != NULL);
        nsk_images_keep(most, of, false);
        nsk_images_keep(rest, of, true);
        CU_ASSERT_EQUAL(nsk_images_count(rest), 3 * (11 / of));
        CU_ASSERT_EQUAL(nsk_images_count(most) + nsk_images_count(rest), 33);
        for (int i = 0; i < nsk_images_count(rest); i++) {
            for (int k = 0; k < nsk_images_count(most); k++) {
                CU_ASSERT_STRING_NOT_EQUAL(nsk_images_path(rest, i), nsk_images_path(most, k));
            }
        }
        nsk_images_free(most);
        nsk_images_free(rest);
    }
    scratch_remove(folder);
}

/* What is wrong with the folder, what must be said, and what is left when it is let pass. */
static void mistakes_are_named_or_left_out(void) {
    static const struct {
        const char *remove, *add, *content, *said;
        int left;
    } cases[] = {
        {NULL, "dust/a.png", "x", "dust: no label is called 'dust'; rename the folder", 9},
        {"crack", NULL, NULL, "label 'crack' has no folder here", 6},
        {"crack", "crack/readme.txt", "no pictures", "no image in this class's folder", 6},
        {NULL, "belt/x.png", "not a picture", "x.png: not a PNG, JPEG, BMP or PNM", 9},
        {NULL, "belt/x.jpg", "", "x.jpg: not a PNG, JPEG, BMP or PNM", 9},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        char *folder = scratch_new();
        nsk_error error = {.text = ""};
        noise_set(folder, &labels, 3, 4, 4);
        if (cases[i].remove != NULL) {
            scratch_remove(g_build_filename(folder, cases[i].remove, NULL));
        }
        if (cases[i].add != NULL) {
            char *path = scratch_path(folder, "%s", cases[i].add);
            scratch_write_text(path, cases[i].content);
            g_free(path);
        }
        nsk_images *set = nsk_images_open(folder, &labels, &input, 0, false, &error);
        uint8_t frame[48];
        for (int k = 0; set != NULL && k < nsk_images_count(set); k++) {
            if (!nsk_images_frame(set, k, frame, &error)) {
                break; /* unreadable images show when they are decoded */
            }
        }
        assert_error(&error, cases[i].said);
        nsk_images_free(set);
        set = nsk_images_open(folder, &labels, &input, 0, true, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(set);
        CU_ASSERT_EQUAL_FATAL(nsk_images_left_out(set), 1);
        CU_ASSERT_PTR_NOT_NULL(strstr(nsk_images_left_out_at(set, 0), folder));
        CU_ASSERT_EQUAL(nsk_images_count(set), cases[i].left);
        nsk_images_free(set);
        scratch_remove(folder);
    }
}

static void nothing_to_open(void) {
    char *folder = scratch_new();
    nsk_error error = {.text = ""};
    CU_ASSERT_PTR_NULL(nsk_images_open(folder, &labels, &input, 0, true, &error));
    assert_error(&error, "no image of any class");
    CU_ASSERT_PTR_NULL(nsk_images_open("/nowhere", &labels, &input, 0, true, &error));
    assert_error(&error, "/nowhere");
    CU_ASSERT_PTR_NULL(nsk_images_open(NULL, &labels, &input, 0, true, &error));
    assert_error(&error, "the brief names no such image set");
    scratch_remove(folder);
}

/* Copies a picture as it is, or brighter by a tenth, or under another name. */
static void copy_picture(const char *from, const char *to, double brighter) {
    nsk_error error = {.text = ""};
    nsk_picture p;
    CU_ASSERT_FATAL(nsk_picture_read(from, &p, &error));
    for (int i = 0; i < 3 * p.width * p.height; i++) {
        p.rgb[i] = (uint8_t)fmin(floor(brighter * p.rgb[i] + 0.5), 255.0);
    }
    CU_ASSERT(nsk_picture_write_png(&p, to, &error));
    nsk_picture_clear(&p);
}

static void assert_survey_is_drawn(nsk_images *const *sets, const char *folder) {
    const nsk_images *const both[2] = {sets[0], sets[1]};
    nsk_error error = {.text = ""};
    char *sheet = scratch_path(folder, "sheet.png");
    nsk_picture drawn;
    CU_ASSERT(nsk_survey_sheet(both, 2, sheet, &error));
    CU_ASSERT(nsk_picture_read(sheet, &drawn, &error));
    CU_ASSERT(drawn.width > 4 * 88 && drawn.height > 3 * 88);
    nsk_picture_clear(&drawn);
    CU_ASSERT_FALSE(nsk_survey_sheet(both, 2, "/nowhere/sheet.png", &error));
    assert_error(&error, "/nowhere/sheet.png");
    g_free(sheet);
}

static void surveys_find_repeats(void) {
    static const struct {
        int from_set;
        const char *from;
        int to_set;
        const char *to;
        double brighter;
        nsk_twin_place place;
    } cases[] = {
        {0, "belt/2.png", 1, "sound/twin.png", 1.0, NSK_TWINS_IN_BOTH_SETS},
        {0, "crack/1.png", 1, "crack/twin.png", 0.9, NSK_TWINS_IN_BOTH_SETS},
        {0, "sound/0.png", 0, "belt/other.png", 1.0, NSK_TWINS_IN_TWO_CLASSES},
        {1, "crack/2.png", 1, "crack/again.png", 0.9, NSK_TWINS_IN_A_CLASS},
        {1, "crack/2.png", 1, "crack/zz.png", 1.0, NSK_TWINS_IN_A_CLASS},
    };
    char *folders[2] = {scratch_new(), scratch_new()};
    nsk_images *sets[2];
    nsk_error error = {.text = ""};
    noise_set(folders[0], &labels, 4, 20, 20);
    noise_set(folders[1], &labels, 3, 24, 18);
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        char *from = scratch_path(folders[cases[i].from_set], "%s", cases[i].from);
        char *to = scratch_path(folders[cases[i].to_set], "%s", cases[i].to);
        copy_picture(from, to, cases[i].brighter);
        g_free(from);
        g_free(to);
    }
    char *broken = scratch_path(folders[1], "belt/broken.png");
    scratch_write_text(broken, "not a picture");
    for (int i = 0; i < 2; i++) {
        sets[i] = nsk_images_open(folders[i], &labels, &input, 0, false, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(sets[i]);
    }
    nsk_survey *s = nsk_survey_make(sets[0], sets[1], NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(s);
    CU_ASSERT_EQUAL(s->sets[0].images, 13);
    CU_ASSERT_EQUAL(s->sets[1].in_class[1], 4);
    CU_ASSERT(s->sets[1].least_width == 20 && s->sets[1].most_width == 24);
    CU_ASSERT_EQUAL(s->sets[1].unreadable, 1);
    CU_ASSERT_PTR_NOT_NULL(strstr(s->sets[1].reasons[0], "broken.png"));
    CU_ASSERT_EQUAL(s->overlap, 1);
    CU_ASSERT(s->exact[0] == 1 && s->exact[1] == 1 && s->exact[2] == 1);
    CU_ASSERT(s->near[0] == 1 && s->near[1] == 0 && s->near[2] == 1);
    CU_ASSERT_EQUAL(s->twin_count, 5);
    for (int i = 0; i < s->twin_count; i++) {
        const nsk_twins *t = &s->twins[i];
        const char *second = nsk_images_path(sets[t->set[1]], t->image[1]);
        bool known = false;
        for (size_t k = 0; k < G_N_ELEMENTS(cases); k++) {
            bool exact = cases[k].brighter > 0.99;
            known = known || (g_str_has_suffix(second, cases[k].to) && t->exact == exact &&
                              t->place == cases[k].place);
        }
        CU_ASSERT(known || g_str_has_suffix(second, "sound/0.png")); /* behind belt/other.png */
    }
    assert_survey_is_drawn(sets, folders[0]);
    nsk_survey_free(s);
    for (int i = 0; i < 2; i++) {
        nsk_images_free(sets[i]);
        scratch_remove(folders[i]);
    }
    g_free(broken);
}

/* Names and links as file systems have them. */
static void names_and_links(void) {
    static char *far[] = {(char *)"belt", (char *)"fehler \xc3\xa4", NULL}; /* composed */
    const nsk_labels two = {.count = 2, .names = far};
    char *folder = scratch_new();
    nsk_error error = {.text = ""};
    noise_set(folder, &two, 2, 4, 4);
    char *old = scratch_path(folder, "fehler \xc3\xa4");
    char *new = scratch_path(folder, "fehler a\xcc\x88"); /* an accent of its own */
    char *deep = scratch_path(folder, "belt/roll 2");
    char *link = scratch_path(deep, "Link.PNG");
    char *target = scratch_path(folder, "belt/0.png");
    char *loop = scratch_path(folder, "belt/loop");
    char *hidden = scratch_path(folder, "belt/._0.png");
    CU_ASSERT_EQUAL(g_rename(old, new), 0);
    CU_ASSERT_EQUAL(symlink(target, link), 0);
    scratch_write_text(hidden, "not a picture");
    nsk_images *set = nsk_images_open(folder, &two, &input, 0, false, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(set);
    CU_ASSERT_EQUAL(nsk_images_count(set), 5);
    uint8_t frame[48];
    for (int i = 0; i < nsk_images_count(set); i++) {
        CU_ASSERT(nsk_images_frame(set, i, frame, &error));
    }
    nsk_images_free(set);
    CU_ASSERT_EQUAL(symlink("..", loop), 0); /* round and round */
    set = nsk_images_open(folder, &two, &input, 0, false, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(set);
    CU_ASSERT(nsk_images_count(set) > 5);
    nsk_images_free(set);
    char *const paths[] = {old, new, deep, link, target, loop, hidden};
    for (size_t i = 0; i < G_N_ELEMENTS(paths); i++) {
        g_free(paths[i]);
    }
    scratch_remove(folder);
}

CU_TestInfo set_tests[] = {
    {"a folder a class", folders_are_classes},
    {"a limit spreads over the classes", limits_spread_over_classes},
    {"parts have nothing in common", parts_have_nothing_in_common},
    {"mistakes are named, or left out", mistakes_are_named_or_left_out},
    {"nothing to open", nothing_to_open},
    {"pictures that repeat others are found", surveys_find_repeats},
    {"names and links", names_and_links},
    CU_TEST_INFO_NULL,
};
