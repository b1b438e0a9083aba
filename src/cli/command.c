#include "command.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "netsuke/tools.h"
#include "table.h"

int cli_fail(const cli_job *job) {
    nsk_error error = job->error;
    nsk_make_visible(error.text);
    fprintf(stderr, "netsuke: %s\n", error.text);
    return CLI_ERROR;
}

void cli_job_clear(cli_job *job) {
    char *const texts[] = {
        job->model_path, job->board_path, job->calibration_path, job->held_out_path, job->output,
        job->array,      job->array_name, job->predictions,      job->sheet,         job->plot,
        job->onnx,       job->points,     job->training_path,    job->keep,          job->only,
        job->scene,      job->signals,    job->capture,          job->tick,          job->layer};
    for (size_t i = 0; i < G_N_ELEMENTS(texts); i++) {
        g_free(texts[i]);
    }
    g_strfreev(job->arguments);
    g_strfreev(job->faults);
    g_strfreev(job->logs);
    nsk_model_file_free(job->model);
    nsk_images_free(job->calibration);
    nsk_images_free(job->held_out);
    nsk_images_free(job->training);
    nsk_network_free(job->network);
    nsk_network_free(job->equalised);
    nsk_board_free(job->board);
    nsk_brief_free(job->brief);
}

static void override(char **setting, const char *option) {
    if (option != NULL) {
        g_free(*setting);
        *setting = g_strdup(option);
    }
}

/* Another set's labels are not those that the brief names. */
static void override_set(char **set, char **labels, const char *option) {
    override(set, option);
    if (option != NULL) {
        g_free(*labels);
        *labels = NULL;
    }
}

bool cli_load_brief(cli_job *job) {
    if (job->brief != NULL) {
        return true;
    }
    job->brief = nsk_brief_read_variant(job->arguments[0], job->variant, &job->error);
    if (job->brief == NULL) {
        return false;
    }
    if (job->board_path != NULL) {
        g_free(job->brief->board);
        job->brief->board = nsk_board_find(job->board_path, NULL);
    }
    override_set(&job->brief->calibration, &job->brief->calibration_labels, job->calibration_path);
    override_set(&job->brief->training, &job->brief->training_labels, job->training_path);
    job->brief->refine = job->brief->refine || job->refine;
    override_set(&job->brief->held_out, &job->brief->held_out_labels, job->held_out_path);
    return true;
}

/* Labels, size and camera agree with the network; what else is wrong, shows when that is right. */
static bool check_network(cli_job *job) {
    int outputs = nsk_network_classes(job->network);
    int labels = job->brief->labels.count;
    if (labels != outputs) {
        return nsk_fail(
            &job->error,
            "%s has %d outputs, the labels file has %d names; list one name an output, in "
            "output order",
            job->brief->model, outputs, labels);
    }
    return nsk_brief_camera_suits(job->brief, &job->error);
}

bool cli_load_network(cli_job *job) {
    if (job->network == NULL && cli_load_brief(job) &&
        nsk_brief_has(job->brief, job->brief->model, "model", "file", &job->error)) {
        job->network = nsk_network_read(job->brief->model, &job->brief->input, job->brief->output,
                                        &job->error);
        for (int i = 0; job->network != NULL && i < NSK_FACTS; i++) {
            if (job->brief->facts[i] != NULL) {
                nsk_network_set_fact(job->network, (nsk_fact)i, job->brief->facts[i]);
            }
        }
        if (job->network != NULL && !check_network(job)) {
            g_clear_pointer(&job->network, nsk_network_free);
        }
    }
    return job->network != NULL;
}

/* The sets that a brief names, and which option names another. */
typedef enum which_set { CALIBRATION, HELD_OUT, TRAINING } which_set;

