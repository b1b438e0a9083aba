#include "options.h"

#include <errno.h>
#include <stddef.h>
#include <string.h>

#include "netsuke/tools.h"

#define MEMBER(name) offsetof(cli_job, name)

const cli_option cli_options[] = {
    {"json", 0, CLI_NO_VALUE, MEMBER(json), NULL, "Print one JSON object", 0, 0},
    {"model", 'm', CLI_FILE, MEMBER(model_path), "M.nsk",
     "Use this model file instead of quantising", 0, 0},
    {"board", 'b', CLI_FILE, MEMBER(board_path), "BOARD",
     "Use this board instead of the brief's: a file, or the name of one that came along", 0, 0},
    {"calibration", 0, CLI_FILE, MEMBER(calibration_path), "SET",
     "Calibrate on this set instead of the brief's", 0, 0},
    {"held-out", 0, CLI_FILE, MEMBER(held_out_path), "SET",
     "Judge on this set instead of the brief's", 0, 0},
    {"tolerant", 't', CLI_NO_VALUE, MEMBER(tolerant), NULL,
     "Go on without unreadable pictures, empty classes and unknown folders, and list them", 0, 0},
    {"strict", 0, CLI_NO_VALUE, MEMBER(strict), NULL,
     "End with status 1 where something is open, too, not only where it is broken", 0, 0},
    {"output", 'o', CLI_WRITTEN, MEMBER(output), "PATH", "Where to write", 0, 0},
    {"force", 0, CLI_NO_VALUE, MEMBER(force), NULL,
     "Write even where that destroys what is read, or stands in an image set", 0, 0},
    {"points", 0, CLI_WRITTEN, MEMBER(points), "F.csv", "Write each of them as a line of CSV", 0,
     0},
    {"array", 0, CLI_WRITTEN, MEMBER(array), "M.c", "Write the model as C source, too", 0, 0},
    {"array-name", 0, CLI_WORD, MEMBER(array_name), "NAME", "Name of the array in that source", 0,
     0},
    {"predictions", 0, CLI_WRITTEN, MEMBER(predictions), "F.csv",
     "Write every image's answers as CSV", 0, 0},
    {"sheet", 0, CLI_WRITTEN, MEMBER(sheet), "F.png", "Draw pictures as one sheet", 0, 0},
    {"onnx", 0, CLI_WRITTEN, MEMBER(onnx), "F.onnx",
     "Write the integer model as standard ONNX, too", 0, 0},
    {"plot", 0, CLI_WRITTEN, MEMBER(plot), "F.svg", "Draw it, as .svg or .png", 0, 0},
    {"keep", 0, CLI_FILE, MEMBER(keep), "DIR",
     "Keep measurements in this folder, and take those that are there", 0, 0},
    {"only", 0, CLI_WORD, MEMBER(only), "NAME", "Only the variant of this name", 0, 0},
    {"list", 0, CLI_NO_VALUE, MEMBER(list), NULL,
     "Print a command a variant that measures it, and measure nothing", 0, 0},
    {"jobs", 'j', CLI_COUNT, MEMBER(jobs), "N", "Measure so many variants at a time", 1, 1024},
    {"compile", 0, CLI_NO_VALUE, MEMBER(compile), NULL,
     "Measure the code with the core's cross compiler instead of taking it from the table", 0, 0},
    {"prove", 0, CLI_NO_VALUE, MEMBER(prove), NULL,
     "Show that no frame can break the runtime, with Frama-C; takes minutes", 0, 0},
    {"log", 0, CLI_FILES, MEMBER(logs), "RUN.txt",
     "What the self-test printed on the board; one a brief", 0, 0},
    {"tick", 0, CLI_WORD, MEMBER(tick), "HZ", "Rate of the timer that the log counts by", 0, 0},
    {"scene", 0, CLI_FILE, MEMBER(scene), "F.csv",
     "Play this scene: a CSV of picture,truth in the order of time", 0, 0},
    {"scenes", 0, CLI_NO_VALUE, MEMBER(scenes), NULL, "Play every scene that the brief names", 0,
     0},
    {"sweep", 0, CLI_NO_VALUE, MEMBER(sweep), NULL,
     "Try other settings of the rule on the same scores", 0, 0},
    {"signals", 0, CLI_WRITTEN, MEMBER(signals), "F.vcd",
     "Write camera, answers and lines as a value change dump", 0, 0},
    {"capture", 0, CLI_FILE, MEMBER(capture), "DIR",
     "Write every picture that was answered into a folder of its answer", 0, 0},
    {"fault", 0, CLI_WORDS, MEMBER(faults), "KIND@N+M",
     "Break something: flash, camera, cut, frozen, column, rows, torn, brown-out or clock, @, the "
     "frame; +, "
     "how "
     "many",
     0, 0},
    {"sample", 0, CLI_COUNT, MEMBER(sample), "N", "Look at so many images, spread over the classes",
     1, 10000000},
    {"layer", 0, CLI_WORD, MEMBER(layer), "NAME", "Only the layer of this name", 0, 0},
    {"all", 'a', CLI_NO_VALUE, MEMBER(all), NULL, "Print long lists whole, look at all images", 0,
     0},
    {"gains", 0, CLI_NO_VALUE, MEMBER(gains), NULL,
     "Say what each stage gained, on calibration images that it was not fitted to", 0, 0},
    {"neighbours", 0, CLI_NO_VALUE, MEMBER(neighbours), NULL,
     "Place images so that near ones stay near, not along two directions", 0, 0},
    {"refine", 0, CLI_NO_VALUE, MEMBER(refine), NULL,
     "Fine-tune with the integer network in the loop, on labelled training images", 0, 0},
    {"training", 0, CLI_FILE, MEMBER(training_path), "SET",
     "Refine on this set instead of the brief's", 0, 0},
    {"split", 0, CLI_NO_VALUE, MEMBER(split), NULL,
     "Say where the loss comes from: preparation, weights, the rest", 0, 0},
    {"frames", 0, CLI_COUNT, MEMBER(frames), "N", "Play or try so many frames", 1, 1000000},
    {"seed", 0, CLI_COUNT, MEMBER(seed), "N", "Draws what is random: orders and changes", 0,
     G_MAXINT},
    {NULL, 0, CLI_NO_VALUE, 0, NULL, NULL, 0, 0},
};

