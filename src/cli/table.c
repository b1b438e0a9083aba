#include "table.h"

#include <math.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>

#include "netsuke/tools.h"

struct cli_table {
    char *columns;
    GPtrArray *rows; /* of char **, or NULL for an empty line */
};

cli_table *cli_table_new(const char *columns) {
    cli_table *table = g_new(cli_table, 1);
    table->columns = g_strdup(columns);
    table->rows = g_ptr_array_new();
    return table;
}

void cli_table_row(cli_table *table, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    char *text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    char **cells = g_strsplit(text, "\t", -1);
    for (char **cell = cells; *cell != NULL; cell++) {
        nsk_make_visible(*cell);
    }
    g_ptr_array_add(table->rows, cells);
    g_free(text);
}

void cli_table_gap(cli_table *table) {
    g_ptr_array_add(table->rows, NULL);
}

static size_t column_width(const cli_table *table, size_t column) {
    size_t width = 0;
    for (guint i = 0; i < table->rows->len; i++) {
        char **cells = table->rows->pdata[i];
        if (cells != NULL && g_strv_length(cells) > column) {
            width = MAX(width, (size_t)g_utf8_strlen(cells[column], -1));
        }
    }
    return width;
}

static void append_cell(GString *line, const char *cell, size_t width, char side) {
    int fill = (int)(width - (size_t)g_utf8_strlen(cell, -1));
    if (side == 'r') {
        g_string_append_printf(line, "%*s%s", fill, "", cell);
    } else {
        g_string_append_printf(line, "%s%*s", cell, fill, "");
    }
}

void cli_table_print(cli_table *table) {
    size_t columns = strlen(table->columns);
    for (guint i = 0; i < table->rows->len; i++) {
        char **cells = table->rows->pdata[i];
        GString *line = g_string_new("");
        for (size_t c = 0; cells != NULL && cells[c] != NULL && c < columns; c++) {
            g_string_append(line, c > 0 ? "  " : "");
            append_cell(line, cells[c], column_width(table, c), table->columns[c]);
        }
        puts(g_strchomp(line->str));
        g_string_free(line, TRUE);
    }
    for (guint i = 0; i < table->rows->len; i++) {
        g_strfreev(table->rows->pdata[i]);
    }
    g_ptr_array_free(table->rows, TRUE);
    g_free(table->columns);
    g_free(table);
}

const char *cli_bytes(double bytes, char *text) {
    if (fabs(bytes) < 1024.0) {
        snprintf(text, CLI_TEXT, "%.0f B", bytes);
    } else if (fabs(bytes) < 10240.0 * 1024.0) {
        snprintf(text, CLI_TEXT, "%.1f KiB", bytes / 1024.0);
    } else {
        snprintf(text, CLI_TEXT, "%.1f MiB", bytes / 1048576.0);
    }
    return text;
}

const char *cli_count(double count, char *text) {
    char digits[32];
    snprintf(digits, sizeof digits, "%.0f", count);
    size_t length = strlen(digits);
    size_t used = 0;
    for (size_t i = 0; i < length; i++) {
        if (i > 0 && (length - i) % 3 == 0 && digits[i - 1] != '-') {
            text[used++] = ',';
        }
        text[used++] = digits[i];
    }
    text[used] = '\0';
    return text;
}

const char *cli_time(double seconds, char *text) {
    bool whole = fabs(seconds) >= 1.0;
    snprintf(text, CLI_TEXT, whole ? "%.2f s" : "%.1f ms", whole ? seconds : seconds * 1e3);
    return text;
}

const char *cli_bar(double share, int width, char *text) {
    int full = share >= 1.0 ? width : (int)(share * width + 0.5);
    for (int i = 0; i < width; i++) {
        text[i] = i < full ? '#' : '.';
    }
    if (share > 1.0) {
        text[width - 1] = '>';
    }
    text[width] = '\0';
    return text;
}

void cli_paragraph(const char *label, const char *text) {
    enum { WIDTH = 80 };
    char **words = g_strsplit(text, " ", -1);
    size_t indent = strlen(label);
    size_t column = indent;
    fputs(label, stdout);
    for (char **word = words; *word != NULL; word++) {
        size_t length = (size_t)g_utf8_strlen(*word, -1);
        if (column > indent && column + 1 + length > WIDTH) {
            printf("\n%*s", (int)indent, "");
            column = indent;
        }
        printf("%s%s", column > indent ? " " : "", *word);
        column += length + (column > indent ? 1 : 0);
    }
    putchar('\n');
    g_strfreev(words);
}
