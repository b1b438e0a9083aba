/* The netsuke command. */
#include <locale.h>
#include <signal.h>
#include <stdio.h>
#include <string.h>

#include "limits.h"
#include "netsuke/tools.h"
#include "netsuke/version.h"
#include "outputs.h"

/* Before the libraries begin, of which OpenBLAS would wait for memory for ever. Sanitizers, which
 * have not begun either, ask for more than any limit. */
#if defined(__ELF__) && !defined(NSK_SANITISED)
__attribute__((section(".preinit_array"),
               used)) static void (*const before_all)(int, char **, char **) = cli_check_limits;
#endif

static void print_help(FILE *to) {
    fputs("netsuke - from a trained image classifier to 8-bit integer C on a microcontroller\n\n"
          "  netsuke COMMAND BRIEF [options]\n\n"
          "The commands, in the order of work. The brief is one file that describes the job: the\n"
          "model, its labels and preparation, the image sets, the board and the limits.\n\n",
          to);
    for (size_t i = 0; cli_commands[i] != NULL; i++) {
        fprintf(to, "  %-10s%s\n", cli_commands[i]->name, cli_commands[i]->summary);
    }
    fputs(
        "\n'netsuke COMMAND --help' shows a command's options and an example; 'netsuke --version'\n"
        "prints the version. Exit status: 0 done; 1 done, and a limit of the brief is broken or "
        "what\nwas found makes the figures worthless; 2 an error.\n",
        to);
}

static int fail_unknown(const char *word) {
    GPtrArray *names = g_ptr_array_new();
    for (size_t i = 0; cli_commands[i] != NULL; i++) {
        g_ptr_array_add(names, (char *)cli_commands[i]->name);
    }
    g_ptr_array_add(names, NULL);
    char *meant = nsk_did_you_mean(word, (const char *const *)(void *)names->pdata);
    fprintf(stderr, "netsuke: '%s' is no command%s 'netsuke --help' lists them\n", word,
            meant[0] != '\0' ? meant : ";");
    g_free(meant);
    g_ptr_array_free(names, TRUE);
    return CLI_ERROR;
}

static int run(const cli_command *command, char **arguments) {
    cli_context context = {0};
    bool good = cli_parse(command, &context, arguments) && cli_outputs_are_good(&context);
    int status = good ? cli_conclude_board(&context, command->run(&context)) : cli_fail(&context);
    cli_context_clear(&context);
    if (fflush(stdout) != 0) {
        fprintf(stderr, "netsuke: standard output cannot be written\n");
        status = CLI_ERROR;
    }
    return status;
}

int main(int argc, char **argv) {
    setlocale(LC_CTYPE, "");
    signal(SIGXFSZ, SIG_IGN); /* a file grown too large is an error like others */
    cli_watch_memory();
    if (argc < 2 || strcmp(argv[1], "--help") == 0 || strcmp(argv[1], "-h") == 0) {
        print_help(argc < 2 ? stderr : stdout);
        return argc < 2 ? CLI_ERROR : CLI_DONE;
    }
    if (strcmp(argv[1], "--version") == 0) {
        printf("netsuke %s\n", nsk_version());
        return CLI_DONE;
    }
    for (size_t i = 0; cli_commands[i] != NULL; i++) {
        if (strcmp(argv[1], cli_commands[i]->name) == 0) {
            return run(cli_commands[i], argv + 1);
        }
    }
    return fail_unknown(argv[1]);
}
