#include "netsuke/page.h"

#include <glib/gstdio.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>

#include "draw/canvas.h"

struct nsk_page {
    char *title, *below;
    GString *links, *body;
    char **heads; /* of the table that is open */
    int sections, figures;
    bool in_list; /* of verdicts */
};

static const char style[] =
    ":root{--paper:#f6f4ef;--ink:#22282c;--faint:#6d7479;--line:#c4beb2;--clay:#b5533c;"
    "--glaze:#2f6f73;--sand:#d9b871;--slip:#ffffff;--pale:#e9e5dc}\n"
    "@media (prefers-color-scheme:dark){:root{--paper:#1b1f22;--ink:#e8e4da;--faint:#9aa1a5;"
    "--line:#454c50;--clay:#d97a61;--glaze:#5fb0b4;--sand:#c9a55a;--slip:#272d31;--pale:#2b3135}}\n"
    "*{box-sizing:border-box}\n"
    "body{margin:0;background:var(--paper);color:var(--ink);font:15px/1.5 'DejaVu "
    "Sans',system-ui,sans-serif}\n"
    "main,header,nav{max-width:1120px;margin:0 auto;padding:0 24px}\n"
    "header{padding-top:32px}h1{font-size:26px;margin:0}header p{color:var(--faint);margin:4px 0 "
    "0}\n"
    "nav{padding-top:14px;padding-bottom:6px;border-bottom:1px solid var(--line)}\n"
    "nav a{margin-right:16px;color:var(--glaze);text-decoration:none;white-space:nowrap}\n"
    "h2{font-size:20px;margin:40px 0 8px}h3{font-size:16px;margin:24px 0 6px}\n"
    "p{margin:6px 0 10px;max-width:78ch}\n"
    ".wide{overflow-x:auto;margin:10px 0 18px}\n"
    "table{border-collapse:collapse;font-size:13.5px;font-variant-numeric:tabular-nums}\n"
    "caption{text-align:left;color:var(--faint);padding-bottom:4px}\n"
    "th{font-weight:600;border-bottom:1px solid var(--line)}\n"
    "th,td{padding:3px 12px 3px 0;text-align:left;white-space:nowrap}\n"
    "th.r,td.r{text-align:right}td.heat{text-align:right;padding:3px 9px}\n"
    ".bar{display:inline-block;height:9px;background:var(--glaze);border-radius:2px}\n"
    "pre{background:var(--slip);border:1px solid var(--line);border-radius:4px;padding:10px;"
    "font-size:12.5px}\n"
    "ul.verdicts{list-style:none;padding:0;margin:12px 0}\n"
    "ul.verdicts li{padding:7px 0 7px 12px;border-left:5px solid var(--glaze);margin:5px "
    "0;background:var(--slip)}\n"
    "ul.verdicts li.look{border-color:var(--sand)}ul.verdicts li.bad{border-color:var(--clay)}\n"
    "ul.verdicts b{display:inline-block;min-width:11em}\n"
    "figure{margin:14px 0 22px}figcaption{color:var(--faint);font-size:13px}\n"
    "figure svg,figure img{height:auto;border:1px solid var(--line);border-radius:4px;"
    "display:block}figure svg{width:100%;min-width:760px}figure img{max-width:100%}\n"
    "@media (max-width:600px){main,header,nav{padding-left:14px;padding-right:14px}ul.verdicts "
    "b{display:block}}\n"
    "@media print{:root{--paper:#fff;--slip:#fff;--pale:#eee;--ink:#000}nav{display:none}"
    ".wide{overflow:visible}figure,table,li{break-inside:avoid}figure "
    "svg{min-width:0}body{font-size:12px}}\n";

nsk_page *nsk_page_new(const char *title, const char *below) {
    nsk_page *page = g_new0(nsk_page, 1);
    page->title = g_markup_escape_text(title, -1);
    page->below = g_markup_escape_text(below, -1);
    page->links = g_string_new(NULL);
    page->body = g_string_new(NULL);
    return page;
}

void nsk_page_free(nsk_page *page) {
    if (page != NULL) {
        g_free(page->title);
        g_free(page->below);
        g_strfreev(page->heads);
        g_string_free(page->links, TRUE);
        g_string_free(page->body, TRUE);
        g_free(page);
    }
}

static void end_list(nsk_page *page) {
    if (page->in_list) {
        g_string_append(page->body, "</ul>\n");
        page->in_list = false;
    }
}

