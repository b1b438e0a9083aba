/* The job description file. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "base/shipped.h"
#include "brief/labels.h"
#include "brief/product.h"
#include "brief/settings.h"
#include "images/changes.h"
#include "images/set.h"

const nsk_setting_name nsk_brief_settings[] = {
    {"model", "file", "The network as ONNX"},
    {"model", "labels", "Names of the classes, one a line, in the order of the outputs"},
    {"model", "output", "Name of the output to take, where the file has several"},
    {"model", "name", "Name of the model, where it is not to be the file's own"},
    {"model", "version", "Version, as three numbers; travels along with the model"},
    {"model", "author", "Author; travels along with the model"},
    {"model", "licence", "Licence; travels along with the model"},
    {"model", "description", "Description; travels along with the model"},
    {"input", "size", "Width x height in pixels; may be left out where the model fixes it"},
    {"input", "colour", "Order of channels in training: rgb, bgr or grey"},
    {"input", "fit",
     "How a picture of other proportions is brought to the size: stretch, crop or pad"},
    {"input", "resample", "How pixels are found: area, bilinear, smooth-bilinear or nearest"},
    {"input", "mean",
     "Taken away from values, as in training: one number, or one a channel, parted by semicolons"},
    {"input", "deviation", "Divides values, as in training: one number, or one a channel"},
    {"input", "range", "What a byte becomes before mean and deviation: 0..1 or 0..255"},
    {"images", "calibration",
     "Pictures that the ranges are made from: a folder a class, a CSV of path,label, an IDX or NPY "
     "array"},
    {"images", "held-out", "Pictures that accuracy is measured on"},
    {"images", "training", "Labelled images that weights are refined on"},
    {"images", "calibration-limit",
     "Use so many of the calibration images, spread over the classes; 1000 where nothing is "
     "said, 0 for all"},
    {"images", "calibration-labels", "Labels of an array, where no file beside it has them"},
    {"images", "held-out-labels", "The same for held-out"},
    {"images", "training-labels", "The same for training"},
    {"board", "file", "The board: a file, or the name of one that came along (netsuke shelf)"},
    {"limits", "flash", "Most flash for model and code, as in 256 KiB"},
    {"limits", "ram", "Most RAM, as in 64 KiB"},
    {"limits", "latency", "Longest time of a frame, as in 40 ms"},
    {"limits", "loss", "Most accuracy that may be lost, as in 1 points"},
    {"limits", "dropped",
     "Share of the camera's frames that may be dropped in a rehearsal: none, where it is not "
     "given"},
    {"limits", "missed", "Share of events that may be missed in a rehearsal, as in 10 %"},
    {"limits", "false-actions", "Share of actions that may be for nothing in a rehearsal"},
    {"schedule", "streamed",
     "Whether the first layers run while the frame comes in: when-needed, never or always"},
    {"ranges", "*",
     "every, or a layer's name: how a range is made: squared-error, extremes, percentile, "
     "divergence or auto; of a layer, fine: its output has 16 bits"},
    {"ranges", "fine",
     "Which layers' outputs have 16 bits besides: no, or auto: those where it pays"},
    {"bits", "*",
     "every, or a layer's name: bits of each weight in flash: 8, 6, 5 or 4; every: of dense layers "
     "and convolutions of single pixels, or auto: as few as the limit on flash needs"},
    {"stages", "equalise", "Even out channels between layers: yes or no"},
    {"stages", "rounding", "Fit the rounding of weights: yes or no"},
    {"stages", "biases", "Settle biases: yes or no"},
    {"stages", "refine", "Fine-tune weights on the training images: yes or no"},
    {"stages", "refine-epochs", "How often they are gone through"},
    {"stages", "teacher", "A better network of the same classes and input, that is learned from"},
    {"stages", "refine-changes",
     "What is done to half of them meanwhile: all, or names of netsuke stress, parted by ';'"},
    {"thresholds", "*",
     "every, or a label's name: where one picture may have several labels at once, the probability "
     "from which on it has this one, as in 0.5 or 50 %"},
    {"decision", "threshold",
     "Least probability of an answer, as in 0.6 or 60 %; else it is unsure"},
    {"decision", "margin", "By how much it leads"},
    {"decision", "frames", "So many frames must agree, in a row or of the window"},
    {"decision", "window", "Of the last so many frames"},
    {"decision", "hold-off", "Frames after a decision on which there is none"},
    {"decision", "resting", "The class for nothing there"},
    {"lines", "*", "A line's name, and the classes that move it, parted by semicolons"},
    {"firmware", "camera",
     "Width x height of the camera's pictures, where that is not the model's size"},
    {"camera", "format",
     "What the sensor sends: pixels, rgb565, rgb565-high-first, yuyv, uyvy, nv12, rggb, grbg, "
     "gbrg, "
     "bggr or grey10"},
    {"camera", "levels", "Of Y in YUV: studio (16 to 235) or all"},
    {"camera", "window",
     "Width x height + left + top of the part that is the picture: 96x96+32+12"},
    {"camera", "mirrored", "Whether left and right change places: yes or no"},
    {"camera", "upside-down", "Whether the sensor hangs upside down: yes or no"},
    {"firmware", "look", "Whether frozen pictures and stuck pixels are no answer: yes or no"},
    {"firmware", "check-every", "Frames between two looks at the model's checksum; 0: none"},
    {"firmware", "twice",
     "yes: a frame is run a second time before its action is given; the model is then not "
     "streamed"},
    {"battery", "holds", "Energy, as in 20 Wh"},
    {"battery", "awake", "Share of the time in which frames are taken"},
    {"rehearsal", "scenes", "CSV files of picture,truth, parted by semicolons"},
    {"vary", "model", "Variants: models, parted by semicolons"},
    {"vary", "size", "Variants: sizes"},
    {"vary", "ranges", "Variants: how ranges are made"},
    {"vary", "bits", "Variants: bits of each weight in flash"},
    {"vary", "streamed", "Variants: streamed or not"},
    {"vary", "refine", "Variants: refined or not"},
    {"vary", "board", "Variants: boards"},
    {"report", "variants", "A brief with [vary], for the report"},
    {NULL, NULL, NULL},
};

static bool read_input(const nsk_settings *s, nsk_input *input, nsk_error *error) {
    static const char *const colours[] = {"rgb", "bgr", "grey", NULL};
    static const char *const fits[] = {"stretch", "crop", "pad", NULL};
    static const char *const ranges[] = {"0..1", "0..255", NULL};
    static const char *const resamples[] = {"area", "bilinear", "smooth-bilinear", "nearest", NULL};
    int resample = (int)input->resample;
    int colour = (int)input->colour;
    int fit = (int)input->fit;
    int range = 0;
    if (!nsk_settings_size(s, "input", "size", &input->width, &input->height, error) ||
        !nsk_settings_choice(s, "input", "colour", colours, &colour, error) ||
        !nsk_settings_choice(s, "input", "fit", fits, &fit, error) ||
        !nsk_settings_choice(s, "input", "resample", resamples, &resample, error) ||
        !nsk_settings_choice(s, "input", "range", ranges, &range, error) ||
        !nsk_settings_triple(s, "input", "mean", input->mean, error) ||
        !nsk_settings_triple(s, "input", "deviation", input->deviation, error)) {
        return false;
    }
    input->colour = (nsk_colour)colour;
    input->fit = (nsk_fit)fit;
    input->resample = (nsk_resample)resample;
    input->top = range == 0 ? 1.0 : 255.0;
    static const char *const triples[] = {"mean", "deviation"};
    for (size_t i = 0; i < G_N_ELEMENTS(triples) && input->colour == NSK_COLOUR_GREY; i++) {
        if (nsk_settings_count(s, "input", triples[i]) > 1) {
            return nsk_settings_fail(s, "input", triples[i], error,
                                     "grey pictures have one channel: give one number");
        }
    }
    for (int i = 0; i < 3; i++) {
        if (input->deviation[i] < 1e-6) {
            return nsk_settings_fail(s, "input", "deviation", error,
                                     "each deviation must be above zero");
        }
    }
    return true;
}

static bool read_limits(const nsk_settings *s, nsk_limits *limits, nsk_error *error) {
    nsk_limits_init(limits);
    return nsk_settings_number(s, "limits", "flash", NSK_UNIT_BYTES, 0, 1e12, &limits->flash,
                               error) &&
           nsk_settings_number(s, "limits", "ram", NSK_UNIT_BYTES, 0, 1e12, &limits->ram, error) &&
           nsk_settings_number(s, "limits", "latency", NSK_UNIT_SECONDS, 0, 3600, &limits->latency,
                               error) &&
           nsk_settings_number(s, "limits", "loss", NSK_UNIT_POINTS, -100, 100, &limits->loss,
                               error) &&
           nsk_settings_number(s, "limits", "dropped", NSK_UNIT_SHARE, 0, 1, &limits->dropped,
                               error) &&
           nsk_settings_number(s, "limits", "missed", NSK_UNIT_SHARE, 0, 1, &limits->missed,
                               error) &&
           nsk_settings_number(s, "limits", "false-actions", NSK_UNIT_SHARE, 0, 1,
                               &limits->false_actions, error);
}

/* [ranges]: `every` for all layers, `fine`, and any layer by its name. */
static bool read_ranges(const nsk_settings *s, nsk_brief *brief, GPtrArray *fine,
                        nsk_error *error) {
    static const char *const methods[] = {"auto",          "extremes",   "percentile",
                                          "squared-error", "divergence", NULL};
    static const char *const choices[] = {"no", "auto", NULL};
    const char *const *keys = nsk_settings_keys(s, "ranges");
    nsk_recipe *recipe = &brief->recipe;
    int choice = 0;
    if (!nsk_settings_choice(s, "ranges", "fine", choices, &choice, error)) {
        return false;
    }
    brief->choose_fine = choice == 1;
    recipe->exceptions =
        g_new0(nsk_range_exception, keys != NULL ? g_strv_length((char **)keys) : 0);
    for (; keys != NULL && *keys != NULL; keys++) {
        int method = NSK_RANGE_METHOD_AUTO;
        bool every = strcmp(*keys, "every") == 0;
        if (!every && g_strcmp0(nsk_settings_text(s, "ranges", *keys), "fine") == 0) {
            g_ptr_array_add(fine, g_strdup(*keys));
            continue;
        }
        if (strcmp(*keys, "fine") == 0) {
            continue;
        }
        if (!nsk_settings_choice(s, "ranges", *keys, methods, &method, error)) {
            return false;
        }
        if (every) {
            recipe->ranges = (nsk_range_method)method;
            continue;
        }
        recipe->exceptions[recipe->excepted++] =
            (nsk_range_exception){g_strdup(*keys), (nsk_range_method)method};
    }
    return true;
}

