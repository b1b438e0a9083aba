#include "handed.h"

#include <string.h>

#include "device/layer.h"
#include "estimate/link_map.h"
#include "grid.h"
#include "netsuke/emit.h"

enum { MOST_NETWORKS = NSK_KINDS + 2 };

/* What is handed over: the first shape of each kind, and one that writes over its input, which goes
 * deepest; a streamed one besides; that one alone; one
 * whose layers need so little that the rest of the loop shows, with pictures scaled and looked at;
 * the same behind an image sensor. */
typedef enum handed_set { WHOLE, WITH_STREAMED, STREAMED, SHALLOW, SENSED, HANDED_SETS } handed_set;
static const char *const set_names[HANDED_SETS] = {"whole", "with-streamed", "streamed", "alone",
                                                   "sensed"};
static const nsk_kind SHALLOW_KIND = NSK_KIND_LUT;

static bool writes_over_input(const nsk_model_file *file) {
    nsk_model model;
    bool over = false;
    nsk_open(&model, file->bytes, file->size);
    for (unsigned i = 0; i < model.layers; i++) {
        nsk_layer l;
        nsk_layer_decode(&model, i, &l);
        over = over || nsk_writes_over_input(&l);
    }
    return over;
}

/* The first shape of the grid that a layer of runs over its input; NULL where none does. */
static nsk_model_file *model_over_input(nsk_error *error) {
    for (int i = 0; i < grid_shape_count; i++) {
        nsk_model_file *file = grid_model(&grid_shapes[i], GRID_OVER, error);
        if (file != NULL && writes_over_input(file)) {
            return file;
        }
        nsk_model_file_free(file);
    }
    return NULL;
}

static int make_models(nsk_model_file **models, handed_set set, nsk_error *error) {
    bool have[NSK_KINDS] = {false};
    int count = 0;
    for (int i = 0; i < grid_shape_count && set != STREAMED; i++) {
        bool wanted = (set != SHALLOW && set != SENSED) || grid_shapes[i].kind == SHALLOW_KIND;
        if (wanted && !have[grid_shapes[i].kind]) {
            have[grid_shapes[i].kind] = true;
            models[count] = grid_model(&grid_shapes[i], GRID_PLAIN, error);
            if (models[count++] == NULL) {
                return -1;
            }
        }
    }
    if (set == WHOLE || set == WITH_STREAMED) {
        models[count] = model_over_input(error);
        if (models[count++] == NULL) {
            return -1;
        }
    }
    if (set == WITH_STREAMED || set == STREAMED) {
        models[count] = grid_model(&grid_shapes[0], GRID_STREAMED, error);
        return models[count] != NULL ? count + 1 : -1;
    }
    return count;
}

static bool hand_over(const char *folder, handed_set set, nsk_error *error) {
    nsk_model_file *models[MOST_NETWORKS] = {NULL};
    nsk_handed_network networks[MOST_NETWORKS];
    char name[MOST_NETWORKS][8];
    const nsk_product scaled = {
        .camera_width = 128,
        .camera_height = 128,
        .check_every = 1,
        .check_frames = true,
        .sensor = {.format = set == SENSED ? NSK_SENSOR_YUYV : NSK_SENSOR_PIXELS}};
    int count = make_models(models, set, error);
    for (int i = 0; i < count; i++) {
        g_snprintf(name[i], sizeof name[i], "n%d", i);
        networks[i] =
            (nsk_handed_network){.name = name[i],
                                 .model = models[i],
                                 .product = set == SHALLOW || set == SENSED ? &scaled : NULL};
    }
    char **files = count > 0 ? nsk_emit(networks, count, folder, error) : NULL;
    for (int i = 0; i < MOST_NETWORKS; i++) {
        nsk_model_file_free(models[i]);
    }
    bool good = files != NULL;
    g_strfreev(files);
    return good;
}

/* "nsk_arm_dsp_product" as "arm-dsp.product". */
static char *key_of(const char *object) {
    static const char *const folders[][2] = {{"arm_dsp_", "arm-dsp."},
                                             {"arm_mve_", "arm-mve."},
                                             {"arm_small_", "arm-small."},
                                             {"riscv_v_", "riscv-v."},
                                             {"firmware_", "firmware."}};
    const char *name = object + strlen("nsk_");
    for (size_t i = 0; i < G_N_ELEMENTS(folders); i++) {
        if (g_str_has_prefix(name, folders[i][0])) {
            return g_strconcat(folders[i][1], name + strlen(folders[i][0]), NULL);
        }
    }
    return g_strdup(name);
}

