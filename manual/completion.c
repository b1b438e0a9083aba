#include "completion.h"

#include <string.h>

static bool takes_file(const cli_option *o) {
    return o->value == CLI_FILE || o->value == CLI_FILES || o->value == CLI_FOLDER ||
           o->value == CLI_WRITTEN;
}

/* A text within single quotes of a shell. */
static void append_quoted(GString *to, const char *text) {
    char *quoted = g_shell_quote(text);
    g_string_append(to, quoted);
    g_free(quoted);
}

GString *completion_of_bash(void) {
    GString *to =
        g_string_new("# Completion of netsuke for bash.\n_netsuke() {\n"
                     "    local word=${COMP_WORDS[COMP_CWORD]} command=${COMP_WORDS[1]} options\n"
                     "    if [ \"$COMP_CWORD\" -eq 1 ]; then\n        COMPREPLY=($(compgen -W \"");
    for (size_t i = 0; cli_commands[i] != NULL; i++) {
        g_string_append_printf(to, "%s ", cli_commands[i]->name);
    }
    g_string_append(to, "--help --version\" -- \"$word\"))\n        return\n    fi\n"
                        "    case $command in\n");
    for (size_t i = 0; cli_commands[i] != NULL; i++) {
        g_string_append_printf(to, "    %s) options=\"--help", cli_commands[i]->name);
        for (const cli_option *o = cli_options; o->name != NULL; o++) {
            if (cli_takes(cli_commands[i], o)) {
                g_string_append_printf(to, " --%s", o->name);
            }
        }
        g_string_append(to, "\" ;;\n");
    }
    g_string_append(to, "    *) options=\"\" ;;\n    esac\n    case $word in\n"
                        "    -*) COMPREPLY=($(compgen -W \"$options\" -- \"$word\")) ;;\n"
                        "    *) COMPREPLY=($(compgen -f -- \"$word\")) ;;\n    esac\n}\n"
                        "complete -o filenames -F _netsuke netsuke\n");
    return to;
}

/* '--plot=[Draw it, as .svg or .png]:F.svg:_files', quoted. */
static void append_zsh_option(GString *to, const cli_command *command, const cli_option *o) {
    char *text = cli_option_text(command, o);
    g_strdelimit(text, "[]", ' ');
    g_strdelimit(text, ":", ';');
    GString *spec = g_string_new(o->value == CLI_FILES || o->value == CLI_WORDS ? "*" : "");
    g_string_append_printf(spec, "--%s%s[%s]", o->name, o->shown != NULL ? "=" : "", text);
    if (o->shown != NULL) {
        g_string_append_printf(spec, ":%s:%s", o->shown, takes_file(o) ? "_files" : "");
    }
    g_string_append(to, " ");
    append_quoted(to, spec->str);
    g_string_free(spec, TRUE);
    g_free(text);
}

GString *completion_of_zsh(void) {
    GString *to = g_string_new("#compdef netsuke\n# Completion of netsuke for zsh.\n_netsuke() {\n"
                               "    local -a commands\n    commands=(\n");
    for (size_t i = 0; cli_commands[i] != NULL; i++) {
        char *both = g_strdup_printf("%s:%s", cli_commands[i]->name, cli_commands[i]->summary);
        g_string_append(to, "        ");
        append_quoted(to, both);
        g_string_append_c(to, '\n');
        g_free(both);
    }
    g_string_append(to, "    )\n    if (( CURRENT == 2 )); then\n"
                        "        _describe command commands\n        return\n    fi\n"
                        "    local command=$words[2]\n    shift words\n    (( CURRENT-- ))\n"
                        "    case $command in\n");
    for (size_t i = 0; cli_commands[i] != NULL; i++) {
        g_string_append_printf(to, "    %s) _arguments '*:file:_files' '--help[Show the options]'",
                               cli_commands[i]->name);
        for (const cli_option *o = cli_options; o->name != NULL; o++) {
            if (cli_takes(cli_commands[i], o)) {
                append_zsh_option(to, cli_commands[i], o);
            }
        }
        g_string_append(to, " ;;\n");
    }
    g_string_append(to, "    esac\n}\n_netsuke \"$@\"\n");
    return to;
}

GString *completion_of_fish(void) {
    GString *to = g_string_new("# Completion of netsuke for fish.\n"
                               "complete -c netsuke -n __fish_use_subcommand -l version -d "
                               "'Print the version'\n");
    for (size_t i = 0; cli_commands[i] != NULL; i++) {
        const cli_command *command = cli_commands[i];
        g_string_append_printf(to, "complete -c netsuke -n __fish_use_subcommand -f -a %s -d ",
                               command->name);
        append_quoted(to, command->summary);
        g_string_append_c(to, '\n');
        for (const cli_option *o = cli_options; o->name != NULL; o++) {
            if (!cli_takes(command, o)) {
                continue;
            }
            char *text = cli_option_text(command, o);
            g_string_append_printf(
                to, "complete -c netsuke -n '__fish_seen_subcommand_from %s' -l %s%s -d ",
                command->name, o->name,
                takes_file(o)      ? " -r -F"
                : o->shown != NULL ? " -x"
                                   : "");
            append_quoted(to, text);
            g_string_append_c(to, '\n');
            g_free(text);
        }
    }
    return to;
}