/* [bits]: `every`, and any layer by its name. */
static bool read_bits(const nsk_settings *s, nsk_brief *brief, nsk_error *error) {
    static const char *const numbers[] = {"4", "5", "6", "8", NULL};
    static const int bits[] = {4, 5, 6, 8};
    const char *const *keys = nsk_settings_keys(s, "bits");
    nsk_recipe *recipe = &brief->recipe;
    recipe->narrowed = g_new0(nsk_bits_exception, keys != NULL ? g_strv_length((char **)keys) : 0);
    for (; keys != NULL && *keys != NULL; keys++) {
        static const char *const of_every[] = {"4", "5", "6", "8", "auto", NULL};
        int choice = 0;
        const bool every = strcmp(*keys, "every") == 0;
        if (!nsk_settings_choice(s, "bits", *keys, every ? of_every : numbers, &choice, error)) {
            return false;
        }
        if (every) {
            brief->choose_bits = choice == G_N_ELEMENTS(bits);
            recipe->bits = brief->choose_bits ? 8 : bits[choice];
        } else {
            recipe->narrowed[recipe->narrowed_count++] =
                (nsk_bits_exception){g_strdup(*keys), bits[choice]};
        }
    }
    return true;
}

/* [stages] refine-changes: names of changes. */
static bool read_changes(const nsk_settings *s, unsigned *changes, nsk_error *error) {
    const char *text = nsk_settings_text(s, "stages", "refine-changes");
    char **names = text != NULL ? g_strsplit(text, ";", -1) : NULL;
    bool good = true;
    for (char **name = names; name != NULL && *name != NULL && good; name++) {
        unsigned named = strcmp(g_strstrip(*name), "all") == 0 ? NSK_EVERY_CHANGE : 0U;
        for (int i = 0; i < nsk_change_count; i++) {
            named |= strcmp(nsk_changes[i].name, *name) == 0 ? 1U << i : 0U;
        }
        *changes |= named;
        good = named != 0U ||
               nsk_settings_fail(s, "stages", "refine-changes", error,
                                 "'all', or changes as 'netsuke stress' calls them, parted by ';'");
    }
    g_strfreev(names);
    return good;
}

