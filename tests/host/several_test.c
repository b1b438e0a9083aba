/* Pictures that may have several labels at once. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "../network_text.h"
#include "../suites.h"
#include "images/label_sets.h"
#include "images/set.h"
#include "netsuke/compare.h"
#include "netsuke/vet.h"

enum { LABELS = 3 };

static char *names[] = {(char *)"crack", (char *)"chip", (char *)"drip", NULL};
static double thresholds[] = {0.5, 0.25, 0.75};
static const nsk_labels labels = {LABELS, names, thresholds};
static const nsk_input input = {.width = 2, .height = 2, .deviation = {1, 1, 1}, .top = 1};

static void write_picture(const char *folder, const char *name) {
    char *path = scratch_path(folder, "%s", name);
    scratch_write(path, "P6 2 2 255\n123456789abc", 23);
    g_free(path);
}

static int by_text(const void *a, const void *b) {
    return strcmp(*(char *const *)a, *(char *const *)b);
}

/* "a.ppm crack+chip\n" of each picture, sorted. */
static char *told(const nsk_images *set) {
    GPtrArray *lines = g_ptr_array_new_with_free_func(g_free);
    GString *all = g_string_new(NULL);
    for (int i = 0; i < nsk_images_count(set); i++) {
        bool has[LABELS];
        for (int k = 0; k < LABELS; k++) {
            has[k] = nsk_images_has(set, i, k);
        }
        char *text = nsk_label_set_text(has, &labels);
        char *name = g_path_get_basename(nsk_images_path(set, i));
        g_ptr_array_add(lines, g_strdup_printf("%s %s\n", name, text));
        g_free(name);
        g_free(text);
    }
    g_ptr_array_sort(lines, by_text);
    for (guint i = 0; i < lines->len; i++) {
        g_string_append(all, lines->pdata[i]);
    }
    g_ptr_array_free(lines, TRUE);
    return g_string_free(all, FALSE);
}

static const char *const everything = "0.ppm crack\n1.ppm chip+drip\n2.ppm none\n3.ppm crack\n";

/* The same set as folders, in three kinds of lists, and as arrays of bytes and of reals. */
static void sets_say_it_in_their_ways(void) {
    const char *const columns = "image,drip,shift,crack,chip\n0.ppm,0,2,1,0\n1.ppm,1,2,0,1\n"
                                "2.ppm,no,1,FALSE,0\n3.ppm,0.0,2,1.0,0\n";
    const char *const lists[] = {
        "path,labels\n0.ppm,crack\n1.ppm,chip;drip\n2.ppm,\n3.ppm,0\n",
        "0.ppm,crack\n1.ppm,drip|chip\n2.ppm,none\n3.ppm,crack",
        "0.ppm,crack\n1.ppm,drip\n2.ppm,none\n1.ppm,chip\n3.ppm,crack\n0.ppm,crack\n",
        "0.ppm,crack\n1.ppm,drip chip\n2.ppm,none\n3.ppm,crack\n",
        columns,
    };
    char *folder = scratch_new();
    nsk_error error = {.text = ""};
    for (int i = 0; i < 4; i++) {
        char name[16];
        g_snprintf(name, sizeof name, "%d.ppm", i);
        write_picture(folder, name);
    }
    for (size_t i = 0; i < G_N_ELEMENTS(lists); i++) {
        char *path = scratch_path(folder, "list.csv");
        scratch_write_text(path, lists[i]);
        nsk_images *set = nsk_images_open(path, &labels, &input, 0, false, &error);
        assert_error(&error, "");
        CU_ASSERT_PTR_NOT_NULL_FATAL(set);
        char *text = told(set);
        CU_ASSERT_STRING_EQUAL(text, everything);
        CU_ASSERT_EQUAL(nsk_images_label_sets(set), 3 + (i == 2)); /* and drip, until line 4 */
        g_free(text);
        nsk_images_free(set);
        g_free(path);
    }
    scratch_remove(folder);
}

