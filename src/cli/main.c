/* The netsuke command. */
#include <locale.h>
#include <stdio.h>
#include <string.h>

#include "command.h"

/* OpenBLAS's own call: images are the parallel part, so each product runs on one thread. */
extern void openblas_set_num_threads(int threads);

static const cli_command *const commands[] = {
    &cli_survey,   &cli_outline, &cli_vet,      &cli_quantise, &cli_compare, &cli_drift,
    &cli_stress,   &cli_atlas,   &cli_budget,   &cli_weigh,    &cli_clock,   &cli_headroom,
    &cli_classify, &cli_emit,    &cli_rehearse, &cli_report,   &cli_assay};

static void print_help(FILE *to) {
    fputs("netsuke - from a trained image classifier to 8-bit integer C on a microcontroller\n\n"
          "  netsuke COMMAND BRIEF [options]\n\n"
          "The commands, in the order of work. The brief is one file that describes the job: the\n"
          "model, its labels and preparation, the image sets, the board and the limits.\n\n",
          to);
    for (size_t i = 0; i < G_N_ELEMENTS(commands); i++) {
        fprintf(to, "  %-10s%s\n", commands[i]->name, commands[i]->summary);
    }
    fputs("\n'netsuke COMMAND --help' shows a command's options and an example.\n"
          "Exit status: 0 done; 1 done, and a limit of the brief is broken; 2 an error.\n",
          to);
}

/* The entries among all options that the command takes. */
static GArray *options_of(const cli_command *command, cli_job *job) {
    const GOptionEntry all[] = {
        {"json", 0, 0, G_OPTION_ARG_NONE, &job->json, "Print one JSON object", NULL},
        {"model", 'm', 0, G_OPTION_ARG_FILENAME, &job->model_path,
         "Use this model file instead of quantising", "M.nsk"},
        {"board", 'b', 0, G_OPTION_ARG_FILENAME, &job->board_path,
         "Use this board instead of the brief's", "BOARD.ini"},
        {"calibration", 0, 0, G_OPTION_ARG_FILENAME, &job->calibration_path,
         "Calibrate on this set instead of the brief's", "SET"},
        {"held-out", 0, 0, G_OPTION_ARG_FILENAME, &job->held_out_path,
         "Judge on this set instead of the brief's", "SET"},
        {"tolerant", 't', 0, G_OPTION_ARG_NONE, &job->tolerant,
         "Go on without unreadable pictures, empty classes and unknown folders", NULL},
        {"output", 'o', 0, G_OPTION_ARG_FILENAME, &job->output, "Where to write", "PATH"},
        {"points", 0, 0, G_OPTION_ARG_FILENAME, &job->points,
         "Write every image's place, or every variant, as CSV", "F.csv"},
        {"array", 0, 0, G_OPTION_ARG_FILENAME, &job->array, "Write the model as C source, too",
         "M.c"},
        {"array-name", 0, 0, G_OPTION_ARG_STRING, &job->array_name,
         "Name of the array in that source (default: model)", "NAME"},
        {"predictions", 0, 0, G_OPTION_ARG_FILENAME, &job->predictions,
         "Write every image's answers as CSV", "F.csv"},
        {"sheet", 0, 0, G_OPTION_ARG_FILENAME, &job->sheet, "Draw pictures as one sheet", "F.png"},
        {"onnx", 0, 0, G_OPTION_ARG_FILENAME, &job->onnx,
         "Write the integer model as standard ONNX, too", "F.onnx"},
        {"plot", 0, 0, G_OPTION_ARG_FILENAME, &job->plot, "Draw it (.svg or .png)", "F.svg"},
        {"keep", 0, 0, G_OPTION_ARG_FILENAME, &job->keep,
         "Keep measurements in this folder, and take those that are there (default: the user's "
         "cache)",
         "DIR"},
        {"only", 0, 0, G_OPTION_ARG_STRING, &job->only, "Only the variant of this name", "NAME"},
        {"list", 0, 0, G_OPTION_ARG_NONE, &job->list,
         "Print a command a variant that measures it, and measure nothing", NULL},
        {"jobs", 'j', 0, G_OPTION_ARG_INT, &job->jobs,
         "Measure so many variants at a time (default: one a processor)", "N"},
        {"compile", 0, 0, G_OPTION_ARG_NONE, &job->compile,
         "Measure the code with the core's cross compiler instead of taking it from the table",
         NULL},
        {"log", 0, 0, G_OPTION_ARG_FILENAME_ARRAY, &job->logs,
         "What the self-test printed on the board; one a brief", "RUN.txt"},
        {"tick", 0, 0, G_OPTION_ARG_STRING, &job->tick,
         "Rate of the timer that the log counts by (default: the board's clock)", "HZ"},
        {"scene", 0, 0, G_OPTION_ARG_FILENAME, &job->scene,
         "Play this scene: a CSV of picture,truth in the order of time", "F.csv"},
        {"scenes", 0, 0, G_OPTION_ARG_NONE, &job->scenes, "Play every scene that the brief names",
         NULL},
        {"sweep", 0, 0, G_OPTION_ARG_NONE, &job->sweep,
         "Try other settings of the rule on the same scores", NULL},
        {"signals", 0, 0, G_OPTION_ARG_FILENAME, &job->signals,
         "Write camera, answers and lines as a value change dump", "F.vcd"},
        {"capture", 0, 0, G_OPTION_ARG_FILENAME, &job->capture,
         "Write every picture that was answered into a folder of its answer", "DIR"},
        {"fault", 0, 0, G_OPTION_ARG_STRING_ARRAY, &job->faults,
         "Break something: flash, camera, cut, frozen, column, brown-out or clock, @, the frame; "
         "+, how many",
         "KIND@N+M"},
        {"sample", 0, 0, G_OPTION_ARG_INT, &job->sample,
         "Look at so many images, spread over the classes (vet, atlas: 600, stress: 240)", "N"},
        {"all", 'a', 0, G_OPTION_ARG_NONE, &job->all, "Print long lists whole, look at all images",
         NULL},
        {"gains", 0, 0, G_OPTION_ARG_NONE, &job->gains,
         "Say what each stage gained, on calibration images that it was not fitted to", NULL},
        {"neighbours", 0, 0, G_OPTION_ARG_NONE, &job->neighbours,
         "Place images so that near ones stay near, not along two directions", NULL},
        {"refine", 0, 0, G_OPTION_ARG_NONE, &job->refine,
         "Fine-tune with the integer network in the loop, on labelled training images", NULL},
        {"training", 0, 0, G_OPTION_ARG_FILENAME, &job->training_path,
         "Refine on this set instead of the brief's", "SET"},
        {"split", 0, 0, G_OPTION_ARG_NONE, &job->split,
         "Say where the loss comes from: preparation, weights, the rest", NULL},
        {"frames", 0, 0, G_OPTION_ARG_INT, &job->frames,
         "Frames to play (rehearse: all images) or to test with (emit: 4)", "N"},
        {"seed", 0, 0, G_OPTION_ARG_INT, &job->seed,
         "Draws the order of frames, and what is random about changes (default: 1)", "N"},
    };
    GArray *taken = g_array_new(TRUE, TRUE, sizeof(GOptionEntry));
    char **names = g_strsplit(command->options, " ", -1);
    for (size_t i = 0; i < G_N_ELEMENTS(all); i++) {
        if (i == 0 || g_strv_contains((const char *const *)names, all[i].long_name)) {
            g_array_append_val(taken, all[i]);
        }
    }
    g_strfreev(names);
    return taken;
}

