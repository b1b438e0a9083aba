/* The hand-over: runtime, networks, self-test, build files. */
#include <stdio.h>
#include <string.h>

#include "emit/bundle.h"
#include "emit/packages.h"
#include "emit/product.h"
#include "netsuke/budget.h"
#include "netsuke/link.h"
#include "reference/reference.h"

/* ---- names ---- */

/* A C name of a text: what is no letter or digit becomes one underscore. */
static char *c_name(const char *text, bool upper) {
    GString *name = g_string_new(NULL);
    for (const char *c = text; *c != '\0'; c++) {
        if (g_ascii_isalnum(*c)) {
            g_string_append_c(name, upper ? g_ascii_toupper(*c) : g_ascii_tolower(*c));
        } else if (name->len > 0 && name->str[name->len - 1] != '_') {
            g_string_append_c(name, '_');
        }
    }
    while (name->len > 0 && name->str[name->len - 1] == '_') {
        g_string_truncate(name, name->len - 1);
    }
    if (name->len == 0 || g_ascii_isdigit(name->str[0])) {
        g_string_prepend(name, upper ? "N" : "n");
    }
    return g_string_free(name, FALSE);
}

/* What a network's header has besides the classes, behind the network's name. */
static const char *const sizes[] = {"_WIDTH",           "_HEIGHT",  "_CHANNELS", "_FRAME_BYTES",
                                    "_WORKSPACE_BYTES", "_CLASSES", "_LAYERS",   "_H"};

static bool is_taken(const GPtrArray *names, const char *upper, const char *name) {
    bool taken = false;
    for (guint i = 0; i < names->len && !taken; i++) {
        taken = strcmp(names->pdata[i], name) == 0;
    }
    for (size_t i = 0; i < G_N_ELEMENTS(sizes) && !taken; i++) {
        taken = g_str_has_prefix(name, upper) && strcmp(name + strlen(upper), sizes[i]) == 0;
    }
    return taken;
}

/* One name a class; where that is another's, the index stands behind. */
static GPtrArray *class_names(const char *upper, const nsk_model *model) {
    GPtrArray *names = g_ptr_array_new_with_free_func(g_free);
    for (unsigned c = 0; c < model->classes; c++) {
        char *label = g_strconcat(upper, "_", nsk_label(model, c), NULL);
        char *name = c_name(label, true);
        while (is_taken(names, upper, name)) {
            char *longer = g_strdup_printf("%s_%u", name, c);
            g_free(name);
            name = longer;
        }
        g_ptr_array_add(names, name);
        g_free(label);
    }
    return names;
}

static const char *order_of(const nsk_model *model) {
    static const char *const orders[] = {[NSK_COLOUR_RGB] = "red, green, blue",
                                         [NSK_COLOUR_BGR] = "blue, green, red",
                                         [NSK_COLOUR_GREY] = "grey"};
    return orders[model->colour];
}

/* What the firmware has to do to a picture of another size. */
static const char *fit_of(const nsk_model *model) {
    static const char *const fits[] = {[NSK_FIT_STRETCH] = "stretched to it",
                                       [NSK_FIT_CROP] = "the middle cut out in its proportions",
                                       [NSK_FIT_PAD] = "shrunk whole, with black bars"};
    return fits[model->fit];
}

/* ---- sources of a network ---- */

static void append_bytes(GString *text, const uint8_t *bytes, size_t size) {
    for (size_t i = 0; i < size; i++) {
        g_string_append_printf(text, "%s%u,", i % 20 == 0 ? "\n    " : "", bytes[i]);
    }
}