static bool read_stages(const nsk_settings *s, nsk_brief *brief, nsk_error *error) {
    static const char *const answers[] = {"no", "yes", NULL};
    nsk_recipe *recipe = &brief->recipe;
    double epochs = NSK_REFINE_EPOCHS;
    const struct {
        const char *key;
        bool *to;
    } stages[] = {{"equalise", &recipe->equalise},
                  {"rounding", &recipe->rounding},
                  {"biases", &recipe->biases},
                  {"refine", &brief->refine}};
    for (size_t i = 0; i < G_N_ELEMENTS(stages); i++) {
        int answer = *stages[i].to ? 1 : 0;
        if (!nsk_settings_choice(s, "stages", stages[i].key, answers, &answer, error)) {
            return false;
        }
        *stages[i].to = answer == 1;
    }
    bool good =
        nsk_settings_number(s, "stages", "refine-epochs", NSK_UNIT_NUMBER, 1, 1000, &epochs, error);
    brief->refine_epochs = (int)epochs;
    return good && read_changes(s, &brief->refine_changes, error) &&
           (brief->refine_epochs == epochs ||
            nsk_settings_fail(s, "stages", "refine-epochs", error, "a whole number is needed"));
}

static bool read_recipe(const nsk_settings *s, nsk_brief *brief, nsk_error *error) {
    nsk_recipe *recipe = &brief->recipe;
    static const char *const wishes[] = {"when-needed", "never", "always", NULL};
    int wish = NSK_STREAMING_WHEN_NEEDED;
    nsk_recipe_init(recipe);
    bool good = nsk_settings_choice(s, "schedule", "streamed", wishes, &wish, error);
    recipe->streaming = (nsk_streaming_wish)wish;
    GPtrArray *fine = g_ptr_array_new();
    good = good && read_stages(s, brief, error) && read_ranges(s, brief, fine, error) &&
           read_bits(s, brief, error);
    g_ptr_array_add(fine, NULL);
    brief->fine = (char **)g_ptr_array_free(fine, FALSE);
    return good;
}