/* The network comes first: labels that do not suit it make every folder look wrong. */
static nsk_images *open_set(cli_job *job, which_set which, int limit) {
    static const char *const keys[] = {"calibration", "held-out", "training"};
    nsk_brief *brief = job->brief;
    const struct {
        const char *path, *labels, *option;
    } sets[] = {{brief->calibration, brief->calibration_labels, job->calibration_path},
                {brief->held_out, brief->held_out_labels, job->held_out_path},
                {brief->training, brief->training_labels, job->training_path}};
    const char *named = sets[which].option == NULL ? sets[which].path : NULL;
    bool known = job->model_path != NULL && brief->input.width > 0;
    if ((!known && !cli_load_network(job)) ||
        !nsk_brief_has(brief, named, "images", keys[which], &job->error)) {
        return NULL;
    }
    nsk_images *images =
        nsk_images_open_array(sets[which].path, sets[which].labels, &brief->labels, &brief->input,
                              limit, job->tolerant != FALSE, &job->error);
    if (images != NULL) {
        cli_note_left_out(images);
    }
    return images;
}

nsk_images *cli_open_calibration(cli_job *job) {
    return open_set(job, CALIBRATION, job->brief->calibration_limit);
}

bool cli_load_calibration(cli_job *job) {
    if (job->calibration == NULL && cli_load_brief(job)) {
        job->calibration = cli_open_calibration(job);
    }
    return job->calibration != NULL;
}

nsk_images *cli_open_held_out(cli_job *job) {
    return open_set(job, HELD_OUT, job->sample);
}

bool cli_load_held_out(cli_job *job) {
    if (job->held_out == NULL && cli_load_brief(job)) {
        job->held_out = cli_open_held_out(job);
    }
    return job->held_out != NULL;
}

/* Where the brief, or --refine, asks for it, the recipe refines on the training images. */
static bool load_refine_settings(cli_job *job) {
    if (!job->brief->refine || job->training != NULL) {
        return true;
    }
    if (job->brief->training == NULL) {
        return nsk_fail(
            &job->error,
            "%s: refining wants labelled training images: name them as [images] training, "
            "or with --training SET",
            job->brief->path);
    }
    job->training = open_set(job, TRAINING, 0);
    nsk_refine_settings_init(&job->refine_settings, job->training);
    job->refine_settings.epochs = job->brief->refine_epochs;
    job->refine_settings.result = &job->refine_result;
    job->refine_settings.progress = cli_progress;
    job->brief->recipe.refine = &job->refine_settings;
    return job->training != NULL;
}

bool cli_make_recipe(cli_job *job, nsk_recipe *recipe) {
    if (!load_refine_settings(job)) {
        return false;
    }
    *recipe = job->brief->recipe;
    recipe->ram = job->brief->limits.ram;
    recipe->progress = cli_progress;
    return job->brief->board == NULL ||
           (cli_load_board(job) &&
            nsk_ram_for_model(job->board, &job->brief->product, &job->brief->input,
                              &job->brief->limits, &recipe->ram, &job->error));
}

static bool quantise(cli_job *job) {
    nsk_recipe recipe;
    job->model = cli_make_recipe(job, &recipe)
                     ? nsk_quantise(job->network, job->calibration, &recipe, &job->error)
                     : NULL;
    return job->model != NULL;
}

bool cli_load_model(cli_job *job) {
    if (job->model == NULL && job->model_path != NULL) {
        job->model = nsk_model_file_read(job->model_path, &job->error);
    } else if (job->model == NULL && cli_load_network(job) && cli_load_calibration(job)) {
        return quantise(job);
    }
    return job->model != NULL;
}

bool cli_load_equalised(cli_job *job) {
    if (!cli_load_network(job) || (job->brief->recipe.equalise && !cli_load_calibration(job))) {
        return false;
    }
    if (job->equalised == NULL && job->brief->recipe.equalise) {
        job->equalised = nsk_network_equalised(job->network, job->calibration, &job->error);
        return job->equalised != NULL;
    }
    return true;
}

bool cli_load_board(cli_job *job) {
    if (job->board == NULL && cli_load_brief(job)) {
        job->board = nsk_board_read(job->brief->board, &job->error);
    }
    return job->board != NULL;
}

bool cli_check_model(cli_job *job, const nsk_model *model) {
    return nsk_model_is_for(model, &job->brief->labels, &job->brief->input, &job->error);
}

