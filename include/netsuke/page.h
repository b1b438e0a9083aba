/* netsuke/page.h: one self-contained HTML page: headings, tables, bars, figures; light, dark,
 * print.
 */
#ifndef NETSUKE_PAGE_H
#define NETSUKE_PAGE_H

#include "netsuke/verdict.h"

#ifdef __cplusplus
extern "C" {
#endif

typedef struct nsk_page nsk_page;

nsk_page *nsk_page_new(const char *title, const char *below);
/* Writes the file whole or not at all, and frees the page. */
bool nsk_page_finish(nsk_page *page, const char *path, nsk_error *error);
void nsk_page_free(nsk_page *page);

/* A section; the page begins with links to all of them. */
void nsk_page_section(nsk_page *page, const char *heading);
void nsk_page_subheading(nsk_page *page, const char *heading);
void nsk_page_text(nsk_page *page, const char *format, ...) NSK_PRINTF(2, 3);

/* A text as it stands, line by line. */
void nsk_page_verbatim(nsk_page *page, const char *text);

/* A line that says whether something holds, and by what. */
void nsk_page_verdict(nsk_page *page, nsk_standing standing, const char *what, const char *format,
                      ...) NSK_PRINTF(4, 5);

/* A table: `heads` parted by tabs, each with a mark before it that says what its column holds: '<'
 * text to the left, '>' to the right; '=' bars, as long as the number says, 0 to 1; '~' text on a
 * ground that is darker the larger the number before it, as in "0.25 text", " text" on none. Rows
 * are parted by tabs. */
void nsk_page_table(nsk_page *page, const char *caption, const char *heads);
void nsk_page_row(nsk_page *page, const char *format, ...) NSK_PRINTF(2, 3);
void nsk_page_table_end(nsk_page *page);

/* A drawing that was written as .svg, or a .png: taken into the page, and the file removed. */
bool nsk_page_figure(nsk_page *page, const char *path, const char *caption, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