/* A whole number; stays as it is where the key is not given. */
/* The classes of one line. */
static bool read_line(const nsk_settings *s, const nsk_labels *labels, nsk_decision *d, int line,
                      nsk_error *error) {
    enum { MOST_LINES = 32 };
    const char *key = d->line_names[line];
    const char *text = nsk_settings_text(s, "lines", key);
    char **names = g_strsplit(text != NULL ? text : "", ";", -1);
    char *wrong = NULL;
    for (int k = 0; names[k] != NULL && wrong == NULL; k++) {
        int class = nsk_label_index(labels, g_strstrip(names[k]));
        if (class < 0) {
            wrong = g_strdup_printf("no label is called '%s'", names[k]);
        } else if (d->line_of[class] >= 0 || g_strcmp0(names[k], d->resting) == 0) {
            wrong = g_strdup_printf("'%s' is the resting class, or on a line already", names[k]);
        } else {
            d->line_of[class] = line;
        }
    }
    if (names[0] == NULL || d->lines > MOST_LINES) {
        wrong = g_strdup("labels parted by ';' are needed; at most 32 lines");
    }
    bool good = wrong == NULL || nsk_settings_fail(s, "lines", key, error, wrong);
    g_free(wrong);
    g_strfreev(names);
    return good;
}

/* [lines]: a name, and the classes that move it. */
static bool read_lines(const nsk_settings *s, const nsk_labels *labels, nsk_decision *d,
                       nsk_error *error) {
    const char *const *keys = nsk_settings_keys(s, "lines");
    if (keys == NULL) {
        return true;
    }
    d->lines = (int)g_strv_length((char **)keys);
    d->line_names = g_strdupv((char **)keys);
    d->line_of = g_new(int, labels->count);
    for (int i = 0; i < labels->count; i++) {
        d->line_of[i] = -1;
    }
    for (int line = 0; line < d->lines; line++) {
        if (!read_line(s, labels, d, line, error)) {
            return false;
        }
    }
    return true;
}

