#include "csv.h"

#include <glib.h>

#include <string.h>

#include "netsuke/tools.h"

struct cli_csv {
    GString *text;
    bool inside; /* a line has begun */
};

cli_csv *cli_csv_new(const char *header) {
    cli_csv *csv = g_new0(cli_csv, 1);
    csv->text = g_string_new(header);
    g_string_append_c(csv->text, '\n');
    return csv;
}

static void begin(cli_csv *csv) {
    if (csv->inside) {
        g_string_append_c(csv->text, ',');
    }
    csv->inside = true;
}

void cli_csv_text(cli_csv *csv, const char *text) {
    begin(csv);
    /* a spreadsheet takes a cell that begins like that for a formula */
    bool formula = text[0] != '\0' && strchr("=+-@", text[0]) != NULL && text[1] != '\0';
    if (strpbrk(text, ",\"\r\n") == NULL && !formula) {
        g_string_append(csv->text, text);
        return;
    }
    g_string_append(csv->text, formula ? "\"'" : "\"");
    for (const char *c = text; *c != '\0'; c++) {
        g_string_append(csv->text, *c == '"' ? "\"" : "");
        g_string_append_c(csv->text, *c);
    }
    g_string_append_c(csv->text, '"');
}

void cli_csv_number(cli_csv *csv, double number) {
    char digits[G_ASCII_DTOSTR_BUF_SIZE];
    begin(csv);
    g_string_append(csv->text, g_ascii_formatd(digits, sizeof digits, "%.8g", number));
}

void cli_csv_end(cli_csv *csv) {
    g_string_append_c(csv->text, '\n');
    csv->inside = false;
}

bool cli_csv_write(cli_csv *csv, const char *path, nsk_error *error) {
    bool good = nsk_file_write(path, csv->text->str, csv->text->len, error);
    g_string_free(csv->text, TRUE);
    g_free(csv);
    return good;
}
