#include "images/list.h"

#include <string.h>

typedef struct reader {
    const char *at, *end;
    int line;
} reader;

static bool ends_cell(const reader *r) {
    return r->at == r->end || *r->at == ',' || *r->at == '\n' || *r->at == '\r';
}

/* A cell in quotes holds commas, line ends and doubled quotes. */
static bool quoted_cell(reader *r, GString *cell) {
    for (r->at++; r->at < r->end; r->at++) {
        if (*r->at != '"') {
            r->line += *r->at == '\n';
            g_string_append_c(cell, *r->at);
        } else if (r->at + 1 < r->end && r->at[1] == '"') {
            g_string_append_c(cell, '"');
            r->at++;
        } else {
            r->at++;
            return ends_cell(r);
        }
    }
    return false;
}

static bool read_cell(reader *r, GString *cell) {
    g_string_truncate(cell, 0);
    if (r->at < r->end && *r->at == '"') {
        return quoted_cell(r, cell);
    }
    while (!ends_cell(r)) {
        g_string_append_c(cell, *r->at++);
    }
    g_strstrip(cell->str);
    cell->len = strlen(cell->str);
    return true;
}

static bool read_line(reader *r, nsk_list_line *line) {
    GString *cell = g_string_new(NULL);
    GPtrArray *cells = g_ptr_array_new();
    bool good = true;
    *line = (nsk_list_line){.line = r->line};
    do {
        r->at += cells->len > 0; /* the comma */
        good = read_cell(r, cell);
        g_ptr_array_add(cells, g_strdup(cell->str));
    } while (good && r->at < r->end && *r->at == ',');
    line->count = (int)cells->len;
    g_ptr_array_add(cells, NULL);
    line->cells = (char **)g_ptr_array_free(cells, FALSE);
    g_string_free(cell, TRUE);
    if (r->at < r->end && *r->at == '\r') {
        r->at++;
    }
    if (r->at < r->end && *r->at == '\n') {
        r->at++;
    }
    r->line++;
    return good;
}

void nsk_list_free(GArray *lines) {
    for (guint i = 0; lines != NULL && i < lines->len; i++) {
        g_strfreev(g_array_index(lines, nsk_list_line, i).cells);
    }
    if (lines != NULL) {
        g_array_free(lines, TRUE);
    }
}

/* A path and a label, unless `bare`. */
static bool is_whole(const nsk_list_line *line, bool bare) {
    return line->count >= 2 && line->cells[0][0] != '\0' && (bare || line->cells[1][0] != '\0');
}

GArray *nsk_list_parse(const char *text, size_t size, bool bare, nsk_error *error) {
    GArray *lines = g_array_new(FALSE, FALSE, sizeof(nsk_list_line));
    reader r = {text, text + size, 1};
    if (size >= 3 && memcmp(text, "\xef\xbb\xbf", 3) == 0) {
        r.at += 3;
    }
    bool good = memchr(text, 0, size) == NULL || nsk_fail(error, "not a text file");
    while (good && r.at < r.end) {
        nsk_list_line line;
        bool read = read_line(&r, &line);
        bool empty = read && line.count == 1 && line.cells[0][0] == '\0';
        if (!read || (!empty && !is_whole(&line, bare))) {
            good = nsk_fail(error, "line %d: path,label is needed, one image a line", line.line);
        }
        if (good && !empty) {
            g_array_append_val(lines, line);
        } else {
            g_strfreev(line.cells);
        }
    }
    if (!good) {
        nsk_list_free(lines);
        return NULL;
    }
    return lines;
}