static GString *header_source(const nsk_handed_network *n, const nsk_model *model) {
    char *upper = c_name(n->name, true);
    GPtrArray *names = class_names(upper, model);
    GString *text = g_string_new(NULL);
    g_string_append_printf(
        text,
        "/* %s: a network for frames of %u x %u, %s, one byte each. A picture of another size is\n"
        " * %s first. What a byte means to the network stands in\n"
        " * the model: firmware cannot get it wrong. Change the brief, not this file. */\n"
        "#ifndef %s_H\n#define %s_H\n\n#include \"netsuke/firmware.h\"\n\n"
        "#ifdef __cplusplus\nextern \"C\" {\n#endif\n\n"
        "enum %s_sizes {\n    %s_WIDTH = %u,\n    %s_HEIGHT = %u,\n    %s_CHANNELS = %u,\n"
        "    %s_FRAME_BYTES = %u,\n    %s_WORKSPACE_BYTES = %u, /* aligned to NSK_ALIGNMENT */\n"
        "    %s_CLASSES = %u,\n    %s_LAYERS = %u\n};\n\n"
        "/* The order of the scores. */\nenum %s_class {\n",
        n->name, model->width, model->height, order_of(model), fit_of(model), upper, upper, n->name,
        upper, model->width, upper, model->height, upper, model->channels, upper,
        (unsigned)model->width * model->height * model->channels, upper, model->workspace_bytes,
        upper, model->classes, upper, model->layers, n->name);
    for (unsigned c = 0; c < model->classes; c++) {
        g_string_append_printf(text, "    %s = %u%s\n", (const char *)names->pdata[c], c,
                               c + 1U < model->classes ? "," : "");
    }
    g_string_append_printf(
        text,
        "};\n\nextern const uint8_t %s_model[%zu];\n\n"
        "/* What a row of each layer costs, for nsk_run_some: %s. */\n"
        "extern const uint32_t %s_row_costs[%s_LAYERS];\n\n"
        "/* The product around it, for nsk_firmware_run: as it was rehearsed. */\n"
        "extern const nsk_firmware %s_firmware;\n\n"
        "#ifdef __cplusplus\n}\n#endif\n#endif\n",
        n->name, n->model->size,
        nsk_has_costs(n->board) ? "cycles of its board, as estimated"
                                : "multiply-accumulates: there is no table of a board's costs",
        n->name, upper, n->name);
    g_ptr_array_free(names, TRUE);
    g_free(upper);
    return text;
}

static GString *model_source(const nsk_handed_network *n, const nsk_model *model,
                             const uint32_t *costs, const char *mark) {
    GString *text = g_string_new(NULL);
    g_string_append_printf(
        text,
        "/* The model, read in place. -DNSK_MODEL_SECTION='\".name\"' puts it into a section of "
        "yours. */\n#include \"%s.h\"\n\n#if defined(NSK_MODEL_SECTION)\n"
        "#define PLACED __attribute__((section(NSK_MODEL_SECTION)))\n#else\n#define PLACED\n"
        "#endif\n#if defined(__cplusplus)\n#define ALIGNED alignas(NSK_ALIGNMENT)\n#else\n"
        "#define ALIGNED _Alignas(NSK_ALIGNMENT)\n#endif\n\n"
        "ALIGNED PLACED const uint8_t %s_model[%zu] = {",
        n->name, n->name, n->model->size);
    append_bytes(text, n->model->bytes, n->model->size);
    g_string_append_printf(text, "\n};\n\nconst uint32_t %s_row_costs[] = {", n->name);
    for (unsigned i = 0; i < model->layers; i++) {
        g_string_append_printf(text, "%s%u,", i % 10 == 0 ? "\n    " : " ", costs[i]);
    }
    g_string_append_printf(
        text,
        "\n};\n\n/* The runtime that came along with it. Where another hand-over's is linked "
        "instead, "
        "the linker\n * finds two: hand both networks over in one call of 'netsuke emit'. */\n"
        "#ifdef __cplusplus\nextern \"C\" {\n#endif\nextern const uint8_t %s;\n"
        "extern const uint8_t *const %s_runtime;\n#ifdef __cplusplus\n}\n#endif\n"
        "const uint8_t *const %s_runtime = &%s;\n",
        mark, n->name, n->name, mark);
    return text;
}

/* ---- the self-test's frames ---- */

/* Networks may come without pictures: nothing is tested then. */
static int frames_of(const nsk_handed_network *n) {
    return n->tried != NULL ? nsk_images_count(n->tried) : 0;
}

