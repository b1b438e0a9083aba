/* IDX, NPY and CSV: labelled sets that are not folders. */
#include <string.h>
#include <zlib.h>

#include "../suites.h"
#include "../support.h"
#include "images/array.h"
#include "images/list.h"
#include "images/set.h"

static char *names[] = {(char *)"belt", (char *)"sound", NULL};
static const nsk_labels labels = {.count = 2, .names = names};
static const nsk_input input = {.width = 2, .height = 1, .deviation = {1, 1, 1}, .top = 1};

/* An NPY file of version 1. */
static GByteArray *npy(const char *header, const void *data, size_t size) {
    GByteArray *file = g_byte_array_new();
    const uint8_t length[2] = {(uint8_t)(strlen(header) & 255), (uint8_t)(strlen(header) >> 8)};
    g_byte_array_append(file, (const guint8 *)"\x93NUMPY\x01\x00", 8);
    g_byte_array_append(file, length, 2);
    g_byte_array_append(file, (const guint8 *)header, (guint)strlen(header));
    g_byte_array_append(file, data, (guint)size);
    return file;
}

static const uint8_t idx_pictures[] = {0, 0, 8, 3, 0, 0, 0, 3, 0, 0, 0,
                                       1, 0, 0, 0, 2, 1, 2, 3, 4, 5, 6};
static const uint8_t idx_labels[] = {0, 0, 8, 1, 0, 0, 0, 3, 0, 1, 0};

static void write_gz(const char *path, const void *bytes, size_t size) {
    gzFile file = gzopen(path, "wb");
    CU_ASSERT_EQUAL(gzwrite(file, bytes, (unsigned)size), (int)size);
    CU_ASSERT_EQUAL(gzclose(file), Z_OK);
}

/* What is packed is unpacked no further than its header asks for. */
static void packed_bombs_stay_packed(void) {
    static const uint8_t huge[] = {0, 0, 8, 3, 0, 1, 0, 0, 0, 1, 0, 0, 0, 0, 0x10, 0};
    static uint8_t zeros[4 << 20];
    char *folder = scratch_new();
    char *path = scratch_path(folder, "images.idx3.gz");
    nsk_error error = {.text = ""};
    nsk_array array;
    memcpy(zeros, idx_pictures, sizeof idx_pictures);
    write_gz(path, zeros, sizeof zeros);
    CU_ASSERT_FALSE(nsk_array_open(path, &array, &error));
    assert_error(&error, "holds more than its header asks for");
    memset(zeros, 1, sizeof zeros);
    write_gz(path, zeros, sizeof zeros);
    CU_ASSERT_FALSE(nsk_array_open(path, &array, &error));
    assert_error(&error, "neither an IDX nor an NPY file");
    write_gz(path, huge, sizeof huge);
    CU_ASSERT_FALSE(nsk_array_open(path, &array, &error));
    assert_error(&error, "asks for more than 16 GiB");
    g_free(path);
    scratch_remove(folder);
}