static bool read_decision(const nsk_settings *s, const nsk_labels *labels, nsk_decision *d,
                          nsk_error *error) {
    static const char *const for_one[] = {"threshold", "margin", "resting"};
    d->threshold = 0.5;
    d->frames = 1;
    d->thresholds = labels->thresholds;
    for (size_t i = 0; i < G_N_ELEMENTS(for_one) && d->thresholds != NULL; i++) {
        if (nsk_settings_text(s, "decision", for_one[i]) != NULL) {
            return nsk_settings_fail(s, "decision", for_one[i], error,
                                     "it is for one class of all, and [thresholds] say that there "
                                     "may be several labels at once; take one of them out");
        }
    }
    d->resting = g_strdup(nsk_settings_text(s, "decision", "resting"));
    if (!nsk_settings_number(s, "decision", "threshold", NSK_UNIT_SHARE, 0, 1, &d->threshold,
                             error) ||
        !nsk_settings_number(s, "decision", "margin", NSK_UNIT_SHARE, 0, 1, &d->margin, error) ||
        !nsk_settings_whole(s, "decision", "frames", 1, 255, &d->frames, error) ||
        !nsk_settings_whole(s, "decision", "window", 1, 32, &d->window, error) ||
        !nsk_settings_whole(s, "decision", "hold-off", 0, 255, &d->hold_off, error)) {
        return false;
    }
    if (d->window > 0 && d->window < d->frames) {
        return nsk_settings_fail(s, "decision", "window", error,
                                 "it holds no fewer frames than must agree");
    }
    if (d->resting != NULL && nsk_label_index(labels, d->resting) < 0) {
        return nsk_settings_fail(s, "decision", "resting", error, "no label has this name");
    }
    return read_lines(s, labels, d, error);
}

static void read_scenes(const nsk_settings *s, nsk_brief *brief) {
    const char *text = nsk_settings_text(s, "rehearsal", "scenes");
    if (text != NULL) {
        brief->scenes = g_strsplit(text, ";", -1);
        for (char **scene = brief->scenes; *scene != NULL; scene++) {
            char *path = nsk_path_beside(brief->path, g_strstrip(*scene));
            g_free(*scene);
            *scene = path;
        }
    }
}

static char *path_setting(const nsk_settings *s, const char *brief, const char *group,
                          const char *key) {
    const char *text = nsk_settings_text(s, group, key);
    return text != NULL ? nsk_path_beside(brief, text) : NULL;
}

static const char *const fact_keys[NSK_FACTS] = {"name", "version", "author", "licence",
                                                 "description"};

bool nsk_brief_has(const nsk_brief *brief, const char *path, const char *group, const char *key,
                   nsk_error *error) {
    return path == NULL || g_file_test(path, G_FILE_TEST_EXISTS) ||
           nsk_fail(error,
                    "%s:%d: %s: %s: No such file or directory; paths are seen from the brief",
                    brief->path, nsk_settings_line(brief->settings, group, key), key, path);
}