/* What is expected comes from the formulas, not from the kernels that the test is to try. */
static bool append_frames(GString *text, const nsk_handed_network *n, const nsk_model *model,
                          nsk_error *error) {
    int count = frames_of(n);
    size_t bytes = (size_t)model->width * model->height * model->channels;
    uint8_t *frame = g_malloc(bytes);
    void *workspace = g_malloc(model->workspace_bytes);
    size_t scores_bytes = model->classes * sizeof(int32_t);
    int32_t *expected = g_malloc(scores_bytes);
    GString *scores = g_string_new(NULL);
    bool good = true;
    g_string_append_printf(text, "static const uint8_t %s_frames[] = {", n->name);
    for (int i = 0; i < count && good; i++) {
        good = nsk_images_frame(n->tried, i, frame, error);
        if (good) {
            nsk_reference_scores(model, frame, expected);
            nsk_prepare(model, frame, (size_t)model->width * model->channels, workspace);
            nsk_run(model, workspace, NULL);
            good = memcmp(expected, nsk_scores(model, workspace), scores_bytes) == 0 ||
                   nsk_fail(error,
                            "%s: the runtime gives other scores than docs/arithmetic.md for "
                            "image %d; this is a mistake in netsuke: please report it",
                            n->name, i);
            append_bytes(text, frame, bytes);
            g_string_append(scores, "\n   ");
            for (unsigned c = 0; c < model->classes; c++) {
                g_string_append_printf(scores, " %d,", expected[c]);
            }
        }
    }
    g_string_append(text, count == 0 ? "0" : "");
    g_string_append(scores, count == 0 ? "0" : "");
    g_string_append_printf(text, "\n};\n\nstatic const int32_t %s_expected[] = {%s\n};\n\n",
                           n->name, scores->str);
    g_string_free(scores, TRUE);
    g_free(expected);
    g_free(workspace);
    g_free(frame);
    return good;
}

static GString *test_source(const nsk_handed_network *networks, int count, nsk_error *error) {
    GString *text = g_string_new("#include \"self_test.h\"\n\n");
    GString *table = g_string_new("const self_test_network self_test_networks[] = {\n");
    size_t memory = 4;
    bool good = true;
    for (int i = 0; i < count && good; i++) {
        nsk_model model;
        nsk_open(&model, networks[i].model->bytes, networks[i].model->size);
        const char *name = networks[i].name;
        unsigned steps = 0;
        unsigned each = 0;
        size_t wanted = 0;
        g_string_append_printf(text, "#include \"%s.h\"\n\n", name);
        good = append_frames(text, &networks[i], &model, error) &&
               nsk_append_steps(text, &networks[i], &model, &steps, &each, &wanted, error);
        memory = MAX(memory, wanted);
        g_string_append_printf(
            table,
            "    {\"%s\", %s_model, sizeof %s_model, %s_row_costs, %d, %s_frames, "
            "%s_expected, &%s_firmware, %u, %u, %s_steps},\n",
            name, name, name, name, frames_of(&networks[i]), name, name, name, each, steps, name);
    }
    g_string_append_printf(text,
                           "%s};\n\nconst unsigned self_test_count = %d;\n\n"
                           "uint32_t self_test_memory[%zu];\n"
                           "const size_t self_test_memory_bytes = sizeof self_test_memory;\n",
                           table->str, count, memory / 4);
    g_string_free(table, TRUE);
    if (!good) {
        g_string_free(text, TRUE);
        return NULL;
    }
    return text;
}

/* ---- what is written about them ---- */