static void folders_are_called_as_all_of_them(void) {
    char *folder = scratch_new();
    nsk_error error = {.text = ""};
    write_picture(folder, "crack/0.ppm");
    write_picture(folder, "drip+chip/1.ppm");
    write_picture(folder, "none/2.ppm");
    write_picture(folder, "crack/3.ppm");
    nsk_images *set = nsk_images_open(folder, &labels, &input, 0, false, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(set);
    char *text = told(set);
    CU_ASSERT_STRING_EQUAL(text, everything);
    g_free(text);
    nsk_images_free(set);
    set = nsk_images_open(folder, &labels, &input, 3, false, &error); /* one of each set */
    CU_ASSERT_PTR_NOT_NULL_FATAL(set);
    bool seen[3] = {false};
    for (int i = 0; i < nsk_images_count(set); i++) {
        seen[nsk_images_label(set, i)] = true;
    }
    CU_ASSERT(nsk_images_count(set) == 3 && seen[0] && seen[1] && seen[2]);
    nsk_images_free(set);
    write_picture(folder, "crack+dust/4.ppm");
    CU_ASSERT_PTR_NULL(nsk_images_open(folder, &labels, &input, 0, false, &error));
    assert_error(&error, "no label is called 'crack+dust'; rename the folder");
    scratch_remove(folder);
}

static char *npy(const char *folder, const char *name, const char *kind, const char *shape,
                 const void *data, size_t size) {
    char *path = scratch_path(folder, "%s", name);
    GString *file = g_string_new_len("\x93NUMPY\x01\x00", 8);
    char *header =
        g_strdup_printf("{'descr': '%s', 'fortran_order': False, 'shape': %s, }\n", kind, shape);
    g_string_append_c(file, (char)strlen(header));
    g_string_append_c(file, 0);
    g_string_append(file, header);
    g_string_append_len(file, data, (gssize)size);
    scratch_write(path, file->str, file->len);
    g_string_free(file, TRUE);
    g_free(header);
    return path;
}

static void arrays_have_a_row_each(void) {
    static const uint8_t pictures[4 * 12] = {0};
    static const uint8_t bytes[] = {1, 0, 0, 0, 1, 1, 0, 0, 0, 1, 0, 0};
    static const double doubles[] = {1, 0, 0, 0, 1, 1, 0, 0, 0, 1, 0, 0};
    static const float floats[] = {1, 0, 0, 0, 1, 1, 0, 0, 0, 1, 0, 0.5F};
    const struct {
        const char *kind, *shape;
        const void *data;
        size_t size;
        const char *said;
    } cases[] = {{"|u1", "(4, 3)", bytes, sizeof bytes, ""},
                 {"|b1", "(4, 3)", bytes, sizeof bytes, ""},
                 {"<f8", "(4, 3)", doubles, sizeof doubles, ""},
                 {"<f4", "(4, 3)", floats, sizeof floats, "row 3 has 0.5 for label 2; each should"},
                 {"|u1", "(4, 2)", bytes, 8, "a row of 3 numbers for each image is needed"},
                 {"|u1", "(12,)", bytes, sizeof bytes, "has 12 labels"}};
    char *folder = scratch_new();
    char *images = npy(folder, "a.npy", "|u1", "(4, 2, 2, 3)", pictures, sizeof pictures);
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_error error = {.text = ""};
        char *path =
            npy(folder, "l.npy", cases[i].kind, cases[i].shape, cases[i].data, cases[i].size);
        nsk_images *set = nsk_images_open_array(images, path, &labels, &input, 0, false, &error);
        assert_error(&error, cases[i].said);
        CU_ASSERT((set != NULL) == (cases[i].said[0] == '\0'));
        if (set != NULL) {
            char *text = told(set);
            CU_ASSERT_STRING_EQUAL(
                text, "a.npy[0] crack\na.npy[1] chip+drip\na.npy[2] none\na.npy[3] crack\n");
            g_free(text);
        }
        nsk_images_free(set);
        g_free(path);
    }
    g_free(images);
    scratch_remove(folder);
}

