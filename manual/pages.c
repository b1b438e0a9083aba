#include "pages.h"

#include <string.h>

#include "brief/settings.h"
#include "netsuke/version.h"

/* ---- roff ---- */

/* Text as roff takes it: no line begins with a control character, hyphens are what they are. */
static void append_text(GString *to, const char *text) {
    bool start = to->len == 0 || to->str[to->len - 1] == '\n';
    for (const char *c = text; *c != '\0'; c++) {
        if (start && (*c == '.' || *c == '\'')) {
            g_string_append(to, "\\&");
        }
        start = *c == '\n';
        if (*c == '\\') {
            g_string_append(to, "\\e");
        } else if (*c == '-') {
            g_string_append(to, "\\-");
        } else {
            g_string_append_c(to, *c);
        }
    }
}

static void append_line(GString *to, const char *macro, const char *text) {
    g_string_append(to, macro);
    append_text(to, text);
    g_string_append_c(to, '\n');
}

static GString *begin(const char *name, int section, const char *summary) {
    GString *to = g_string_new(NULL);
    char *upper = g_ascii_strup(name, -1);
    g_string_append_printf(to, ".TH %s %d \"\" \"netsuke %s\" \"Netsuke\"\n.SH NAME\n", upper,
                           section, nsk_version());
    append_text(to, name);
    g_string_append(to, " \\- ");
    append_text(to, summary);
    g_string_append_c(to, '\n');
    g_free(upper);
    return to;
}

static void append_status(GString *to) {
    g_string_append(to, ".SH EXIT STATUS\n.TP\n0\nDone.\n.TP\n1\nDone, and a limit of the brief is "
                        "broken, or what was found makes the figures worthless.\n.TP\n2\nAn error, "
                        "said in one line on standard error.\n");
}

/* ---- commands ---- */

GString *manual_of_program(void) {
    GString *to = begin("netsuke", 1,
                        "from a trained image classifier to 8-bit integer C on a microcontroller");
    g_string_append(to,
                    ".SH SYNOPSIS\n.B netsuke\n.I COMMAND BRIEF\n.RI [ options ]\n.br\n.B netsuke "
                    "\\-\\-help\n.br\n.B netsuke \\-\\-version\n.SH DESCRIPTION\n");
    append_text(to,
                "Takes a trained small image classifier, quantises it to 8-bit integer arithmetic, "
                "measures on held-out images what that costs in accuracy, estimates flash, RAM and "
                "time per frame against a board's limits, and hands over C that runs there.\n");
    g_string_append(to, ".PP\n");
    append_text(to,
                "The brief is one file that describes the job: the model, its labels and "
                "preparation, the image sets, the board and the limits; see netsuke-brief(5).\n");
    g_string_append(to, ".SH COMMANDS\nIn the order of work:\n");
    for (size_t i = 0; cli_commands[i] != NULL; i++) {
        g_string_append(to, ".TP\n");
        char *page = g_strdup_printf("netsuke-%s(1)", cli_commands[i]->name);
        append_line(to, ".B ", page);
        append_line(to, "", cli_commands[i]->summary);
        g_free(page);
    }
    append_status(to);
    g_string_append(
        to, ".SH ENVIRONMENT\n.TP\n.B NETSUKE_DATA\nFolder with boards/ and costs/, in place "
            "of those that are installed.\n.TP\n.B OMP_NUM_THREADS\nProcessors to use.\n"
            ".SH SEE ALSO\n");
    append_text(to, "netsuke-brief(5), netsuke-board(5), netsuke-model(5)\n");
    return to;
}

static void append_options(GString *to, const cli_command *command) {
    g_string_append(
        to, ".SH OPTIONS\n.TP\n.BR \\-h \", \" \\-\\-help\nShow the options and an example.\n");
    for (const cli_option *o = cli_options; o->name != NULL; o++) {
        if (!cli_takes(command, o)) {
            continue;
        }
        char *text = cli_option_text(command, o);
        GString *name = g_string_new(NULL);
        if (o->letter != 0) {
            g_string_append_printf(name, "\\-%c\\fR, \\fB", o->letter);
        }
        append_text(name, "--");
        append_text(name, o->name);
        if (o->shown != NULL) {
            g_string_append(name, "\\fR=\\fI");
            append_text(name, o->shown);
        }
        g_string_append_printf(to, ".TP\n\\fB%s\\fR\n", name->str);
        append_line(to, "", text);
        g_string_free(name, TRUE);
        g_free(text);
    }
}