/* Fills the job from the arguments behind the command's name. */
static bool parse(const cli_command *command, cli_job *job, char **argv) {
    char *usage = g_strdup_printf("%s - %s", command->arguments, command->summary);
    char *example = g_strdup_printf("Example:\n%s", command->example);
    GOptionContext *context = g_option_context_new(usage);
    GArray *entries = options_of(command, job);
    GError *reason = NULL;
    g_option_context_add_main_entries(context, (GOptionEntry *)(void *)entries->data, NULL);
    g_option_context_set_description(context, example);
    char **arguments = g_strdupv(argv);
    char *name = g_strdup_printf("netsuke %s", command->name);
    g_set_prgname(name);
    bool good = g_option_context_parse_strv(context, &arguments, &reason) != FALSE;
    if (!good) {
        g_snprintf(job->error.text, sizeof job->error.text, "%s; see 'netsuke %s --help'",
                   reason->message, command->name);
        g_error_free(reason);
    }
    job->arguments = g_strdupv(arguments + 1);
    int count = (int)g_strv_length(job->arguments);
    if (good && (count < command->least || count > command->most)) {
        g_snprintf(job->error.text, sizeof job->error.text, "%s takes %s; see 'netsuke %s --help'",
                   command->name, command->arguments, command->name);
        good = false;
    }
    g_strfreev(arguments);
    g_array_free(entries, TRUE);
    g_option_context_free(context);
    g_free(usage);
    g_free(example);
    g_free(name);
    return good;
}

int main(int argc, char **argv) {
    setlocale(LC_CTYPE, "");
    openblas_set_num_threads(1);
    if (argc < 2 || strcmp(argv[1], "--help") == 0 || strcmp(argv[1], "-h") == 0) {
        print_help(argc < 2 ? stderr : stdout);
        return argc < 2 ? CLI_ERROR : CLI_DONE;
    }
    for (size_t i = 0; i < G_N_ELEMENTS(commands); i++) {
        if (strcmp(argv[1], commands[i]->name) == 0) {
            cli_job job = {.seed = 1};
            int status =
                parse(commands[i], &job, argv + 1) ? commands[i]->run(&job) : cli_fail(&job);
            cli_job_clear(&job);
            if (fflush(stdout) != 0) {
                fprintf(stderr, "netsuke: standard output cannot be written\n");
                status = CLI_ERROR;
            }
            return status;
        }
    }
    fprintf(stderr, "netsuke: '%s' is no command; 'netsuke --help' lists them\n", argv[1]);
    return CLI_ERROR;
}