static void append_network(GString *text, const nsk_handed_network *n, const nsk_model *model) {
    g_string_append_printf(text, "## %s\n\n", n->name);
    for (int fact = 0; fact < NSK_FACTS; fact++) {
        static const char *const titles[] = {"Name", "Version", "Author", "Licence", "Description"};
        const char *value = nsk_model_fact(model, (nsk_fact)fact);
        if (value[0] != '\0') {
            g_string_append_printf(text, "- %s: %s\n", titles[fact], value);
        }
    }
    g_string_append_printf(
        text,
        "- Frame: %u x %u pixels, %s, one byte each, %u bytes. A picture of another size is\n"
        "  %s first. Mean and deviation are in the model: hand it\n  the camera's bytes.\n"
        "- Flash: %zu bytes of model, beside the runtime. RAM: a workspace of %u bytes and %s.\n",
        model->width, model->height, order_of(model),
        (unsigned)model->width * model->height * model->channels, fit_of(model), n->model->size,
        model->workspace_bytes,
        model->streamed > 0 ? "a row of your frame, or all of it" : "your frame");
    if (model->streamed > 0) {
        g_string_append_printf(
            text,
            "- Streamed: the first %u layers run while the frame's rows come in, %u at a time, and "
            "keep only the\n  rows that are still wanted. Whoever holds the whole frame may call "
            "`nsk_prepare` on it instead.\n",
            model->streamed, model->band);
    }
    g_string_append(text, "- Scores, in this order:");
    for (unsigned c = 0; c < model->classes; c++) {
        g_string_append_printf(text, " %s%s", nsk_label(model, c),
                               c + 1U < model->classes ? "," : "");
    }
    g_string_append(text, "\n\n");
}

/* How to call it: with a whole frame, or row by row. */
static char *example_of(const char *name, bool streamed, bool several) {
    static const char rows[] = "nsk_feed feed; /* for every frame */\n"
                               "nsk_start(&feed, &model, workspace, NULL);\n"
                               "do {\n    camera_row(row); /* waits for the next one */\n"
                               "} while (nsk_feed_rows(&feed, row, 0, 1) > 0);\n";
    char *upper = c_name(name, true);
    char *feeding = streamed ? g_strdup(rows)
                             : g_strdup_printf("nsk_prepare(&model, frame, %s_WIDTH * %s_CHANNELS, "
                                               "workspace); /* for every frame */\n",
                                               upper, upper);
    char *buffer = streamed ? g_strdup_printf("row[%s_WIDTH * %s_CHANNELS]", upper, upper)
                            : g_strdup_printf("frame[%s_FRAME_BYTES]", upper);
    char *answer =
        several ? g_strdup_printf("const int32_t *scores = nsk_scores(&model, workspace);\n"
                                  "/* label c is there where scores[c] >= "
                                  "(int32_t)%s_firmware.rule.thresholds[c] */\n",
                                  name)
                : g_strdup("unsigned best = nsk_best(&model, nsk_scores(&model, workspace));\n");
    char *text =
        g_strdup_printf("#include \"%s.h\"\n\n"
                        "static uint8_t %s;\n"
                        "static uint32_t workspace[%s_WORKSPACE_BYTES / 4];\n\n"
                        "nsk_model model;\n"
                        "if (nsk_open(&model, %s_model, sizeof %s_model) != NSK_STATUS_OK) { /* "
                        "damaged flash */ }\n\n"
                        "%s"
                        "nsk_run(&model, workspace, NULL);\n"
                        "%s",
                        name, buffer, upper, name, name, feeding, answer);
    g_free(answer);
    g_free(feeding);
    g_free(buffer);
    g_free(upper);
    return text;
}

/* What the templates ask for. */
typedef struct wording {
    GString *networks, *names, *models, *firmware, *headers, *header_list, *filter, *title;
    char *example, *frames, *version, *description, *upper, *pack, *link, *slot, *sensor;
} wording;

static void add_wording(wording *w, const nsk_handed_network *n, const nsk_model *model) {
    bool first = w->models->len == 0;
    append_network(w->networks, n, model);
    g_string_append_printf(w->names, "%s%s", first ? "" : " ", n->name);
    g_string_append_printf(w->models, "%s%s_model.c", first ? "" : " ", n->name);
    g_string_append_printf(w->firmware, "%s%s_firmware.c", first ? "" : " ", n->name);
    g_string_append_printf(w->headers, "%s%s.h", first ? "" : " ", n->name);
    g_string_append_printf(w->header_list, "%s\"%s.h\"", first ? "" : ", ", n->name);
    g_string_append_printf(w->filter, ", \"+<%s_model.c>\", \"+<%s_firmware.c>\"", n->name,
                           n->name);
    g_string_append_printf(w->title, "%s%s", first ? "" : ", ", n->name);
}

