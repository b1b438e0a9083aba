/* cli/table: text in aligned columns, and numbers as people read them. */
#ifndef NSK_CLI_TABLE_H
#define NSK_CLI_TABLE_H

#include <glib.h>
#include <stdbool.h>

typedef struct cli_table cli_table;

/* `columns`: one letter a column, l for left, r for right. */
cli_table *cli_table_new(const char *columns);
/* Cells parted by tabs. */
void cli_table_row(cli_table *table, const char *format, ...) G_GNUC_PRINTF(2, 3);
/* An empty line. */
void cli_table_gap(cli_table *table);
/* Prints to standard output and frees. */
void cli_table_print(cli_table *table);

/* "27.0 KiB"; "2,578,944"; "12.5 ms". Each in a buffer of the caller's. */
enum { CLI_TEXT = 48 };
const char *cli_bytes(double bytes, char *text);
const char *cli_count(double count, char *text);
const char *cli_time(double seconds, char *text);
/* `share` of 1 as a bar of `width` characters; over 1 it is full and ends in '>'. */
const char *cli_bar(double share, int width, char *text);

/* Prints a text behind a label, in lines of at most 80 columns, the later ones set in as far. */
void cli_paragraph(const char *label, const char *text);

#endif
