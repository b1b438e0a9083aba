/* netsuke shelf: the boards that came along, and any others. */
#include <stdio.h>

#include "command.h"
#include "table.h"

static void json_board(JsonBuilder *b, const char *name, const nsk_board *board) {
    json_builder_begin_object(b);
    cli_json_text(b, "name", name);
    cli_json_text(b, "file", board->path);
    cli_json_text(b, "core", board->core);
    cli_json_real(b, "clock", board->clock);
    cli_json_real(b, "flash", board->flash);
    cli_json_real(b, "ram", board->ram);
    cli_json_real(b, "frame_rate", board->frame_rate);
    json_builder_end_object(b);
}

static void print_board(cli_table *table, const char *name, const nsk_board *board) {
    cli_table_row(table, "%s\t%s\t%.4g MHz\t%.0f KiB\t%.0f KiB\t%g /s\t%s", name, board->core,
                  board->clock / 1e6, board->flash / 1024.0, board->ram / 1024.0, board->frame_rate,
                  board->path);
}

static int run(cli_context *context) {
    char **names = nsk_board_names();
    JsonBuilder *b = json_builder_new();
    cli_table *table = cli_table_new("llrrrrl");
    bool good = true;
    json_builder_begin_object(b);
    json_builder_set_member_name(b, "boards");
    json_builder_begin_array(b);
    cli_table_row(table, "board\tcore\tclock\tflash\tram\tcamera\tfile");
    for (char **name = names; *name != NULL && good; name++) {
        char *path = nsk_board_find(*name, NULL);
        nsk_board *board = nsk_board_read(path, &context->error);
        good = board != NULL;
        if (good) {
            json_board(b, *name, board);
            print_board(table, *name, board);
        }
        nsk_board_free(board);
        g_free(path);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    if (good && names[0] == NULL) {
        nsk_fail(&context->error,
                 "no boards came along: is netsuke installed whole? NETSUKE_DATA names the folder "
                 "that has boards/ and costs/");
        good = false;
    }
    if (good && context->json) {
        cli_print_json(b);
    } else if (good) {
        cli_table_print(table);
        puts("\nA brief says 'file = NAME' under [board], or the path of a file of your own, "
             "written "
             "like\none of these. The boards are made up; the cores and their cost tables are "
             "real.");
    }
    g_strfreev(names);
    return good ? CLI_DONE : cli_fail(context);
}

const cli_command cli_shelf = {
    .name = "shelf",
    .summary = "the boards that came along: cores, clocks, memory",
    .arguments = "",
    .example = "  netsuke shelf\n"
               "lists them; each can be named in a brief or with --board, and copied for a board "
               "of your own.",
    .least = 0,
    .most = 0,
    .run = run,
};