static void add_templates(nsk_bundle *bundle, const wording *w, const char *name) {
    const char *const values[] = {"NAME",
                                  name,
                                  "TITLE",
                                  w->title->str,
                                  "NETWORKS",
                                  w->networks->str,
                                  "UPPER",
                                  w->upper,
                                  "PACK",
                                  w->pack,
                                  "NAMES",
                                  w->names->str,
                                  "MODEL_SOURCES",
                                  w->models->str,
                                  "FIRMWARE_SOURCES",
                                  w->firmware->str,
                                  "MODEL_HEADERS",
                                  w->headers->str,
                                  "HEADER_LIST",
                                  w->header_list->str,
                                  "SOURCE_FILTER",
                                  w->filter->str,
                                  "LINK_BYTES",
                                  w->link,
                                  "SLOT_BYTES",
                                  w->slot,
                                  "SENSOR_BYTES",
                                  w->sensor,
                                  "EXAMPLE",
                                  w->example,
                                  "FRAMES",
                                  w->frames,
                                  "VERSION",
                                  w->version,
                                  "DESCRIPTION",
                                  w->description,
                                  NULL};
    static const char *const as_they_are[] = {"self_test.c", "self_test.h", "test_camera.h",
                                              "board_host.c"};
    static const char *const filled[][2] = {{"README.md", "README.md"},
                                            {"Makefile", "Makefile"},
                                            {"board/link.c", "board_link.c.in"},
                                            {"CMakeLists.txt", "CMakeLists.txt"},
                                            {"library.json", "library.json"},
                                            {"library.properties", "library.properties"},
                                            {"idf_component.yml", "idf_component.yml"},
                                            {"zephyr/module.yml", "module.yml"},
                                            {"zephyr/Kconfig", "Kconfig"},
                                            {"proof/prove.sh", "prove.sh"}};
    for (size_t i = 0; i < G_N_ELEMENTS(as_they_are); i++) {
        nsk_bundle_add_template(bundle, as_they_are[i], as_they_are[i], NULL);
    }
    for (size_t i = 0; i < G_N_ELEMENTS(filled); i++) {
        nsk_bundle_add_template(bundle, filled[i][0], filled[i][1], values);
    }
}

/* A version as package managers want it: three numbers. */
static char *package_version(const nsk_model *model) {
    const char *version = nsk_model_fact(model, NSK_FACT_VERSION);
    unsigned part[3] = {0, 0, 0};
    bool good = sscanf(version, "%9u.%9u.%9u", &part[0], &part[1], &part[2]) >= 1;
    return good ? g_strdup_printf("%u.%u.%u", part[0], part[1], part[2]) : g_strdup("0.0.0");
}

/* Of a slot for a model that comes later, bytes. */
enum { LEAST_SLOT = 131072 };

/* Words that speak of all networks together; the first one's version is the whole's. */
static void fill_wording(wording *w, const nsk_handed_network *networks, int count) {
    nsk_model model = {0};
    int frames = 0;
    GString **texts[] = {&w->networks, &w->names,       &w->models, &w->firmware,
                         &w->headers,  &w->header_list, &w->filter, &w->title};
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        *texts[i] = g_string_new(NULL);
    }
    for (int i = 0; i < count; i++) {
        nsk_open(&model, networks[i].model->bytes, networks[i].model->size);
        frames += frames_of(&networks[i]);
        add_wording(w, &networks[i], &model);
    }
    nsk_open(&model, networks[0].model->bytes, networks[0].model->size);
    w->version = package_version(&model);
    const nsk_decision *decision = networks[0].decision;
    w->example = example_of(networks[0].name, model.streamed > 0,
                            decision != NULL && decision->thresholds != NULL);
    w->frames = g_strdup_printf("%d held-out frame%s", frames, frames == 1 ? "" : "s");
    w->description = g_strdup_printf("Image classifier for microcontrollers: %s", w->title->str);
    w->upper = c_name(networks[0].name, true);
    w->link = g_strdup_printf("%zu", nsk_link_memory(&networks[0], &model));
    w->slot = g_strdup_printf("%u", MAX(2 * (model.size + 4096) / 4096 * 4096, LEAST_SLOT));
    w->sensor = g_strdup_printf("%zu", MAX(nsk_sensor_memory(&networks[0], &model), 1U));
    w->pack = g_strdup_printf("Netsuke.%s", networks[0].name);
}

