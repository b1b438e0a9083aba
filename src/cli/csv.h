/* cli/csv: comma-separated values as in RFC 4180, written whole or not at all. */
#ifndef NSK_CLI_CSV_H
#define NSK_CLI_CSV_H

#include <stdbool.h>

#include "netsuke/error.h"

typedef struct cli_csv cli_csv;

cli_csv *cli_csv_new(const char *header);
void cli_csv_text(cli_csv *csv, const char *text);
void cli_csv_number(cli_csv *csv, double number);
void cli_csv_end(cli_csv *csv); /* of the line */
/* Writes the file and frees. */
bool cli_csv_write(cli_csv *csv, const char *path, nsk_error *error);

#endif