/* Three pictures of 2 x 1, labels 0, 1, 0. */
static void check_set(const char *path, const char *labels_path) {
    nsk_error error = {.text = ""};
    uint8_t frame[6];
    nsk_images *set = nsk_images_open_array(path, labels_path, &labels, &input, 0, false, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(set);
    CU_ASSERT_EQUAL(nsk_images_count(set), 3);
    CU_ASSERT_EQUAL(nsk_images_label(set, 1), 1);
    CU_ASSERT(nsk_images_frame(set, 2, frame, &error));
    CU_ASSERT_EQUAL(frame[0], 5);
    CU_ASSERT_EQUAL(frame[3], 6);
    CU_ASSERT_PTR_NOT_NULL(strstr(nsk_images_path(set, 2), "[2]"));
    nsk_images_free(set);
}

static void idx_and_npy_sets(void) {
    static const uint8_t planes[18] = {1, 2, 1, 2, 1, 2, 3, 4, 3, 4, 3, 4, 5, 6, 5, 6, 5, 6};
    static const uint8_t wide[12] = {0, 0, 0, 0, 1, 0, 0, 0, 0, 0, 0, 0};
    char *folder = scratch_new();
    char *idx = scratch_path(folder, "test-images-idx3-ubyte");
    char *idx_of = scratch_path(folder, "test-labels-idx1-ubyte");
    char *gz = scratch_path(folder, "packed-images.idx3.gz");
    char *gz_of = scratch_path(folder, "packed-labels.idx1.gz");
    char *n = scratch_path(folder, "held.NPY");
    char *n_of = scratch_path(folder, "truth.npy");
    scratch_write(idx, idx_pictures, sizeof idx_pictures);
    scratch_write(idx_of, idx_labels, sizeof idx_labels);
    write_gz(gz, idx_pictures, sizeof idx_pictures);
    write_gz(gz_of, idx_labels, sizeof idx_labels);
    check_set(idx, NULL);
    check_set(idx, gz_of);
    check_set(gz, NULL);
    static const char *const shapes[] = {
        "{'descr': '|u1', 'fortran_order': False, 'shape': (3, 1, 2), }\n",
        "{'descr': '|u1', 'fortran_order': False, 'shape': (3, 1, 2, 1), }\n",
        "{'descr': '|u1', 'fortran_order': False, 'shape': (3, 3, 1, 2), }\n"};
    GByteArray *truth =
        npy("{'descr': '<i4', 'fortran_order': False, 'shape': (3,), }\n", wide, sizeof wide);
    scratch_write(n_of, truth->data, truth->len);
    for (size_t i = 0; i < G_N_ELEMENTS(shapes); i++) {
        bool in_planes = i == 2;
        GByteArray *file =
            npy(shapes[i], in_planes ? planes : idx_pictures + 16, in_planes ? 18 : 6);
        scratch_write(n, file->data, file->len);
        check_set(n, n_of);
        g_byte_array_free(file, TRUE);
    }
    g_byte_array_free(truth, TRUE);
    char *const paths[] = {idx, idx_of, gz, gz_of, n, n_of};
    for (size_t i = 0; i < G_N_ELEMENTS(paths); i++) {
        g_free(paths[i]);
    }
    scratch_remove(folder);
}

static void broken_arrays_are_refused(void) {
    static const struct {
        const char *header;
        size_t size;
        const char *said;
    } cases[] = {
        {"{'descr': '|u1', 'fortran_order': True, 'shape': (1, 1, 2), }", 2, "Fortran order"},
        {"{'descr': '<U7', 'fortran_order': False, 'shape': (1, 1, 2), }", 2, "other elements"},
        {"{'descr': '|u1', 'fortran_order': False, 'shape': (1, 1, 1, 1, 2), }", 2, "more axes"},
        {"{'descr': '|u1', 'fortran_order': False, 'shape': (1, 1, 3), }", 2, "cut short"},
        {"{'descr': '|u1', 'fortran_order': False, 'shape': (4294967296, 4294967296, 9), }", 2,
         "impossible shape"},
        {"{'descr': '|u1', 'fortran_order': False, 'shape': (0, 1, 1), }", 0, "impossible shape"},
        {"{'descr': '<f4', 'fortran_order': False, 'shape': (1, 1, 1), }", 4, "unsigned bytes"},
        {"{'descr': '|u1', 'fortran_order': False, 'shape': (1, 2), }", 2, "not images"},
        {"{'descr': '|u1', 'shape': (1, 2), }", 2, "header is not one"},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_error error = {.text = ""};
        nsk_array array;
        GByteArray *file = npy(cases[i].header, "abcdefgh", cases[i].size);
        CU_ASSERT_FALSE(nsk_array_of(file->data, file->len, &array, &error) &&
                        nsk_array_is_pictures(&array, &error));
        assert_error(&error, cases[i].said);
        g_byte_array_free(file, TRUE);
    }
    for (size_t cut = 0; cut < sizeof idx_pictures; cut++) {
        nsk_error error;
        nsk_array array;
        uint8_t *part = g_memdup2(idx_pictures, cut + 1);
        CU_ASSERT_FALSE(nsk_array_of(part, cut, &array, &error));
        g_free(part);
    }
}

static void array_sets_that_do_not_fit(void) {
    static const struct {
        uint8_t labels[12];
        size_t size;
        const char *said;
    } cases[] = {
        {{0, 0, 8, 1, 0, 0, 0, 2, 0, 1}, 10, "has 2 labels"},
        {{0, 0, 8, 1, 0, 0, 0, 3, 0, 1, 2}, 11, "element 2 is 2, and there are labels 0 to 1"},
        {{0, 0, 9, 1, 0, 0, 0, 3, 0, 1, 255}, 11, "element 2 is -1"},
        {{0, 0, 8, 1, 0, 0, 0, 3, 0, 0, 0}, 11, "no image has the label 'sound'"},
        {{0, 0, 8, 1, 0, 0, 0, 9, 0, 0, 0}, 11, "cut short"},
    };
    char *folder = scratch_new();
    char *pictures = scratch_path(folder, "images.idx3");
    char *truth = scratch_path(folder, "labels.idx1");
    nsk_error error = {.text = ""};
    scratch_write(pictures, idx_pictures, sizeof idx_pictures);
    CU_ASSERT_PTR_NULL(nsk_images_open(pictures, &labels, &input, 0, false, &error));
    assert_error(&error, "which file holds its labels?");
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        scratch_write(truth, cases[i].labels, cases[i].size);
        CU_ASSERT_PTR_NULL(nsk_images_open(pictures, &labels, &input, 0, false, &error));
        assert_error(&error, cases[i].said);
    }
    scratch_write(truth, cases[1].labels, cases[1].size);
    nsk_images *set = nsk_images_open(pictures, &labels, &input, 0, true, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(set);
    CU_ASSERT_EQUAL(nsk_images_count(set), 2);
    nsk_images_free(set);
    char *packed = scratch_path(folder, "cut-images.idx3.gz");
    write_gz(packed, idx_pictures, sizeof idx_pictures);
    char *bytes;
    gsize size;
    CU_ASSERT(g_file_get_contents(packed, &bytes, &size, NULL));
    scratch_write(packed, bytes, size - 10);
    CU_ASSERT_PTR_NULL(nsk_images_open_array(packed, truth, &labels, &input, 0, false, &error));
    assert_error(&error, "cannot be unpacked");
    g_free(bytes);
    g_free(packed);
    g_free(pictures);
    g_free(truth);
    scratch_remove(folder);
}

static void lists_of_pictures(void) {
    static const struct {
        const char *text;
        int pictures;
        const char *said;
    } cases[] = {
        {"belt/0.png,belt\nsound/0.png,sound\n", 2, ""},
        {"\xef\xbb\xbfpath,label,remark\r\nbelt/0.png,belt,x\r\n\"sound/0.png\",\"sound\",\r\n", 2,
         ""},
        {"belt/0.png, 0\n\nsound/0.png,1", 2, ""}, /* by place; no line end at the end */
        {"belt/0.png,belt\nsound/0.png,dust\n", 0, "list.csv:2: no label is called 'dust'"},
        {"belt/0.png,belt\nsound/0.png\n", 0, "line 2: path,label is needed"},
        {"belt/0.png,belt\n\"sound/0.png,sound\n", 0, "line 2: path,label is needed"},
        {"belt/0.png,belt\n", 0, "no image has the label 'sound'"},
        {"", 0, "no image has the label 'belt'"},
    };
    char *folder = scratch_new();
    char *path = scratch_path(folder, "list.csv");
    noise_set(folder, &labels, 1, 2, 1);
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_error error = {.text = ""};
        uint8_t frame[6];
        scratch_write_text(path, cases[i].text);
        nsk_images *set = nsk_images_open(path, &labels, &input, 0, false, &error);
        assert_error(&error, cases[i].said);
        CU_ASSERT_EQUAL(set != NULL ? nsk_images_count(set) : 0, cases[i].pictures);
        CU_ASSERT(set == NULL || nsk_images_frame(set, 1, frame, &error));
        nsk_images_free(set);
    }
    g_free(path);
    scratch_remove(folder);
}

CU_TestInfo array_tests[] = {
    {"packed bombs stay packed", packed_bombs_stay_packed},
    {"IDX and NPY sets", idx_and_npy_sets},
    {"broken arrays are refused", broken_arrays_are_refused},
    {"arrays that do not fit each other", array_sets_that_do_not_fit},
    {"CSV lists", lists_of_pictures},
    CU_TEST_INFO_NULL,
};