bool nsk_page_finish(nsk_page *page, const char *path, nsk_error *error) {
    end_list(page);
    GString *text = g_string_new(NULL);
    g_string_append_printf(
        text,
        "<!DOCTYPE html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n"
        "<meta name=\"viewport\" content=\"width=device-width,initial-scale=1\">\n"
        "<meta name=\"color-scheme\" content=\"light dark\">\n<link rel=\"icon\" "
        "href=\"data:,\">\n<title>%s</title>\n<style>\n%s</style>\n</head>\n<body>\n"
        "<header><h1>%s</h1><p>%s</p></header>\n<nav>%s</nav>\n<main>\n%s</main>\n</body>\n"
        "</html>\n",
        page->title, style, page->title, page->below, page->links->str, page->body->str);
    bool good = nsk_file_write(path, text->str, text->len, error);
    g_string_free(text, TRUE);
    nsk_page_free(page);
    return good;
}

static void append_escaped(GString *to, const char *text) {
    char *escaped = g_markup_escape_text(text, -1);
    g_string_append(to, escaped);
    g_free(escaped);
}

void nsk_page_section(nsk_page *page, const char *heading) {
    end_list(page);
    page->sections++;
    g_string_append_printf(page->links, "<a href=\"#s%d\">", page->sections);
    append_escaped(page->links, heading);
    g_string_append(page->links, "</a> ");
    g_string_append_printf(page->body, "<h2 id=\"s%d\">", page->sections);
    append_escaped(page->body, heading);
    g_string_append(page->body, "</h2>\n");
}

void nsk_page_subheading(nsk_page *page, const char *heading) {
    end_list(page);
    g_string_append(page->body, "<h3>");
    append_escaped(page->body, heading);
    g_string_append(page->body, "</h3>\n");
}

void nsk_page_text(nsk_page *page, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    char *text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    end_list(page);
    g_string_append(page->body, "<p>");
    append_escaped(page->body, text);
    g_string_append(page->body, "</p>\n");
    g_free(text);
}

void nsk_page_verbatim(nsk_page *page, const char *text) {
    end_list(page);
    g_string_append(page->body, "<pre class=\"wide\">");
    append_escaped(page->body, text);
    g_string_append(page->body, "</pre>\n");
}

void nsk_page_verdict(nsk_page *page, nsk_standing standing, const char *what, const char *format,
                      ...) {
    static const char *const classes[] = {
        [NSK_STANDING_HOLDS] = "good", [NSK_STANDING_OPEN] = "look", [NSK_STANDING_BROKEN] = "bad"};
    static const char *const marks[] = {
        [NSK_STANDING_HOLDS] = "✓", [NSK_STANDING_OPEN] = "open:", [NSK_STANDING_BROKEN] = "✗"};
    va_list arguments;
    va_start(arguments, format);
    char *text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    if (!page->in_list) {
        g_string_append(page->body, "<ul class=\"verdicts\">\n");
        page->in_list = true;
    }
    g_string_append_printf(page->body, "<li class=\"%s\"><b>", classes[standing]);
    append_escaped(page->body, what);
    g_string_append_printf(page->body, "</b> %s ", marks[standing]);
    append_escaped(page->body, text);
    g_string_append(page->body, "</li>\n");
    g_free(text);
}

/* ---- tables ---- */

static const char *side_of(const char *head) {
    return head[0] == '>' || head[0] == '~' ? " class=\"r\"" : "";
}

void nsk_page_table(nsk_page *page, const char *caption, const char *heads) {
    end_list(page);
    g_strfreev(page->heads);
    page->heads = g_strsplit(heads, "\t", -1);
    g_string_append(page->body, "<div class=\"wide\"><table><caption>");
    append_escaped(page->body, caption);
    g_string_append(page->body, "</caption>\n<thead><tr>");
    for (char **head = page->heads; *head != NULL; head++) {
        g_string_append_printf(page->body, "<th scope=\"col\"%s>", side_of(*head));
        append_escaped(page->body, *head + (**head != '\0'));
        g_string_append(page->body, "</th>");
    }
    g_string_append(page->body, "</tr></thead>\n<tbody>\n");
}

static void append_bar(GString *to, const char *cell) {
    enum { BAR = 180 };
    g_string_append_printf(to, "<td><span class=\"bar\" style=\"width:%.0fpx\"></span></td>",
                           BAR * CLAMP(g_ascii_strtod(cell, NULL), 0.0, 1.0));
}

static void append_shaded(GString *to, const char *cell) {
    char *text;
    const double part = CLAMP(g_ascii_strtod(cell, &text), 0.0, 1.0);
    g_string_append_printf(to,
                           "<td class=\"heat\" style=\"background:color-mix(in srgb,var(--clay) "
                           "%.0f%%,transparent)\">",
                           70.0 * part);
    append_escaped(to, text + (*text == ' '));
    g_string_append(to, "</td>");
}

