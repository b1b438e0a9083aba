#include "options.h"

#include <errno.h>
#include <stddef.h>
#include <string.h>

#include "netsuke/tools.h"

#define MEMBER(name) offsetof(cli_context, name)

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
     "Go on without unreadable images, empty classes and unknown folders, and list them", 0, 0},
    {"strict", 0, CLI_NO_VALUE, MEMBER(strict), NULL,
     "End with status 1 where something is open, too, not only where it is broken", 0, 0},
    {"output", 'o', CLI_WRITTEN, CLI_OWN, "PATH", "Where to write", 0, 0},
    {"force", 0, CLI_NO_VALUE, MEMBER(force), NULL,
     "Write even where that destroys what is read, or stands in an image set", 0, 0},
    {"points", 0, CLI_WRITTEN, CLI_OWN, "F.csv", "Write each of them as a line of CSV", 0, 0},
    {"array", 0, CLI_WRITTEN, CLI_OWN, "M.c", "Write the model as C source, too", 0, 0},
    {"array-name", 0, CLI_WORD, CLI_OWN, "NAME", "Name of the array in that source", 0, 0},
    {"predictions", 0, CLI_WRITTEN, CLI_OWN, "F.csv", "Write every image's answers as CSV", 0, 0},
    {"sheet", 0, CLI_WRITTEN, CLI_OWN, "F.png", "Draw images as one sheet", 0, 0},
    {"onnx", 0, CLI_WRITTEN, CLI_OWN, "F.onnx", "Write the integer model as standard ONNX, too", 0,
     0},
    {"plot", 0, CLI_WRITTEN, CLI_OWN, "F.svg", "Draw it, as .svg or .png", 0, 0},
    {"keep", 0, CLI_FOLDER, CLI_OWN, "DIR",
     "Keep measurements in this folder, and take those that are there", 0, 0},
    {"only", 0, CLI_WORD, CLI_OWN, "NAME", "Only the variant of this name", 0, 0},
    {"list", 0, CLI_NO_VALUE, CLI_OWN, NULL,
     "Print a command a variant that measures it, and measure nothing", 0, 0},
    {"jobs", 'j', CLI_COUNT, CLI_OWN, "N", "Measure so many variants at a time", 1, 1024},
    {"compile", 0, CLI_NO_VALUE, CLI_OWN, NULL,
     "Measure the code with the core's cross compiler instead of taking it from the table", 0, 0},
    {"prove", 0, CLI_NO_VALUE, CLI_OWN, NULL,
     "Show that no frame can break the runtime, with Frama-C; takes minutes", 0, 0},
    {"kinds", 0, CLI_WORD, CLI_OWN, "WHICH",
     "Kinds of layer in the runtime: own, those of the networks, or all, for models that come "
     "later",
     0, 0},
    {"camera", 0, CLI_WORD, CLI_OWN, "FROM",
     "Look at these pictures: - for a Y4M stream on standard input, F.y4m, a folder, a scene "
     "F.csv, "
     "or board",
     0, 0},
    {"listen", 0, CLI_WORD, CLI_OWN, "ADDRESS:PORT", "Where the page is served", 0, 0},
    {"into", 0, CLI_FOLDER, CLI_OWN, "DIR", "Keep pictures in this set, under a label each", 0, 0},
    {"rate", 0, CLI_COUNT, CLI_OWN, "N", "Show so many pictures of files a second", 1, 1000},
    {"plain", 0, CLI_NO_VALUE, CLI_OWN, NULL, "Print a line a picture, and serve no page", 0, 0},
    {"renew", 0, CLI_NO_VALUE, MEMBER(renew), NULL,
     "Give the board this model first: written beside the one it has, tried, then kept", 0, 0},
    {"log", 0, CLI_FILES, CLI_OWN, "RUN.txt",
     "What the self-test printed on the board; one a brief", 0, 0},
    {"tick", 0, CLI_WORD, CLI_OWN, "HZ", "Rate of the timer that the log counts by", 0, 0},
    {"scene", 0, CLI_FILE, CLI_OWN, "F.csv",
     "Play this scene: a CSV of picture,truth in the order of time", 0, 0},
    {"scenes", 0, CLI_NO_VALUE, CLI_OWN, NULL, "Play every scene that the brief names", 0, 0},
    {"sweep", 0, CLI_NO_VALUE, CLI_OWN, NULL, "Try other settings of the rule on the same scores",
     0, 0},
    {"signals", 0, CLI_WRITTEN, CLI_OWN, "F.vcd",
     "Write camera, answers and lines as a value change dump", 0, 0},
    {"capture", 0, CLI_FOLDER, CLI_OWN, "DIR",
     "Write every picture that was answered into a folder of its answer", 0, 0},
    {"fault", 0, CLI_WORDS, CLI_OWN, "KIND@N+M",
     "Break something: flash, camera, cut, frozen, column, rows, torn, brown-out or clock, @, the "
     "frame; +, "
     "how "
     "many",
     0, 0},
    {"sample", 0, CLI_COUNT, MEMBER(sample), "N", "Look at so many images, spread over the classes",
     1, 10000000},
    {"layer", 0, CLI_WORD, CLI_OWN, "NAME", "Only the layer of this name", 0, 0},
    {"all", 'a', CLI_NO_VALUE, CLI_OWN, NULL, "Print long lists whole, look at all images", 0, 0},
    {"ordered", 0, CLI_NO_VALUE, CLI_OWN, NULL,
     "Order the model file's weights for the board's core, too, not only --array's", 0, 0},
    {"gains", 0, CLI_NO_VALUE, CLI_OWN, NULL,
     "Say what each stage gained, on calibration images that it was not fitted to", 0, 0},
    {"neighbours", 0, CLI_NO_VALUE, CLI_OWN, NULL,
     "Place images so that near ones stay near, not along two directions", 0, 0},
    {"refine", 0, CLI_NO_VALUE, CLI_OWN, NULL,
     "Fine-tune with the integer network in the loop, on labelled training images", 0, 0},
    {"robust", 0, CLI_NO_VALUE, CLI_OWN, NULL,
     "Learn from changed pictures, too, as netsuke stress changes them", 0, 0},
    {"teacher", 0, CLI_FILE, CLI_OWN, "F.onnx",
     "Learn from this network's answers, not from its own: a better one of the same input", 0, 0},
    {"learned", 0, CLI_WRITTEN, CLI_OWN, "F.onnx",
     "Write the float network with the weights that were learned, too", 0, 0},
    {"training", 0, CLI_FILE, MEMBER(training_path), "SET",
     "Learn from this set instead of the brief's", 0, 0},
    {"split", 0, CLI_NO_VALUE, CLI_OWN, NULL,
     "Say where the loss comes from: preparation, weights, the rest", 0, 0},
    {"remember", 0, CLI_FOLDER, MEMBER(remember), "DIR",
     "With --on: keep there what the board says of each frame, and take what is there as said", 0,
     0},
    {"on", 0, CLI_WORD, MEMBER(on), "LINK",
     "Run the model on the board there: /dev/ttyACM0@921600, tcp:HOST:PORT, emulate:CORE, or sim",
     0, 0},
    {"frames", 0, CLI_COUNT, CLI_OWN, "N", "Play or try so many frames", 1, 1000000},
    {"latency", 0, CLI_WORD, CLI_OWN, "TIME",
     "Limit of a frame's time instead of the brief's: 40ms", 0, 0},
    {"rungs", 0, CLI_COUNT, CLI_OWN, "N", "So many networks, the one as it was among them", 2, 12},
    {"epochs", 0, CLI_COUNT, CLI_OWN, "N",
     "Go through the training images so often on each, besides while channels go", 1, 1000},
    {"seed", 0, CLI_COUNT, CLI_OWN, "N", "Draws what is random: orders and changes", 0, G_MAXINT},
    {NULL, 0, CLI_NO_VALUE, 0, NULL, NULL, 0, 0},
};