bool cli_check_own_model(cli_job *job) {
    nsk_model model;
    nsk_status status = nsk_open(&model, job->model->bytes, job->model->size);
    if (status != NSK_STATUS_OK) {
        return nsk_fail(&job->error, "the model is %s", nsk_status_text(status));
    }
    return (job->brief->input.width > 0 || cli_load_network(job)) && cli_check_model(job, &model);
}

void cli_note_left_out(const nsk_images *images) {
    enum { LISTED = 20 };
    int count = nsk_images_left_out(images);
    for (int i = 0; i < MIN(count, LISTED); i++) {
        fprintf(stderr, "netsuke: left out %s\n", nsk_images_left_out_at(images, i));
    }
    if (count > LISTED) {
        fprintf(stderr, "netsuke: left out %d in all\n", count);
    }
}

void cli_print_json(JsonBuilder *builder) {
    JsonGenerator *generator = json_generator_new();
    JsonNode *root = json_builder_get_root(builder);
    json_generator_set_root(generator, root);
    json_generator_set_pretty(generator, TRUE);
    char *text = json_generator_to_data(generator, NULL);
    puts(text);
    g_free(text);
    json_node_unref(root);
    g_object_unref(generator);
    g_object_unref(builder);
}

/* Of the model file where there is one, of the network else. */
static void find_facts(const cli_job *job, const char **facts) {
    nsk_model model;
    bool open = job->model != NULL &&
                nsk_open(&model, job->model->bytes, job->model->size) == NSK_STATUS_OK;
    for (int i = 0; i < NSK_FACTS; i++) {
        facts[i] = open                   ? nsk_model_fact(&model, (nsk_fact)i)
                   : job->network != NULL ? nsk_network_fact(job->network, (nsk_fact)i)
                                          : "";
    }
}

JsonBuilder *cli_json_start(const cli_job *job) {
    static const char *const names[NSK_FACTS] = {"name", "version", "author", "licence",
                                                 "description"};
    const char *facts[NSK_FACTS];
    JsonBuilder *b = json_builder_new();
    find_facts(job, facts);
    json_builder_begin_object(b);
    json_builder_set_member_name(b, "model");
    json_builder_begin_object(b);
    for (int i = 0; i < NSK_FACTS; i++) {
        cli_json_text(b, names[i], facts[i]);
    }
    json_builder_end_object(b);
    return b;
}

void cli_print_facts(const cli_job *job) {
    static const char *const names[NSK_FACTS] = {"model        ", "version      ", "author       ",
                                                 "licence      ", "description  "};
    const char *facts[NSK_FACTS];
    find_facts(job, facts);
    for (int i = 0; i < NSK_FACTS; i++) {
        if (facts[i][0] != '\0') {
            cli_paragraph(names[i], facts[i]);
        }
    }
    putchar('\n');
}

void cli_json_text(JsonBuilder *builder, const char *name, const char *value) {
    json_builder_set_member_name(builder, name);
    json_builder_add_string_value(builder, value);
}

void cli_json_int(JsonBuilder *builder, const char *name, gint64 value) {
    json_builder_set_member_name(builder, name);
    json_builder_add_int_value(builder, value);
}

void cli_json_real(JsonBuilder *builder, const char *name, double value) {
    json_builder_set_member_name(builder, name);
    json_builder_add_double_value(builder, value);
}

void cli_progress(void *context, int done, int total) {
    enum { WIDTH = 40, STEPS = 200 };
    (void)context;
    int each = MAX(1, total / STEPS);
    if (!isatty(STDERR_FILENO) || (done % each != 0 && done != total)) {
        return;
    }
    if (done == total) {
        fputs("\r\033[K", stderr);
        return;
    }
    char bar[WIDTH + 1];
    int full = (int)((gint64)WIDTH * done / total);
    memset(bar, '.', WIDTH);
    memset(bar, '#', (size_t)full);
    bar[WIDTH] = '\0';
    fprintf(stderr, "\r[%s] %d of %d", bar, done, total);
}