bool cli_takes(const cli_command *command, const cli_option *option) {
    if (option == &cli_options[0]) {
        return true; /* --json */
    }
    if (option->member == MEMBER(force)) { /* of all that write */
        for (const cli_option *o = cli_options; o->name != NULL; o++) {
            if (o->value == CLI_WRITTEN && cli_takes(command, o)) {
                return true;
            }
        }
        return false;
    }
    char **names = g_strsplit(command->options, " ", -1);
    bool taken = g_strv_contains((const char *const *)names, option->name) != FALSE;
    g_strfreev(names);
    return taken;
}

/* The word behind "NAME: " in the command's list of what is usual; NULL where it says nothing. */
static char *usual_of(const cli_command *command, const char *name) {
    char **parts = g_strsplit(command->usual != NULL ? command->usual : "", "; ", -1);
    char *found = NULL;
    for (char **part = parts; *part != NULL && found == NULL; part++) {
        size_t length = strlen(name);
        if (strncmp(*part, name, length) == 0 && g_str_has_prefix(*part + length, ": ")) {
            found = g_strdup(*part + length + 2);
        }
    }
    g_strfreev(parts);
    return found;
}

char *cli_option_text(const cli_command *command, const cli_option *option) {
    char *usual = usual_of(command, option->name);
    char *text = usual != NULL ? g_strdup_printf("%s (default: %s)", option->text, usual)
                               : g_strdup(option->text);
    g_free(usual);
    return text;
}

/* ---- parsing ---- */

/* What is parsed into: counts are words until they are looked at. */
typedef struct parsing {
    GArray *entries;  /* of GOptionEntry */
    GPtrArray *texts; /* of descriptions */
    char **counts;    /* one an option of the table; NULL: not given */
    const cli_command *command;
    cli_job *job;
} parsing;

static void add_entries(parsing *p) {
    static const GOptionArg kinds[] = {G_OPTION_ARG_NONE,           G_OPTION_ARG_STRING,
                                       G_OPTION_ARG_STRING_ARRAY,   G_OPTION_ARG_FILENAME,
                                       G_OPTION_ARG_FILENAME_ARRAY, G_OPTION_ARG_STRING,
                                       G_OPTION_ARG_FILENAME};
    for (size_t i = 0; cli_options[i].name != NULL; i++) {
        const cli_option *o = &cli_options[i];
        if (!cli_takes(p->command, o)) {
            continue;
        }
        char *text = cli_option_text(p->command, o);
        g_ptr_array_add(p->texts, text);
        const GOptionEntry entry = {.long_name = o->name,
                                    .short_name = o->letter,
                                    .arg = kinds[o->value],
                                    .arg_data = o->value == CLI_COUNT ? (void *)&p->counts[i]
                                                                      : (char *)p->job + o->member,
                                    .description = text,
                                    .arg_description = o->shown};
        g_array_append_val(p->entries, entry);
    }
}