char *nsk_board_find(const char *name, const char *beside) {
    char *path = beside != NULL ? nsk_path_beside(beside, name) : g_strdup(name);
    char *shipped = strchr(name, '/') == NULL && !g_file_test(path, G_FILE_TEST_EXISTS)
                        ? nsk_shipped("boards", name)
                        : NULL;
    if (shipped == NULL) {
        return path;
    }
    g_free(path);
    return shipped;
}

char **nsk_board_names(void) {
    return nsk_shipped_names("boards");
}

static bool fill(nsk_brief *brief, const nsk_settings *s, nsk_error *error) {
    double limit = NSK_CALIBRATION_LIMIT;
    const char *labels = nsk_settings_need(s, "model", "labels", error);
    if (labels == NULL || nsk_settings_need(s, "model", "file", error) == NULL) {
        return false;
    }
    brief->model = path_setting(s, brief->path, "model", "file");
    brief->output = g_strdup(nsk_settings_text(s, "model", "output"));
    const char *board = nsk_settings_text(s, "board", "file");
    brief->board = board != NULL ? nsk_board_find(board, brief->path) : NULL;
    brief->calibration = path_setting(s, brief->path, "images", "calibration");
    brief->held_out = path_setting(s, brief->path, "images", "held-out");
    brief->training = path_setting(s, brief->path, "images", "training");
    brief->training_labels = path_setting(s, brief->path, "images", "training-labels");
    brief->calibration_labels = path_setting(s, brief->path, "images", "calibration-labels");
    brief->teacher = path_setting(s, brief->path, "stages", "teacher");
    brief->variants_brief = path_setting(s, brief->path, "report", "variants");
    brief->held_out_labels = path_setting(s, brief->path, "images", "held-out-labels");
    for (int i = 0; i < NSK_FACTS; i++) {
        brief->facts[i] = g_strdup(nsk_settings_text(s, "model", fact_keys[i]));
    }
    brief->labels_path = nsk_path_beside(brief->path, labels);
    bool good = nsk_brief_has(brief, brief->labels_path, "model", "labels", error) &&
                nsk_labels_read(brief->labels_path, &brief->labels, error) &&
                nsk_labels_read_thresholds(s, &brief->labels, error);
    good = good && read_input(s, &brief->input, error) && read_limits(s, &brief->limits, error) &&
           read_recipe(s, brief, error) &&
           read_decision(s, &brief->labels, &brief->decision, error) &&
           nsk_product_read(s, &brief->product, error) && nsk_sensor_read(s, brief, error) &&
           nsk_product_hold_frames(s, brief, error) && nsk_brief_camera_suits(brief, error) &&
           nsk_settings_number(s, "images", "calibration-limit", NSK_UNIT_NUMBER, 0, 1e6, &limit,
                               error);
    brief->calibration_limit = (int)limit;
    read_scenes(s, brief);
    if (good && brief->calibration_limit != limit) {
        return nsk_settings_fail(s, "images", "calibration-limit", error,
                                 "a whole number is needed");
    }
    return good;
}

/* Lists under [vary], and the setting that takes its values from each in turn. */
static const struct varied {
    const char *key, *group, *setting;
} varied[] = {{"model", "model", "file"},     {"size", "input", "size"},
              {"ranges", "ranges", "every"},  {"fine", "ranges", "fine"},
              {"bits", "bits", "every"},      {"streamed", "schedule", "streamed"},
              {"refine", "stages", "refine"}, {"board", "board", "file"}};

enum { MOST_VARIANTS = 10000 };