static const cli_own *own_of(const cli_command *command, const cli_option *option) {
    const cli_own *own = command->own;
    while (own != NULL && own->name != NULL && strcmp(own->name, option->name) != 0) {
        own++;
    }
    return own != NULL && own->name != NULL ? own : NULL;
}

static bool writes(const cli_command *command) {
    for (const cli_option *o = cli_options; o->name != NULL; o++) {
        if (o->value == CLI_WRITTEN && own_of(command, o) != NULL) {
            return true;
        }
    }
    return false;
}

bool cli_takes(const cli_command *command, const cli_option *option) {
    if (option->member == CLI_OWN) {
        return own_of(command, option) != NULL;
    }
    if (option->member == MEMBER(json)) {
        return true;
    }
    if (option->member == MEMBER(force)) {
        return writes(command);
    }
    char **names = g_strsplit(command->shared != NULL ? command->shared : "", " ", -1);
    bool taken = g_strv_contains((const char *const *)names, option->name) != FALSE;
    g_strfreev(names);
    return taken;
}

void *cli_value_of(const cli_context *context, const cli_option *option) {
    const cli_command *command = context->command;
    if (command == NULL || !cli_takes(command, option)) {
        return NULL;
    }
    return option->member == CLI_OWN ? (char *)context->own + own_of(command, option)->member
                                     : (char *)context + option->member;
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
    cli_context *context;
} parsing;