static void mistakes_in_lists_are_named(void) {
    static const struct {
        const char *list, *said;
    } cases[] = {
        {"0.ppm,crack\n0.ppm,chip;dust\n", "list.csv:2: no label is called 'dust'"},
        {"x,crack,chip,drip\n0.ppm,1,2,0\n", "list.csv:2: '2' under 'chip' should be 1 or 0"},
        {"x,crack,chip,drip\n0.ppm,1,1\n", "list.csv:2: '' under 'drip' should be 1 or 0"},
        {"0.ppm,crack\n0.ppm,chip\n", "no image has the label 'drip'"},
        {"0.ppm\n", "line 1: path,label is needed"},
    };
    char *folder = scratch_new();
    write_picture(folder, "0.ppm");
    char *path = scratch_path(folder, "list.csv");
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_error error = {.text = ""};
        scratch_write_text(path, cases[i].list);
        CU_ASSERT_PTR_NULL(nsk_images_open(path, &labels, &input, 0, false, &error));
        assert_error(&error, cases[i].said);
    }
    g_free(path);
    scratch_remove(folder);
}

static void briefs_have_thresholds(void) {
    static const struct {
        const char *lines, *said;
    } cases[] = {
        {"chip = 30 %\nevery = 0.4", ""},
        {"chop = 0.3", "b.ini:5: chop: no label has this name; did you mean 'chip'"},
        {"chip = 1.5", "from 0 to 1"},
        {"chip = 0.3\n[decision]\nmargin = 0.2", "margin: it is for one class of all"},
        {"chip = 0.3\n[decision]\nresting = crack", "resting: it is for one class of all"},
    };
    char *folder = scratch_new();
    char *path = scratch_path(folder, "b.ini");
    char *list = scratch_path(folder, "l.txt");
    scratch_write_text(list, "crack\nchip\ndrip\n");
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_error error = {.text = ""};
        char *text = g_strdup_printf("[model]\nfile = m.onnx\nlabels = l.txt\n[thresholds]\n%s\n",
                                     cases[i].lines);
        scratch_write_text(path, text);
        nsk_brief *brief = nsk_brief_read(path, &error);
        assert_error(&error, cases[i].said);
        CU_ASSERT((brief != NULL) == (i == 0));
        if (brief != NULL) {
            CU_ASSERT_DOUBLE_EQUAL(brief->labels.thresholds[0], 0.4, 1e-12);
            CU_ASSERT_DOUBLE_EQUAL(brief->labels.thresholds[1], 0.3, 1e-12);
        }
        nsk_brief_free(brief);
        g_free(text);
    }
    g_free(list);
    g_free(path);
    scratch_remove(folder);
}