static bool build(const char *core, const char *folder, nsk_error *error) {
    char *line = g_strdup_printf("env -u MAKEFLAGS make -s -C \"%s\" CORE=%s build/%s.elf", folder,
                                 core, core);
    char *said = NULL;
    int status = 0;
    bool good = g_spawn_command_line_sync(line, NULL, &said, &status, NULL) && status == 0;
    if (!good) {
        nsk_fail(error, "%s: the hand-over does not compile: %s", folder, said);
    }
    g_free(said);
    g_free(line);
    return good;
}

/* What the linker placed of a hand-over; nsk_link_map_free. */
static GArray *link_one(const char *core, const char *folder, handed_set set, nsk_error *error) {
    char *handed = g_build_filename(folder, set_names[set], NULL);
    char *path = g_strdup_printf("%s/build/%s.map", handed, core);
    bool good = hand_over(handed, set, error) && build(core, handed, error);
    GArray *objects = good ? nsk_link_map_read(path, error) : NULL;
    g_free(path);
    g_free(handed);
    return objects;
}

static double runtime_of(const GArray *objects) {
    double sum = 0.0;
    for (guint i = 0; i < objects->len; i++) {
        const nsk_linked *one = &g_array_index(objects, nsk_linked, i);
        sum += nsk_linked_is_runtime(one) ? one->text : 0.0;
    }
    return sum;
}

/* The number behind a word at the start of a line; negative where there is none. */
static double printed(const char *text, const char *word) {
    char *line = g_strdup_printf("\n%s ", word);
    const char *at = strstr(text, line);
    double number = at != NULL ? g_ascii_strtod(at + strlen(line), NULL) : -1.0;
    g_free(line);
    return number;
}

/* By how much the product's loop is deeper than its layers alone, both as the self-test paints
 * them; and how deep what it does besides its layers is. */
static bool append_loop_stack(const char *core, const char *folder, handed_set set, GString *to,
                              nsk_error *error) {
    char *line = g_strdup_printf("env -u MAKEFLAGS make -s -C \"%s/%s\" CORE=%s emulate", folder,
                                 set_names[set], core);
    char *out = NULL;
    bool good = g_spawn_command_line_sync(line, &out, NULL, NULL, NULL) && out != NULL;
    double loop = good ? printed(out, "loop-stack") : -1.0;
    double layers = good ? printed(out, "stack") : -1.0;
    good = (layers > 0.0 && loop >= layers) ||
           nsk_fail(error, "%s: the self-test paints no stack", folder);
    g_string_append_printf(to, "%s = %.0f B\n", set_names[set],
                           set == SHALLOW ? loop : loop - layers);
    g_free(out);
    g_free(line);
    return good;
}

/* A line a file of the runtime; or of that one alone. */
static void append_code(const GArray *objects, const char *only, GString *to) {
    for (guint i = 0; i < objects->len; i++) {
        const nsk_linked *one = &g_array_index(objects, nsk_linked, i);
        if (nsk_linked_is_runtime(one) && one->text > 0.0) {
            char *key = key_of(one->object);
            if (only == NULL || strcmp(key, only) == 0) {
                g_string_append_printf(to, "%s = %.0f B\n", key, one->text);
            }
            g_free(key);
        }
    }
}

bool handed_code(const char *core, const char *folder, GString *to, nsk_error *error) {
    GArray *linked[HANDED_SETS] = {NULL};
    bool good = true;
    for (int set = 0; set < HANDED_SETS && good; set++) {
        linked[set] = link_one(core, folder, (handed_set)set, error);
        good = linked[set] != NULL;
    }
    g_string_append(to, "\n[stack-loop]\n");
    good = good && append_loop_stack(core, folder, WHOLE, to, error) &&
           append_loop_stack(core, folder, STREAMED, to, error) &&
           append_loop_stack(core, folder, SHALLOW, to, error);
    g_string_append(to, "\n[code]\n");
    if (good) {
        append_code(linked[WHOLE], NULL, to);
        append_code(linked[SENSED], "firmware.sensor", to);
    }
    if (good) { /* and what it makes other files keep */
        g_string_append_printf(to, "stream = %.0f B\n",
                               runtime_of(linked[WITH_STREAMED]) - runtime_of(linked[WHOLE]));
    }
    for (int set = 0; set < HANDED_SETS; set++) {
        nsk_link_map_free(linked[set]);
    }
    return good;
}