static bool read_counts(const parsing *p) {
    for (size_t i = 0; cli_options[i].name != NULL; i++) {
        const cli_option *o = &cli_options[i];
        if (o->value != CLI_COUNT || p->counts[i] == NULL) {
            continue;
        }
        char *end;
        errno = 0;
        gint64 value = g_ascii_strtoll(p->counts[i], &end, 10);
        if (end == p->counts[i] || *end != '\0' || errno != 0 || value < o->least ||
            value > o->most) {
            return nsk_fail(&p->job->error, "--%s %s: a whole number from %d to %d is needed",
                            o->name, p->counts[i], o->least, o->most);
        }
        *(gint *)(void *)((char *)p->job + o->member) = (gint)value;
    }
    return true;
}

/* GLib's own words, and what was probably meant where the option is not known. */
static void explain(const parsing *p, char *const *arguments, const char *reason) {
    GPtrArray *names = g_ptr_array_new();
    char *meant = NULL;
    for (size_t i = 0; cli_options[i].name != NULL; i++) {
        if (cli_takes(p->command, &cli_options[i])) {
            g_ptr_array_add(names, (char *)cli_options[i].name);
        }
    }
    g_ptr_array_add(names, NULL);
    for (char *const *word = arguments; *word != NULL && meant == NULL; word++) {
        char *name = g_str_has_prefix(*word, "--") ? g_strdup(*word + 2) : g_strdup("");
        name[strcspn(name, "=")] = '\0';
        bool named = name[0] != '\0' && g_str_has_suffix(reason, name);
        const char *nearest =
            named ? nsk_nearest(name, (const char *const *)(void *)names->pdata) : NULL;
        meant = nearest != NULL ? g_strdup_printf("; did you mean --%s?", nearest) : NULL;
        g_free(name);
    }
    nsk_fail(&p->job->error, "%s%s see 'netsuke %s --help'", reason, meant != NULL ? meant : ";",
             p->command->name);
    g_free(meant);
    g_ptr_array_free(names, TRUE);
}

static bool check_arguments(const parsing *p) {
    int count = (int)g_strv_length(p->job->arguments);
    if (count >= p->command->least && count <= p->command->most) {
        return true;
    }
    return nsk_fail(&p->job->error, "%s takes %s; see 'netsuke %s --help'", p->command->name,
                    p->command->most > 0 ? p->command->arguments : "no arguments",
                    p->command->name);
}

/* What is drawn ends as it is drawn; said before anything is computed. */
static bool check_endings(const parsing *p) {
    const char *plot = p->job->plot;
    const char *sheet = p->job->sheet;
    bool good = plot == NULL || g_str_has_suffix(plot, ".svg") || g_str_has_suffix(plot, ".png");
    if (!good) {
        nsk_fail(&p->job->error, "--plot %s: end the name in .svg or .png", plot);
    } else if (sheet != NULL && !g_str_has_suffix(sheet, ".png")) {
        nsk_fail(&p->job->error, "--sheet %s: end the name in .png", sheet);
        good = false;
    }
    return good;
}

static bool parse_entries(parsing *p, GOptionContext *context, char **argv) {
    GError *reason = NULL;
    char **arguments = g_strdupv(argv);
    g_option_context_add_main_entries(context, (GOptionEntry *)(void *)p->entries->data, NULL);
    bool good = g_option_context_parse_strv(context, &arguments, &reason) != FALSE;
    if (!good) {
        explain(p, argv, reason->message);
        g_error_free(reason);
    }
    p->job->arguments = g_strdupv(arguments + 1);
    g_strfreev(arguments);
    return good && read_counts(p) && check_arguments(p) && check_endings(p);
}

bool cli_parse(const cli_command *command, cli_job *job, char **argv) {
    char *usage = g_strdup_printf("%s - %s", command->arguments, command->summary);
    char *example = g_strdup_printf("Example:\n%s", command->example);
    char *name = g_strdup_printf("netsuke %s", command->name);
    GOptionContext *context = g_option_context_new(usage);
    parsing p = {.entries = g_array_new(TRUE, TRUE, sizeof(GOptionEntry)),
                 .texts = g_ptr_array_new_with_free_func(g_free),
                 .counts = g_new0(char *, G_N_ELEMENTS(cli_options)),
                 .command = command,
                 .job = job};
    g_option_context_set_description(context, example);
    g_set_prgname(name);
    add_entries(&p);
    bool good = parse_entries(&p, context, argv);
    g_option_context_free(context);
    g_array_free(p.entries, TRUE);
    g_ptr_array_free(p.texts, TRUE);
    for (size_t i = 0; i < G_N_ELEMENTS(cli_options); i++) {
        g_free(p.counts[i]);
    }
    g_free(p.counts);
    g_free(usage);
    g_free(example);
    g_free(name);
    return good;
}
