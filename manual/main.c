/* Writes all of them into folders below one: man1, man5, completion. Usage: netsuke-manual
 * MODEL-FILE.md FOLDER */
#include <stdio.h>

#include "completion.h"
#include "pages.h"

static bool write_text(const char *folder, const char *below, const char *name, GString *text) {
    char *path = g_build_filename(folder, below, NULL);
    char *file = g_build_filename(path, name, NULL);
    GError *reason = NULL;
    g_mkdir_with_parents(path, 0777);
    bool good = g_file_set_contents_full(file, text->str, (gssize)text->len,
                                         G_FILE_SET_CONTENTS_CONSISTENT, 0644, &reason) != FALSE;
    if (!good) {
        fprintf(stderr, "netsuke-manual: %s\n", reason->message);
        g_error_free(reason);
    }
    g_string_free(text, TRUE);
    g_free(file);
    g_free(path);
    return good;
}

int main(int argc, char **argv) {
    char *model = NULL;
    if (argc != 3 || !g_file_get_contents(argv[1], &model, NULL, NULL)) {
        fprintf(stderr, "netsuke-manual: give the document of the model file, and a folder\n");
        return 2;
    }
    const char *folder = argv[2];
    bool good = write_text(folder, "man1", "netsuke.1", manual_of_program()) &&
                write_text(folder, "man5", "netsuke-brief.5", manual_of_brief()) &&
                write_text(folder, "man5", "netsuke-board.5", manual_of_board()) &&
                write_text(folder, "man5", "netsuke-model.5", manual_of_model(model)) &&
                write_text(folder, "completion", "netsuke.bash", completion_of_bash()) &&
                write_text(folder, "completion", "_netsuke", completion_of_zsh()) &&
                write_text(folder, "completion", "netsuke.fish", completion_of_fish());
    for (size_t i = 0; cli_commands[i] != NULL && good; i++) {
        char *name = g_strdup_printf("netsuke-%s.1", cli_commands[i]->name);
        good = write_text(folder, "man1", name, manual_of_command(cli_commands[i]));
        g_free(name);
    }
    g_free(model);
    return good ? 0 : 2;
}