GString *manual_of_command(const cli_command *command) {
    char *name = g_strdup_printf("netsuke-%s", command->name);
    GString *to = begin(name, 1, command->summary);
    char **lines = g_strsplit(command->example, "\n", 2);
    g_string_append(to, ".SH SYNOPSIS\n");
    char *call = g_strdup_printf("netsuke %s", command->name);
    append_line(to, ".B ", call);
    if (command->arguments[0] != '\0') {
        append_line(to, ".I ", command->arguments);
    }
    g_string_append(to, ".RI [ options ]\n");
    append_options(to, command);
    g_string_append(to, ".SH EXAMPLE\n.nf\n");
    append_text(to, g_strstrip(lines[0]));
    g_string_append(to, "\n.fi\n.PP\n");
    if (lines[1] != NULL) {
        append_line(to, "", lines[1]);
    }
    append_status(to);
    g_string_append(to, ".SH SEE ALSO\n");
    append_text(to, "netsuke(1), netsuke-brief(5)\n");
    g_free(call);
    g_free(name);
    g_strfreev(lines);
    return to;
}

/* ---- files ---- */

static void append_settings(GString *to, const nsk_setting_name *settings) {
    const char *group = "";
    for (; settings->group != NULL; settings++) {
        if (strcmp(group, settings->group) != 0) {
            group = settings->group;
            g_string_append_printf(to, ".SH [%s]\n", group);
        }
        g_string_append(to, ".TP\n");
        append_line(to, ".B ", strcmp(settings->key, "*") == 0 ? "NAME" : settings->key);
        append_line(to, "", settings->text);
    }
}

static const char FORM[] = "Lines of 'key = value' below a [group]; a comment stands behind # on a "
                           "line of its own, or behind a "
                           "value and ' ;'. An unknown key is an error that names its line. "
                           "Numbers have their units. Paths are "
                           "seen from the file.\n";

GString *manual_of_brief(void) {
    GString *to = begin("netsuke-brief", 5, "a job for netsuke: model, images, board, limits");
    g_string_append(to, ".SH DESCRIPTION\n");
    append_text(to, FORM);
    g_string_append(to, ".SH EXAMPLE\n.nf\n");
    append_text(
        to, "[model]\nfile = kiln.onnx\nlabels = labels.txt\n[input]\nsize = 48x48\ncolour = rgb\n"
            "mean = 0.5\ndeviation = 0.25\n[images]\ncalibration = images/calibration\n"
            "held-out = images/held-out\n[board]\nfile = trimmer\n[limits]\nflash = 256 KiB\n"
            "ram = 64 KiB\nlatency = 320 ms\nloss = 1 points\n");
    g_string_append(to, ".fi\n");
    append_settings(to, nsk_brief_settings);
    g_string_append(to, ".SH SEE ALSO\n");
    append_text(to, "netsuke(1), netsuke-board(5)\n");
    return to;
}

GString *manual_of_board(void) {
    GString *to = begin("netsuke-board", 5, "a board for netsuke: core, clock, memory, power");
    g_string_append(to, ".SH DESCRIPTION\n");
    append_text(to, FORM);
    append_settings(to, nsk_board_settings);
    g_string_append(to, ".SH SEE ALSO\n");
    append_text(to, "netsuke-shelf(1), netsuke-budget(1), netsuke-brief(5)\n");
    return to;
}

/* A line of a table: "offset, size: what". */
static void append_row(GString *to, const char *line) {
    char **cells = g_strsplit(line, "|", -1);
    int count = (int)g_strv_length(cells);
    g_string_append(to, ".TP\n.B ");
    for (int i = 1; i < count - 1; i++) {
        g_string_append(to, i == count - 2 ? "\n" : i > 1 ? ", " : "");
        append_text(to, g_strstrip(cells[i]));
    }
    g_string_append_c(to, '\n');
    g_strfreev(cells);
}

GString *manual_of_model(const char *markdown) {
    GString *to = begin("netsuke-model", 5, "the model file that a device runs in place");
    char **lines = g_strsplit(markdown, "\n", -1);
    bool verbatim = false;
    for (char **line = lines; *line != NULL; line++) {
        if (g_str_has_prefix(*line, "```")) {
            verbatim = !verbatim;
            g_string_append(to, verbatim ? ".nf\n" : ".fi\n");
        } else if (verbatim) {
            append_line(to, "", *line);
        } else if (g_str_has_prefix(*line, "# ")) {
            g_string_append(to, ".SH DESCRIPTION\n");
        } else if (g_str_has_prefix(*line, "#")) {
            append_line(to, ".SH ", *line + strspn(*line, "# "));
        } else if (g_str_has_prefix(*line, "|--")) {
            continue;
        } else if (**line == '|') {
            append_row(to, *line);
        } else if (**line == '\0') {
            g_string_append(to, ".PP\n");
        } else {
            append_line(to, "", g_strdelimit(*line, "`", '\''));
        }
    }
    g_strfreev(lines);
    return to;
}