static void add_entries(parsing *p) {
    static const GOptionArg kinds[] = {G_OPTION_ARG_NONE,           G_OPTION_ARG_STRING,
                                       G_OPTION_ARG_STRING_ARRAY,   G_OPTION_ARG_FILENAME,
                                       G_OPTION_ARG_FILENAME_ARRAY, G_OPTION_ARG_STRING,
                                       G_OPTION_ARG_FILENAME,       G_OPTION_ARG_FILENAME};
    for (size_t i = 0; cli_options[i].name != NULL; i++) {
        const cli_option *o = &cli_options[i];
        if (!cli_takes(p->context->command, o)) {
            continue;
        }
        char *text = cli_option_text(p->context->command, o);
        g_ptr_array_add(p->texts, text);
        const GOptionEntry entry = {.long_name = o->name,
                                    .short_name = o->letter,
                                    .arg = kinds[o->value],
                                    .arg_data = o->value == CLI_COUNT ? (void *)&p->counts[i]
                                                                      : cli_value_of(p->context, o),
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
            return nsk_fail(&p->context->error, "--%s %s: a whole number from %d to %d is needed",
                            o->name, p->counts[i], o->least, o->most);
        }
        *(gint *)cli_value_of(p->context, o) = (gint)value;
    }
    return true;
}

/* GLib's own words, and what was probably meant where the option is not known. */
static void explain(const parsing *p, char *const *arguments, const char *reason) {
    GPtrArray *names = g_ptr_array_new();
    char *meant = NULL;
    for (size_t i = 0; cli_options[i].name != NULL; i++) {
        if (cli_takes(p->context->command, &cli_options[i])) {
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
    nsk_fail(&p->context->error, "%s%s see 'netsuke %s --help'", reason,
             meant != NULL ? meant : ";", p->context->command->name);
    g_free(meant);
    g_ptr_array_free(names, TRUE);
}

static bool check_arguments(const parsing *p) {
    int count = (int)g_strv_length(p->context->arguments);
    if (count >= p->context->command->least && count <= p->context->command->most) {
        return true;
    }
    return nsk_fail(&p->context->error, "%s takes %s; see 'netsuke %s --help'",
                    p->context->command->name,
                    p->context->command->most > 0 ? p->context->command->arguments : "no arguments",
                    p->context->command->name);
}

/* What is drawn ends as it is drawn; said before anything is computed. */
static bool check_endings(const parsing *p) {
    static const struct {
        const char *option, *endings[2], *said;
    } drawn[] = {{"plot", {".svg", ".png"}, ".svg or .png"}, {"sheet", {".png", ".png"}, ".png"}};
    for (const cli_option *o = cli_options; o->name != NULL; o++) {
        char *const *path = o->value == CLI_WRITTEN ? cli_value_of(p->context, o) : NULL;
        for (size_t i = 0; path != NULL && *path != NULL && i < G_N_ELEMENTS(drawn); i++) {
            if (strcmp(o->name, drawn[i].option) == 0 &&
                !g_str_has_suffix(*path, drawn[i].endings[0]) &&
                !g_str_has_suffix(*path, drawn[i].endings[1])) {
                return nsk_fail(&p->context->error, "--%s %s: end the name in %s", o->name, *path,
                                drawn[i].said);
            }
        }
    }
    return true;
}

static bool parse_entries(parsing *p, GOptionContext *reader, char **argv) {
    GError *reason = NULL;
    char **arguments = g_strdupv(argv);
    g_option_context_add_main_entries(reader, (GOptionEntry *)(void *)p->entries->data, NULL);
    bool good = g_option_context_parse_strv(reader, &arguments, &reason) != FALSE;
    if (!good) {
        explain(p, argv, reason->message);
        g_error_free(reason);
    }
    p->context->arguments = g_strdupv(arguments + 1);
    g_strfreev(arguments);
    return good && read_counts(p) && check_arguments(p) && check_endings(p);
}

static void begin(cli_context *context, const cli_command *command) {
    context->command = command;
    context->own = g_malloc0(command->own_size);
    for (const cli_own *own = command->own; own != NULL && own->name != NULL; own++) {
        if (own->usual != 0) {
            *(gint *)(void *)((char *)context->own + own->member) = own->usual;
        }
    }
}

bool cli_parse(const cli_command *command, cli_context *context, char **argv) {
    char *usage = g_strdup_printf("%s - %s", command->arguments, command->summary);
    char *example = g_strdup_printf("Example:\n%s", command->example);
    char *name = g_strdup_printf("netsuke %s", command->name);
    GOptionContext *reader = g_option_context_new(usage);
    parsing p = {.entries = g_array_new(TRUE, TRUE, sizeof(GOptionEntry)),
                 .texts = g_ptr_array_new_with_free_func(g_free),
                 .counts = g_new0(char *, G_N_ELEMENTS(cli_options)),
                 .context = context};
    begin(context, command);
    g_option_context_set_description(reader, example);
    g_set_prgname(name);
    add_entries(&p);
    bool good = parse_entries(&p, reader, argv);
    g_option_context_free(reader);
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

void cli_clear_own(cli_context *context) {
    for (const cli_option *o = cli_options; context->command != NULL && o->name != NULL; o++) {
        void *value = o->member == CLI_OWN ? cli_value_of(context, o) : NULL;
        if (value == NULL || o->value == CLI_NO_VALUE || o->value == CLI_COUNT) {
            continue;
        }
        if (o->value == CLI_WORDS || o->value == CLI_FILES) {
            g_strfreev(*(char ***)value);
        } else {
            g_free(*(char **)value);
        }
    }
    g_free(context->own);
}