/* How many the lists' combinations are. */
static bool count_variants(const nsk_settings *s, int *count, nsk_error *error) {
    *count = 1;
    for (size_t i = 0; i < G_N_ELEMENTS(varied); i++) {
        const char *text = nsk_settings_text(s, "vary", varied[i].key);
        char **values = g_strsplit(text != NULL ? text : "any", ";", -1);
        bool whole = true;
        for (int k = 0; values[k] != NULL; k++) {
            whole = whole && g_strstrip(values[k])[0] != '\0';
        }
        int length = (int)g_strv_length(values);
        g_strfreev(values);
        if (!whole || *count > MOST_VARIANTS / length) {
            return nsk_settings_fail(s, "vary", varied[i].key, error,
                                     whole ? "more than 10,000 variants in all; shorten the lists"
                                           : "a value between two ';' is empty");
        }
        *count *= length;
    }
    return true;
}

/* Puts the values of one variant in their places; the last list turns fastest. The name says those
 * that have a choice. g_free. */
static char *choose_variant(nsk_settings *s, int index) {
    GString *name = g_string_new("");
    for (size_t i = G_N_ELEMENTS(varied); i-- > 0;) {
        const char *text = nsk_settings_text(s, "vary", varied[i].key);
        if (text == NULL) {
            continue;
        }
        char **values = g_strsplit(text, ";", -1);
        int length = (int)g_strv_length(values);
        const char *value = g_strstrip(values[index % length]);
        bool is_file = strcmp(varied[i].setting, "file") == 0;
        char *said = is_file ? nsk_stem(value) : g_strdup(value);
        nsk_settings_put(s, varied[i].group, varied[i].setting, value, "vary", varied[i].key);
        if (length > 1) {
            g_string_prepend(name, name->len > 0 ? "," : "");
            g_string_prepend(name, said);
        }
        index /= length;
        g_free(said);
        g_strfreev(values);
    }
    return g_string_free(name, FALSE);
}

nsk_brief *nsk_brief_read(const char *path, nsk_error *error) {
    return nsk_brief_read_variant(path, NSK_NO_VARIANT, error);
}

nsk_brief *nsk_brief_read_variant(const char *path, int index, nsk_error *error) {
    nsk_settings *s = nsk_settings_read(path, nsk_brief_settings, error);
    int variants = 0;
    if (s == NULL || !count_variants(s, &variants, error)) {
        nsk_settings_free(s);
        return NULL;
    }
    char *variant = index >= 0 && index < variants ? choose_variant(s, index) : g_strdup("");
    if (variant[0] == '\0') {
        g_free(variant);
        variant = nsk_stem(path);
    }
    nsk_brief *brief = g_new0(nsk_brief, 1);
    brief->path = g_strdup(path);
    brief->name = g_path_get_basename(path);
    brief->variants = variants;
    brief->variant = variant;
    nsk_input_init(&brief->input);
    brief->settings = s;
    if (!fill(brief, s, error)) {
        nsk_brief_free(brief);
        return NULL;
    }
    return brief;
}

void nsk_brief_free(nsk_brief *brief) {
    if (brief == NULL) {
        return;
    }
    char *const texts[] = {brief->path,
                           brief->name,
                           brief->variant,
                           brief->variants_brief,
                           brief->labels_path,
                           brief->model,
                           brief->output,
                           brief->board,
                           brief->calibration,
                           brief->held_out,
                           brief->calibration_labels,
                           brief->held_out_labels,
                           brief->training,
                           brief->training_labels,
                           brief->teacher,
                           brief->decision.resting};
    for (int i = 0; i < brief->recipe.excepted; i++) {
        g_free(brief->recipe.exceptions[i].layer);
    }
    g_free(brief->recipe.exceptions);
    for (int i = 0; i < brief->recipe.narrowed_count; i++) {
        g_free(brief->recipe.narrowed[i].layer);
    }
    g_free(brief->recipe.narrowed);
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        g_free(texts[i]);
    }
    for (int i = 0; i < NSK_FACTS; i++) {
        g_free(brief->facts[i]);
    }
    g_strfreev(brief->decision.line_names);
    g_free(brief->decision.line_of);
    g_strfreev(brief->scenes);
    g_strfreev(brief->fine);
    nsk_labels_clear(&brief->labels);
    nsk_settings_free(brief->settings);
    g_free(brief);
}
