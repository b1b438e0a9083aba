#include "command.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

#include "kept.h"
#include "netsuke/tools.h"
#include "options.h"
#include "table.h"

int cli_fail(const cli_context *context) {
    nsk_error error = context->error;
    nsk_make_visible(error.text);
    fprintf(stderr, "netsuke: %s\n", error.text);
    return CLI_ERROR;
}

void cli_context_clear(cli_context *context) {
    cli_clear_own(context);
    g_free(context->model_path);
    g_free(context->board_path);
    g_free(context->calibration_path);
    g_free(context->held_out_path);
    g_free(context->training_path);
    g_strfreev(context->arguments);
    nsk_on_board_close(context->on_board);
    g_free(context->on);
    nsk_model_file_free(context->model);
    nsk_images_free(context->calibration);
    nsk_images_free(context->held_out);
    nsk_images_free(context->training);
    nsk_network_free(context->network);
    nsk_network_free(context->equalised);
    nsk_network_free(context->teacher);
    nsk_network_free(context->learned);
    nsk_board_free(context->board);
    nsk_finer_free(context->finer);
    nsk_narrower_free(context->narrower);
    nsk_brief_free(context->brief);
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

bool cli_load_brief(cli_context *context) {
    if (context->brief != NULL) {
        return true;
    }
    context->brief =
        nsk_brief_read_variant(context->arguments[0], context->variant, &context->error);
    if (context->brief == NULL) {
        return false;
    }
    if (context->board_path != NULL) {
        g_free(context->brief->board);
        context->brief->board = nsk_board_find(context->board_path, NULL);
    }
    override_set(&context->brief->calibration, &context->brief->calibration_labels,
                 context->calibration_path);
    override_set(&context->brief->training, &context->brief->training_labels,
                 context->training_path);
    override_set(&context->brief->held_out, &context->brief->held_out_labels,
                 context->held_out_path);
    return true;
}

/* Labels, size and camera agree with the network; what else is wrong, shows when that is right. */
static bool check_network(cli_context *context) {
    int outputs = nsk_network_classes(context->network);
    int labels = context->brief->labels.count;
    if (labels != outputs) {
        return nsk_fail(
            &context->error,
            "%s has %d outputs, the labels file has %d names; list one name an output, in "
            "output order",
            context->brief->model, outputs, labels);
    }
    return nsk_brief_camera_suits(context->brief, &context->error);
}

void cli_print_notes(const nsk_network *network, const char *path) {
    for (int i = 0; i < nsk_network_notes(network); i++) {
        fprintf(stderr, "netsuke: %s: %s\n", path, nsk_network_note(network, i));
    }
}

/* What the brief asks of the network: finer numbers, labels by themselves. */
static bool suit_brief(cli_context *context) {
    bool good = true;
    for (char **name = context->brief->fine; *name != NULL && good; name++) {
        good = nsk_network_make_fine(context->network, *name, &context->error);
    }
    return good && (context->brief->labels.thresholds == NULL ||
                    nsk_network_answer_each(context->network, &context->error));
}

bool cli_load_network(cli_context *context) {
    if (context->network == NULL && cli_load_brief(context) &&
        nsk_brief_has(context->brief, context->brief->model, "model", "file", &context->error)) {
        context->network = nsk_network_read(context->brief->model, &context->brief->input,
                                            context->brief->output, &context->error);
        for (int i = 0; context->network != NULL && i < NSK_FACTS; i++) {
            if (context->brief->facts[i] != NULL) {
                nsk_network_set_fact(context->network, (nsk_fact)i, context->brief->facts[i]);
            }
        }
        if (context->network != NULL && (!suit_brief(context) || !check_network(context))) {
            g_clear_pointer(&context->network, nsk_network_free);
        } else if (context->network != NULL) {
            cli_print_notes(context->network, context->brief->model);
        }
    }
    return context->network != NULL;
}

/* The sets that a brief names, and which option names another. */
typedef enum which_set { CALIBRATION, HELD_OUT, TRAINING } which_set;

/* The network comes first: labels that do not suit it make every folder look wrong. */
static nsk_images *open_set(cli_context *context, which_set which, int limit) {
    static const char *const keys[] = {"calibration", "held-out", "training"};
    nsk_brief *brief = context->brief;
    const struct {
        const char *path, *labels, *option;
    } sets[] = {{brief->calibration, brief->calibration_labels, context->calibration_path},
                {brief->held_out, brief->held_out_labels, context->held_out_path},
                {brief->training, brief->training_labels, context->training_path}};
    const char *named = sets[which].option == NULL ? sets[which].path : NULL;
    bool known = context->model_path != NULL && brief->input.width > 0;
    if ((!known && !cli_load_network(context)) ||
        !nsk_brief_has(brief, named, "images", keys[which], &context->error)) {
        return NULL;
    }
    nsk_images *images =
        nsk_images_open_array(sets[which].path, sets[which].labels, &brief->labels, &brief->input,
                              limit, context->tolerant != FALSE, &context->error);
    if (images != NULL) {
        cli_note_left_out(images);
    }
    return images;
}

nsk_images *cli_open_calibration(cli_context *context) {
    return open_set(context, CALIBRATION, context->brief->calibration_limit);
}

bool cli_load_calibration(cli_context *context) {
    if (context->calibration == NULL && cli_load_brief(context)) {
        context->calibration = cli_open_calibration(context);
    }
    return context->calibration != NULL;
}

nsk_images *cli_open_held_out(cli_context *context) {
    return open_set(context, HELD_OUT, context->sample);
}

bool cli_load_held_out(cli_context *context) {
    if (context->held_out == NULL && cli_load_brief(context)) {
        context->held_out = cli_open_held_out(context);
    }
    return context->held_out != NULL;
}

nsk_images *cli_open_training(cli_context *context) {
    return open_set(context, TRAINING, 0);
}

/* The network that refining learns from, where the brief names one. */
static bool load_teacher(cli_context *context) {
    const char *path = context->brief->teacher;
    nsk_input input = context->brief->input;
    if (path == NULL) {
        return true;
    }
    if (!nsk_brief_has(context->brief, path, "stages", "teacher", &context->error)) {
        return false;
    }
    context->teacher = nsk_network_read(path, &input, NULL, &context->error);
    return context->teacher != NULL;
}

/* Where the brief, or --refine, asks for it, the recipe refines on the training images. */
static bool load_refine_settings(cli_context *context) {
    if (!context->brief->refine || context->training != NULL) {
        return true;
    }
    if (context->brief->training == NULL) {
        return nsk_fail(
            &context->error,
            "%s: refining wants labelled training images: name them as [images] training, "
            "or with --training SET",
            context->brief->path);
    }
    context->training = cli_open_training(context);
    nsk_refine_settings_init(&context->refine_settings, context->training);
    context->refine_settings.epochs = context->brief->refine_epochs;
    context->refine_settings.changes = context->brief->refine_changes;
    if (context->brief->refine_changes != 0U) {
        context->refine_settings.rate = NSK_ROBUST_RATE;
    }
    context->refine_settings.result = &context->refine_result;
    context->refine_settings.progress = cli_progress;
    context->refine_settings.learned = context->keep_learned ? &context->learned : NULL;
    context->brief->recipe.refine = &context->refine_settings;
    if (context->training == NULL || !load_teacher(context)) {
        return false;
    }
    context->refine_settings.teacher = context->teacher;
    return true;
}

static bool set_ram(cli_context *context, nsk_recipe *recipe) {
    recipe->ram = context->brief->limits.ram;
    return context->brief->board == NULL ||
           (cli_load_board(context) &&
            nsk_ram_for_model(context->board, &context->brief->product, &context->brief->input,
                              &context->brief->limits, &recipe->ram, &context->error));
}

/* What was chosen is never silent. */
static void note_finer(const nsk_finer *f, const char *path) {
    GString *names = g_string_new(NULL);
    for (int i = 0; i < f->count; i++) {
        if (f->layer[i].chosen) {
            g_string_append_printf(names, "%s%s", names->len > 0 ? ", " : "", f->layer[i].name);
        }
    }
    fprintf(stderr, "netsuke: %s: [ranges] fine = auto: %s\n", path,
            names->len > 0 ? names->str : "no layer pays for 16 bits");
    g_string_free(names, TRUE);
}

/* That a layer by itself is looked at on: each takes a run. */
enum { FEW_IMAGES = 60 };

/* What is chosen depends on the board. */
static bool need_board(cli_context *context, const char *wish, const char *why) {
    return context->brief->board != NULL ||
           nsk_fail(&context->error, "%s: %s = auto: %s; [board] file names one",
                    context->brief->path, wish, why);
}

static bool load_finer(cli_context *context) {
    nsk_recipe recipe = context->brief->recipe;
    bool loaded =
        need_board(context, "[ranges] fine", "time and RAM of a board decide what pays") &&
        cli_load_network(context) && cli_load_calibration(context) && set_ram(context, &recipe);
    nsk_images *few = loaded ? open_set(context, CALIBRATION, FEW_IMAGES) : NULL;
    context->finer =
        few != NULL ? nsk_finer_choose(context->network, context->calibration, few, &recipe,
                                       context->board, &context->brief->product,
                                       &context->brief->limits, cli_progress, NULL, &context->error)
                    : NULL;
    nsk_images_free(few);
    if (context->finer != NULL) {
        note_finer(context->finer, context->brief->path);
    }
    return context->finer != NULL;
}

static void note_narrower(const nsk_narrower *n, const char *path) {
    GString *names = g_string_new(NULL);
    for (int i = 0; i < n->narrowed_count; i++) {
        g_string_append_printf(names, "%s%s %d", i > 0 ? ", " : "", n->narrowed[i].layer,
                               n->narrowed[i].bits);
    }
    fprintf(stderr, "netsuke: %s: [bits] every = auto: %s\n", path,
            names->len > 0 ? names->str : "8 bits fit into the flash");
    g_string_free(names, TRUE);
}

/* What was chosen, beside what the brief says of single layers. */
static void take_bits(nsk_recipe *recipe, const nsk_narrower *n) {
    recipe->narrowed = g_renew(nsk_bits_exception, recipe->narrowed,
                               recipe->narrowed_count + n->narrowed_count + 1);
    for (int i = 0; i < n->narrowed_count; i++) {
        recipe->narrowed[recipe->narrowed_count++] =
            (nsk_bits_exception){g_strdup(n->narrowed[i].layer), n->narrowed[i].bits};
    }
}

static bool load_narrower(cli_context *context) {
    nsk_recipe recipe = context->brief->recipe;
    bool loaded = need_board(context, "[bits] every",
                             "what the code takes beside the model is "
                             "the board's") &&
                  cli_load_network(context) && cli_load_calibration(context) &&
                  set_ram(context, &recipe);
    context->narrower =
        loaded ? nsk_narrower_choose(context->network, context->calibration, &recipe,
                                     context->board, &context->brief->product,
                                     &context->brief->limits, cli_progress, NULL, &context->error)
               : NULL;
    if (context->narrower != NULL) {
        note_narrower(context->narrower, context->brief->path);
        take_bits(&context->brief->recipe, context->narrower);
    }
    return context->narrower != NULL;
}

bool cli_load_choices(cli_context *context) {
    return cli_load_brief(context) &&
           (!context->brief->choose_fine || context->finer != NULL || load_finer(context)) &&
           (!context->brief->choose_bits || context->narrower != NULL || load_narrower(context));
}

bool cli_make_recipe(cli_context *context, nsk_recipe *recipe) {
    if (!load_refine_settings(context) || !cli_load_choices(context)) {
        return false;
    }
    *recipe = context->brief->recipe;
    recipe->progress = cli_progress;
    return set_ram(context, recipe);
}

/* As it was made of the same things before, or anew. */
static bool quantise(cli_context *context) {
    nsk_recipe recipe;
    if (!cli_make_recipe(context, &recipe)) {
        return false;
    }
    char *place = cli_kept_place(context, &recipe);
    context->model = context->anew ? NULL : cli_kept_model(place);
    if (context->model == NULL) {
        context->model =
            nsk_quantise(context->network, context->calibration, &recipe, &context->error);
        if (context->model != NULL) {
            cli_keep_model(context->model, place);
        }
    }
    g_free(place);
    return context->model != NULL;
}

/* Emulators are made for the model itself; on other boards it has to be. */
static bool load_on_board(cli_context *context) {
    nsk_model model;
    nsk_open(&model, context->model->bytes, context->model->size);
    char *name = nsk_handed_name(nsk_model_fact(&model, NSK_FACT_NAME));
    const nsk_brief *brief = context->brief;
    const nsk_handed_network network = {.name = name,
                                        .model = context->model,
                                        .tried = context->shows,
                                        .product = brief != NULL ? &brief->product : NULL,
                                        .decision = brief != NULL ? &brief->decision : NULL};
    context->on_board = nsk_on_board_open(context->on, &network, &context->error);
    g_free(name);
    nsk_error other;
    context->renew = context->renew && context->on_board != NULL &&
                     !nsk_on_board_runs(context->on_board, context->model, &other);
    return context->on_board != NULL &&
           (!context->renew || nsk_on_board_give(context->on_board, context->model, cli_progress,
                                                 NULL, &context->error)) &&
           nsk_on_board_take(context->on_board, context->model, &context->error) &&
           (context->remember == NULL || nsk_on_board_remember(context->on_board, context->model,
                                                               context->remember, &context->error));
}

bool cli_load_model(cli_context *context) {
    bool good = context->model != NULL;
    if (!good && context->model_path != NULL) {
        context->model = nsk_model_file_read(context->model_path, &context->error);
        good = context->model != NULL;
    } else if (!good && cli_load_network(context) && cli_load_calibration(context)) {
        good = quantise(context);
    }
    if (good && context->remember != NULL && context->on == NULL) {
        return nsk_fail(&context->error,
                        "--remember %s: of a board's answers: say where it is by --on LINK",
                        context->remember);
    }
    return good && (context->on == NULL || context->on_board != NULL || load_on_board(context));
}

int cli_conclude_board(const cli_context *context, int status) {
    long frames = 0;
    long differ = 0;
    char *first = NULL;
    if (context->on_board != NULL) {
        nsk_on_board_taken(context->on_board, &frames, &differ, &first);
    }
    if (differ > 0) {
        fprintf(
            stderr,
            "netsuke: %ld of %ld frames have other scores on the board than here; of the first, "
            "%s\n",
            differ, frames, first);
        status = MAX(status, CLI_LIMIT_BROKEN);
    }
    g_free(first);
    return status;
}

bool cli_load_equalised(cli_context *context) {
    if (!cli_load_network(context) ||
        (context->brief->recipe.equalise && !cli_load_calibration(context)) ||
        (context->model_path == NULL && !cli_load_choices(context))) {
        return false;
    }
    if (context->equalised == NULL && context->brief->recipe.equalise) {
        context->equalised =
            nsk_network_equalised(context->network, context->calibration, &context->error);
        return context->equalised != NULL;
    }
    return true;
}

bool cli_load_board(cli_context *context) {
    if (context->board == NULL && cli_load_brief(context)) {
        context->board = nsk_board_read(context->brief->board, &context->error);
    }
    return context->board != NULL;
}

bool cli_check_model(cli_context *context, const nsk_model *model) {
    return nsk_model_is_for(model, &context->brief->labels, &context->brief->input,
                            &context->error);
}

bool cli_check_own_model(cli_context *context) {
    nsk_model model;
    nsk_status status = nsk_open(&model, context->model->bytes, context->model->size);
    if (status != NSK_STATUS_OK) {
        return nsk_fail(&context->error, "the model is %s", nsk_status_text(status));
    }
    return (context->brief->input.width > 0 || cli_load_network(context)) &&
           cli_check_model(context, &model);
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
static void find_facts(const cli_context *context, const char **facts) {
    nsk_model model;
    bool open = context->model != NULL &&
                nsk_open(&model, context->model->bytes, context->model->size) == NSK_STATUS_OK;
    for (int i = 0; i < NSK_FACTS; i++) {
        facts[i] = open                       ? nsk_model_fact(&model, (nsk_fact)i)
                   : context->network != NULL ? nsk_network_fact(context->network, (nsk_fact)i)
                                              : "";
    }
}

JsonBuilder *cli_json_start(const cli_context *context) {
    static const char *const names[NSK_FACTS] = {"name", "version", "author", "licence",
                                                 "description"};
    const char *facts[NSK_FACTS];
    JsonBuilder *b = json_builder_new();
    find_facts(context, facts);
    json_builder_begin_object(b);
    json_builder_set_member_name(b, "model");
    json_builder_begin_object(b);
    for (int i = 0; i < NSK_FACTS; i++) {
        cli_json_text(b, names[i], facts[i]);
    }
    json_builder_end_object(b);
    return b;
}

void cli_print_facts(const cli_context *context) {
    static const char *const names[NSK_FACTS] = {"model        ", "version      ", "author       ",
                                                 "licence      ", "description  "};
    const char *facts[NSK_FACTS];
    find_facts(context, facts);
    for (int i = 0; i < NSK_FACTS; i++) {
        if (facts[i][0] != '\0') {
            cli_paragraph(names[i], facts[i]);
        }
    }
    if (context->on_board != NULL) {
        printf("board        %s, over %s: its scores, each held against this machine's\n",
               nsk_on_board_self(context->on_board)->core, context->on);
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