static void clear_wording(wording *w) {
    GString *const texts[] = {w->networks, w->names,       w->models, w->firmware,
                              w->headers,  w->header_list, w->filter, w->title};
    char *const words[] = {w->example, w->frames, w->version, w->description, w->upper,
                           w->pack,    w->link,   w->slot,    w->sensor};
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        g_string_free(texts[i], TRUE);
    }
    for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
        g_free(words[i]);
    }
}

static bool check_names(const nsk_handed_network *networks, int count, nsk_error *error) {
    for (int i = 0; i < count; i++) {
        for (int k = 0; k < i; k++) {
            if (strcmp(networks[k].name, networks[i].name) == 0) {
                return nsk_fail(error,
                                "two networks are called '%s'; give each a name of its own under "
                                "[model]",
                                networks[i].name);
            }
        }
    }
    return true;
}

/* Names whose header would stand before one of the runtime, the self-test, the C library or the
 * compiler, or whose constants could be those of <stdint.h> and its like: INT8 and a label 'max'.
 */
static const char *const reserved[] = {
    "board",     "self_test",  "test_camera", "assert",      "complex",   "ctype",      "errno",
    "fenv",      "float",      "inttypes",    "iso646",      "limits",    "locale",     "math",
    "setjmp",    "signal",     "stdalign",    "stdarg",      "stdatomic", "stdbool",    "stddef",
    "stdint",    "stdio",      "stdlib",      "stdnoreturn", "string",    "strings",    "tgmath",
    "threads",   "time",       "uchar",       "wchar",       "wctype",    "unistd",     "features",
    "alloca",    "endian",     "memory",      "malloc",      "arm_mve",   "arm_acle",   "arm_neon",
    "immintrin", "int",        "int8",        "int16",       "int32",     "int64",      "uint",
    "uint8",     "uint16",     "uint32",      "uint64",      "intptr",    "uintptr",    "intmax",
    "uintmax",   "int_least8", "int_fast8",   "size",        "ptrdiff",   "sig_atomic", "wint",
    "char",      "schar",      "shrt",        "ushrt",       "long",      "ulong",      "llong",
    "ullong",    "flt",        "dbl",         "ldbl",        "float32",   "float64",    "bool",
    "ssize",     "rand",       "mb_len",      "path",        "name",      "arg",        "open",
    "pipe",      "line"};

char *nsk_handed_name(const char *text) {
    char *name = c_name(text, false);
    bool avoid = g_str_has_prefix(name, "nsk");
    for (size_t i = 0; i < G_N_ELEMENTS(reserved) && !avoid; i++) {
        avoid = strcmp(name, reserved[i]) == 0;
    }
    char *free_name = avoid ? g_strconcat("net_", name, NULL) : g_strdup(name);
    g_free(name);
    return free_name;
}

static bool same_bytes(const nsk_model_file *a, const nsk_model_file *b) {
    return a->size == b->size && memcmp(a->bytes, b->bytes, a->size) == 0;
}

/* What is to be shown of a network, and its result, which a model that has changed loses. Where its
 * weights stand in a core's own order, the plain runtime is shown on the usual one: it is what it
 * is quick with. */
static void add_proof(nsk_bundle *bundle, const nsk_handed_network *n, const nsk_model_file *plain,
                      const uint32_t *costs, const char *mark) {
    char *upper = c_name(n->name, true);
    char *source = g_strdup_printf("proof/%s.c", n->name);
    char *result = g_strdup_printf("proof/%s.txt", n->name);
    const char *const values[] = {"NAME", n->name, "UPPER", upper, NULL};
    GString *none = g_string_new(NULL);
    g_string_append_printf(none, "%s: nothing was shown yet; sh proof/prove.sh\n", n->name);
    nsk_bundle_add_template(bundle, source, "proof.c.in", values);
    nsk_bundle_add(bundle, result, none);
    if (!same_bytes(plain, n->model)) {
        nsk_model model;
        nsk_handed_network usual = *n;
        char *name = g_strdup_printf("proof/%s_model.c", n->name);
        usual.model = plain;
        nsk_open(&model, plain->bytes, plain->size);
        nsk_bundle_add(bundle, name, model_source(&usual, &model, costs, mark));
        g_free(name);
    }
    g_free(result);
    g_free(source);
    g_free(upper);
}

