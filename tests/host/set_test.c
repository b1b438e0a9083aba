/* Labelled sets of pictures. */
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>

#include "../suites.h"
#include "../support.h"

static char *names[] = {(char *)"belt", (char *)"sound", (char *)"crack", NULL};
static const nsk_labels labels = {3, names};
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

/* What is wrong with the folder, what must be said, and what is left when it is let pass. */
static void mistakes_are_named_or_left_out(void) {
    static const struct {
        const char *remove, *add, *content, *said;
        int left;
    } cases[] = {
        {NULL, "dust/a.png", "x", "dust: no label is called 'dust'; rename the folder", 9},
        {"crack", NULL, NULL, "label 'crack' has no folder here", 6},
        {"crack", "crack/readme.txt", "no pictures", "no picture in this class's folder", 6},
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
                break; /* unreadable pictures show when they are decoded */
            }
        }
        assert_error(&error, cases[i].said);
        nsk_images_free(set);
        set = nsk_images_open(folder, &labels, &input, 0, true, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(set);
        const char *first;
        CU_ASSERT_EQUAL(nsk_images_left_out(set, &first), 1);
        CU_ASSERT_PTR_NOT_NULL_FATAL(first);
        CU_ASSERT_EQUAL(nsk_images_count(set), cases[i].left);
        nsk_images_free(set);
        scratch_remove(folder);
    }
}

static void nothing_to_open(void) {
    char *folder = scratch_new();
    nsk_error error = {.text = ""};
    CU_ASSERT_PTR_NULL(nsk_images_open(folder, &labels, &input, 0, true, &error));
    assert_error(&error, "no picture of any class");
    CU_ASSERT_PTR_NULL(nsk_images_open("/nowhere", &labels, &input, 0, true, &error));
    assert_error(&error, "/nowhere");
    CU_ASSERT_PTR_NULL(nsk_images_open(NULL, &labels, &input, 0, true, &error));
    assert_error(&error, "the brief names no such image set");
    scratch_remove(folder);
}

static void surveys_find_overlap(void) {
    char *folders[2] = {scratch_new(), scratch_new()};
    nsk_images *sets[2];
    nsk_error error = {.text = ""};
    noise_set(folders[0], &labels, 4, 6, 6);
    noise_set(folders[1], &labels, 3, 8, 5);
    char *from = scratch_path(folders[0], "belt/2.png");
    char *to = scratch_path(folders[1], "sound/twin.png");
    char *bytes;
    gsize size;
    CU_ASSERT(g_file_get_contents(from, &bytes, &size, NULL));
    scratch_write(to, bytes, size);
    for (int i = 0; i < 2; i++) {
        sets[i] = nsk_images_open(folders[i], &labels, &input, 0, false, &error);
        CU_ASSERT_PTR_NOT_NULL_FATAL(sets[i]);
    }
    nsk_survey *s = nsk_survey_make(sets[0], sets[1], &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(s);
    CU_ASSERT_EQUAL(s->sets[0].images, 12);
    CU_ASSERT_EQUAL(s->sets[1].in_class[1], 4);
    CU_ASSERT(s->sets[1].least_width == 6 && s->sets[1].most_width == 8);
    CU_ASSERT_EQUAL(s->overlap, 1);
    CU_ASSERT_STRING_EQUAL(s->first_overlap[0], from);
    CU_ASSERT_STRING_EQUAL(s->first_overlap[1], to);
    nsk_survey_free(s);
    for (int i = 0; i < 2; i++) {
        nsk_images_free(sets[i]);
        scratch_remove(folders[i]);
    }
    g_free(bytes);
    g_free(from);
    g_free(to);
}

CU_TestInfo set_tests[] = {
    {"a folder a class", folders_are_classes},
    {"a limit spreads over the classes", limits_spread_over_classes},
    {"mistakes are named, or left out", mistakes_are_named_or_left_out},
    {"nothing to open", nothing_to_open},
    {"pictures in both sets are found", surveys_find_overlap},
    CU_TEST_INFO_NULL,
};
