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

/* The first two cells of a line; `cells` is how many there were. */
static bool read_line(reader *r, nsk_list_line *line, int *cells) {
    GString *cell = g_string_new(NULL);
    bool good = true;
    *line = (nsk_list_line){.line = r->line};
    *cells = 0;
    do {
        r->at += *cells > 0; /* the comma */
        good = read_cell(r, cell);
        char **to = *cells == 0 ? &line->path : *cells == 1 ? &line->label : NULL;
        if (to != NULL) {
            *to = g_strdup(cell->str);
        }
        ++*cells;
    } while (good && r->at < r->end && *r->at == ',');
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

static void clear_line(nsk_list_line *line) {
    g_free(line->path);
    g_free(line->label);
}

void nsk_list_free(GArray *lines) {
    for (guint i = 0; lines != NULL && i < lines->len; i++) {
        clear_line(&g_array_index(lines, nsk_list_line, i));
    }
    if (lines != NULL) {
        g_array_free(lines, TRUE);
    }
}

GArray *nsk_list_parse(const char *text, size_t size, nsk_error *error) {
    GArray *lines = g_array_new(FALSE, FALSE, sizeof(nsk_list_line));
    reader r = {text, text + size, 1};
    if (size >= 3 && memcmp(text, "\xef\xbb\xbf", 3) == 0) {
        r.at += 3;
    }
    bool good = memchr(text, 0, size) == NULL || nsk_fail(error, "not a text file");
    while (good && r.at < r.end) {
        nsk_list_line line;
        int cells;
        bool whole = read_line(&r, &line, &cells);
        bool empty = whole && cells == 1 && line.path[0] == '\0';
        if (!whole || (!empty && (cells < 2 || line.path[0] == '\0' || line.label[0] == '\0'))) {
            good = nsk_fail(error, "line %d: path,label is needed, one image a line", line.line);
        }
        if (good && !empty) {
            g_array_append_val(lines, line);
        } else {
            clear_line(&line);
        }
    }
    if (!good) {
        nsk_list_free(lines);
        return NULL;
    }
    return lines;
}