static bool add_network(nsk_bundle *bundle, const nsk_handed_network *n,
                        const nsk_model_file *plain, const char *mark, nsk_error *error) {
    nsk_model model;
    nsk_open(&model, n->model->bytes, n->model->size);
    uint32_t *costs = g_new0(uint32_t, model.layers);
    if (!nsk_row_costs(n->model, n->board, costs, error)) {
        g_free(costs);
        return false;
    }
    const struct {
        const char *ending;
        GString *text;
    } sources[] = {{".h", header_source(n, &model)},
                   {"_model.c", model_source(n, &model, costs, mark)},
                   {"_firmware.c", nsk_firmware_source(n, &model)}};
    for (size_t i = 0; i < G_N_ELEMENTS(sources); i++) {
        char *name = g_strconcat(n->name, sources[i].ending, NULL);
        nsk_bundle_add(bundle, name, sources[i].text);
        g_free(name);
    }
    add_proof(bundle, n, plain, costs, mark);
    g_free(costs);
    return true;
}

static void add_packages(nsk_bundle *bundle, const nsk_handed_network *networks, int count,
                         const wording *w) {
    GPtrArray *names = g_ptr_array_new();
    for (int i = 0; i < count; i++) {
        g_ptr_array_add(names, (char *)networks[i].name);
    }
    g_ptr_array_add(names, NULL);
    nsk_bundle_add_packages(bundle, (const char *const *)(void *)names->pdata, w->version,
                            w->description);
    g_ptr_array_free(names, TRUE);
}

/* Networks whose weights stand in their boards' order; `plain`: the same as they were. */
static char **emit_ordered(const nsk_handed_network *networks, const nsk_handed_network *plain,
                           int count, const char *folder, nsk_error *error) {
    nsk_needs needs = {.streams = false};
    if (!check_names(networks, count, error)) {
        return NULL;
    }
    GString *test = test_source(networks, count, error);
    if (test == NULL) {
        return NULL;
    }
    nsk_bundle *bundle = nsk_bundle_new();
    wording w;
    fill_wording(&w, networks, count);
    add_templates(bundle, &w, networks[0].name);
    for (int i = 0; i < count; i++) {
        nsk_model model;
        nsk_open(&model, networks[i].model->bytes, networks[i].model->size);
        nsk_needs_add(&needs, &model);
        if (networks[i].every_kind) {
            nsk_needs_all(&needs);
        }
    }
    char *mark = nsk_runtime_mark(&needs);
    bool good = true;
    for (int i = 0; i < count && good; i++) {
        good = add_network(bundle, &networks[i], plain[i].model, mark, error);
    }
    g_free(mark);
    nsk_bundle_add_runtime(bundle, &needs);
    nsk_bundle_add(bundle, "self_test_data.c", test);
    nsk_bundle_add_boards(bundle);
    add_packages(bundle, networks, count, &w);
    clear_wording(&w);
    char **names =
        good && nsk_bundle_write(bundle, folder, error) ? nsk_bundle_names(bundle) : NULL;
    nsk_bundle_free(bundle);
    return names;
}

char **nsk_emit(const nsk_handed_network *networks, int count, const char *folder,
                nsk_error *error) {
    nsk_handed_network *ordered = g_memdup2(networks, (gsize)count * sizeof *networks);
    nsk_model_file **models = g_new0(nsk_model_file *, (gsize)count + 1);
    for (int i = 0; i < count; i++) {
        const nsk_board *board = networks[i].board;
        models[i] = nsk_model_file_for_core(networks[i].model, board != NULL ? board->core : "any");
        ordered[i].model = models[i];
    }
    char **names = emit_ordered(ordered, networks, count, folder, error);
    for (int i = 0; i < count; i++) {
        nsk_model_file_free(models[i]);
    }
    g_free(models);
    g_free(ordered);
    return names;
}