static void append_cell(GString *to, const char *cell, const char *head) {
    if (*head == '=') {
        append_bar(to, cell);
    } else if (*head == '~' && *cell != ' ') {
        append_shaded(to, cell);
    } else {
        g_string_append_printf(to, "<td%s>", side_of(head));
        append_escaped(to, cell + (*head == '~'));
        g_string_append(to, "</td>");
    }
}

void nsk_page_row(nsk_page *page, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    char *text = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    char **cells = g_strsplit(text, "\t", -1);
    g_string_append(page->body, "<tr>");
    for (int i = 0; cells[i] != NULL && page->heads[i] != NULL; i++) {
        append_cell(page->body, cells[i], page->heads[i]);
    }
    g_string_append(page->body, "</tr>\n");
    g_strfreev(cells);
    g_free(text);
}

void nsk_page_table_end(nsk_page *page) {
    g_string_append(page->body, "</tbody></table></div>\n");
}

/* ---- figures ---- */

/* A part of a colour as cairo writes it: percent with six decimals, zeroes behind left out. */
static void append_percent(GString *to, unsigned part) {
    char number[24];
    g_snprintf(number, sizeof number, "%.6f", part / 2.55);
    char *end = number + strlen(number) - 1;
    while (*end == '0') {
        *end-- = '\0';
    }
    if (*end == '.') {
        *end = '\0';
    }
    g_string_append_printf(to, "%s%%", number);
}

/* The house's colours become the page's, so that they follow light and dark. */
static void follow_theme(GString *svg) {
    static const struct {
        unsigned rgb;
        const char *name;
    } colours[] = {{NSK_PAPER, "paper"}, {NSK_INK, "ink"},   {NSK_FAINT, "faint"},
                   {NSK_LINE, "line"},   {NSK_CLAY, "clay"}, {NSK_GLAZE, "glaze"},
                   {NSK_SAND, "sand"},   {NSK_SLIP, "slip"}, {0xe9e5dc, "pale"}};
    for (size_t i = 0; i < G_N_ELEMENTS(colours); i++) {
        static const char *const commas[] = {",", ", "}; /* its versions differ */
        char *to = g_strdup_printf("var(--%s)", colours[i].name);
        for (size_t way = 0; way < G_N_ELEMENTS(commas); way++) {
            GString *from = g_string_new("rgb(");
            for (int k = 0; k < 3; k++) {
                append_percent(from, colours[i].rgb >> (16 - 8 * k) & 255U);
                g_string_append(from, k < 2 ? commas[way] : ")");
            }
            g_string_replace(svg, from->str, to, 0);
            g_string_free(from, TRUE);
        }
        g_free(to);
    }
}

/* Names within a drawing are its own: others on the page have the same. */
static void rename_parts(GString *svg, int figure) {
    static const char *const before[] = {"id=\"", "href=\"#", "url(#"};
    for (size_t i = 0; i < G_N_ELEMENTS(before); i++) {
        char *after = g_strdup_printf("%sf%d-", before[i], figure);
        g_string_replace(svg, before[i], after, 0);
        g_free(after);
    }
}

static void append_svg(nsk_page *page, const char *text, const char *caption) {
    const char *start = strstr(text, "<svg");
    GString *svg = g_string_new(start != NULL ? start : "");
    rename_parts(svg, page->figures);
    follow_theme(svg);
    g_string_replace(svg, "xlink:href", "href", 0);
    char *label = g_markup_escape_text(caption, -1);
    char *open = g_strdup_printf("<svg role=\"img\" aria-label=\"%s\"", label);
    g_string_replace(svg, "<svg", open, 1);
    g_string_append(page->body, svg->str);
    g_free(open);
    g_free(label);
    g_string_free(svg, TRUE);
}

bool nsk_page_figure(nsk_page *page, const char *path, const char *caption, nsk_error *error) {
    enum { MOST = 64 << 20 };
    size_t size;
    uint8_t *bytes = nsk_file_read(path, MOST, &size, error);
    if (bytes == NULL) {
        return false;
    }
    end_list(page);
    page->figures++;
    g_string_append(page->body, "<figure><div class=\"wide\">");
    if (g_str_has_suffix(path, ".svg")) {
        append_svg(page, (const char *)bytes, caption);
    } else {
        char *coded = g_base64_encode(bytes, size);
        char *label = g_markup_escape_text(caption, -1);
        g_string_append_printf(page->body, "<img alt=\"%s\" src=\"data:image/png;base64,%s\">",
                               label, coded);
        g_free(label);
        g_free(coded);
    }
    g_string_append(page->body, "</div><figcaption>");
    append_escaped(page->body, caption);
    g_string_append(page->body, "</figcaption></figure>\n");
    g_free(bytes);
    g_unlink(path);
    return true;
}