/* Two labels, five pictures; worked by hand. */
static void labels_are_scored_by_hand(void) {
    static bool truth[] = {true, false, true, true, false, true, true, false, false, false};
    static bool said[] = {true, false, true, false, true, true, false, true, false, false};
    static float chance[] = {0.9F, 0.2F, 0.8F, 0.4F, 0.6F, 0.7F, 0.3F, 0.7F, 0.1F, 0.1F};
    nsk_label_answers each = {truth, {said, said}, {chance, chance}};
    static nsk_answer answers[5];
    const nsk_comparison c = {.images = 5, .classes = 2, .answers = answers, .each = &each};
    nsk_scoring *s = nsk_scoring_of(&c, false);
    /* the first label is there in pictures 0, 1, 3 and said in 0, 1, 2; the second in 1, 2 and
     * said in 2, 3 */
    CU_ASSERT(s->classes[0].images == 3 && s->classes[0].answers == 3 && s->classes[0].right == 2);
    CU_ASSERT(s->classes[1].images == 2 && s->classes[1].answers == 2 && s->classes[1].right == 1);
    CU_ASSERT_DOUBLE_EQUAL(s->decisions, 6.0 / 10.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(s->f1, (2.0 / 3.0 + 0.5) / 2.0, 1e-12);
    /* found at places 1, 2 and 4; and, as 0.7 stands there twice, at 2, then at 3 */
    CU_ASSERT_DOUBLE_EQUAL(s->classes[0].average_precision, (1.0 + 1.0 + 3.0 / 4.0) / 3.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(s->classes[1].average_precision, (1.0 / 2.0 + 2.0 / 3.0) / 2.0, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(s->balanced_accuracy,
                           ((2.0 / 3.0 + 1.0 / 2.0) / 2.0 + (1.0 / 2.0 + 2.0 / 3.0) / 2.0) / 2.0,
                           1e-12);
    CU_ASSERT_DOUBLE_EQUAL(s->bins[13].said, 0.9, 1e-6); /* one answer, and it is right */
    CU_ASSERT_DOUBLE_EQUAL(s->bins[13].right, 1.0, 1e-12);
    nsk_scoring_free(s);
}

/* Plain scores become sigmoids, sigmoids stay, what gives one class of all is refused. */
static void ends_that_suit(void) {
    static const struct {
        const char *end, *said;
    } cases[] = {{"Identity z > y", ""},
                 {"Sigmoid z > y", ""},
                 {"Softmax z > y axis=i1", "it ends in a softmax, which gives one class of all"},
                 {"LogSoftmax z > y axis=i1", "it ends in a softmax"},
                 {"ReduceMean z > y axes=l1", "it ends in one number"}};
    float first[5];
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        nsk_error error = {.text = ""};
        noisy n;
        char *text = g_strdup_printf(
            "Conv x w_8_3_3_3 b_8 > a; Relu a > r; GlobalAveragePool r > g; Flatten g > f; "
            "Gemm f h_5_8 c_5 > z transB=i1; %s",
            cases[i].end);
        noisy_load(&n, text, i == 4 ? 2 : 5);
        bool good = nsk_network_answer_each(n.network, &error);
        assert_error(&error, cases[i].said);
        CU_ASSERT(good == (cases[i].said[0] == '\0'));
        if (good) {
            float p[5];
            uint8_t *frame = g_malloc0(nsk_images_frame_bytes(n.images));
            CU_ASSERT(nsk_network_score(n.network, nsk_images_input(n.images), frame, p, &error));
            for (int c = 0; c < 5; c++) {
                CU_ASSERT(i == 0 || (p[c] >= first[c] && p[c] <= first[c]));
            }
            memcpy(first, p, sizeof first);
            g_free(frame);
        }
        noisy_free(&n);
        g_free(text);
    }
}

/* ---- the kiln line's own ---- */

typedef struct faults {
    nsk_brief *brief;
    nsk_network *network;
    nsk_images *calibration, *held_out;
    nsk_model_file *file;
} faults;

static void faults_load(faults *f) {
    nsk_error error = {.text = ""};
    f->brief = nsk_brief_read(NSK_SOURCE_DIR "/demo/kiln-faults.ini", &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(f->brief);
    f->network = nsk_network_read(f->brief->model, &f->brief->input, NULL, &error);
    CU_ASSERT_FATAL(f->network != NULL && nsk_network_answer_each(f->network, &error));
    f->calibration = nsk_images_open(f->brief->calibration, &f->brief->labels, &f->brief->input,
                                     120, false, &error);
    f->held_out = nsk_images_open(f->brief->held_out, &f->brief->labels, &f->brief->input, 440,
                                  false, &error);
    assert_error(&error, "");
    CU_ASSERT_FATAL(f->calibration != NULL && f->held_out != NULL);
    f->file = nsk_quantise(f->network, f->calibration, NULL, &error);
    assert_error(&error, "");
    CU_ASSERT_PTR_NOT_NULL_FATAL(f->file);
}

static void faults_free(faults *f) {
    nsk_model_file_free(f->file);
    nsk_images_free(f->calibration);
    nsk_images_free(f->held_out);
    nsk_network_free(f->network);
    nsk_brief_free(f->brief);
}

/* Counted once more, picture by picture, by the device's own scores. */
static void faults_lose_little(void) {
    faults f;
    nsk_error error = {.text = ""};
    nsk_model model;
    faults_load(&f);
    nsk_comparison *c = nsk_compare(f.network, f.file, f.held_out, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(c);
    CU_ASSERT(c->images == 440 && c->float_correct > 360);
    CU_ASSERT(fabs(c->loss_points) <= 1.0 && c->agree >= 98 * 440 / 100);
    CU_ASSERT_EQUAL_FATAL(nsk_open(&model, f.file->bytes, f.file->size), NSK_STATUS_OK);
    uint8_t *frame = g_malloc(nsk_images_frame_bytes(f.held_out));
    void *workspace = g_malloc(model.workspace_bytes);
    int right = 0;
    for (int i = 0; i < c->images; i++) {
        CU_ASSERT(nsk_images_frame(f.held_out, i, frame, &error));
        nsk_prepare(&model, frame, (size_t)model.width * model.channels, workspace);
        nsk_run(&model, workspace, NULL);
        const int32_t *scores = nsk_scores(&model, workspace);
        GString *said = g_string_new(NULL);
        for (int k = 0; k < model.classes; k++) {
            if ((double)scores[k] / (1 << 30) >= f.brief->labels.thresholds[k]) {
                g_string_append_printf(said, "%s%s", said->len > 0 ? "+" : "",
                                       f.brief->labels.names[k]);
            }
        }
        char *folder = g_path_get_dirname(nsk_images_path(f.held_out, i));
        char *truth = g_path_get_basename(folder);
        char *answer = nsk_comparison_class(c, &f.brief->labels, c->answers[i].integer_class);
        CU_ASSERT_STRING_EQUAL(answer, said->len > 0 ? said->str : "none");
        right += strcmp(answer, truth) == 0;
        nsk_string_free(answer);
        g_free(truth);
        g_free(folder);
        g_string_free(said, TRUE);
    }
    CU_ASSERT_EQUAL(right, c->integer_correct);
    g_free(frame);
    g_free(workspace);
    nsk_comparison_free(c);
    faults_free(&f);
}

/* A mean that was forgotten is found here, too. */
static void vetting_judges_all_labels(void) {
    faults f;
    nsk_error error = {.text = ""};
    faults_load(&f);
    nsk_input other = f.brief->input;
    other.mean[0] = other.mean[1] = other.mean[2] = 0.0;
    nsk_images *set =
        nsk_images_open(f.brief->held_out, &f.brief->labels, &other, 66, false, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(set);
    nsk_vetting *v = nsk_vet(f.network, set, NULL, NULL, &error);
    CU_ASSERT_PTR_NOT_NULL_FATAL(v);
    CU_ASSERT(v->better == 0 && !v->renamed && v->alternatives[0].correct > v->correct);
    CU_ASSERT_PTR_NOT_NULL(strstr(v->alternatives[0].change, "mean = 0."));
    nsk_vetting_free(v);
    nsk_images_free(set);
    faults_free(&f);
}

CU_TestInfo several_tests[] = {
    {"sets say it in their ways", sets_say_it_in_their_ways},
    {"folders are called as all of them", folders_are_called_as_all_of_them},
    {"arrays have a row each", arrays_have_a_row_each},
    {"mistakes in lists are named", mistakes_in_lists_are_named},
    {"briefs have thresholds", briefs_have_thresholds},
    {"labels are scored by hand", labels_are_scored_by_hand},
    {"ends that suit", ends_that_suit},
    {"faults lose little", faults_lose_little},
    {"vetting judges all labels", vetting_judges_all_labels},
    CU_TEST_INFO_NULL,
};
