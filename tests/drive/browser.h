/* browser: a page in headless Chromium, driven as by hand: keys go in, and what the page shows
 * comes out. Over a pipe, by the protocol that the browser itself describes. */
#ifndef NSK_TESTS_DRIVE_BROWSER_H
#define NSK_TESTS_DRIVE_BROWSER_H

#include <glib.h>
#include <stdbool.h>

typedef struct browser browser;

/* Opens a page of that size; NULL where there is no such browser, or it does not answer. */
browser *browser_open(const char *address, int width, int height);
void browser_close(browser *b);

/* The value of an expression of the page's, as text; g_free. "" where it throws. */
char *browser_asks(browser *b, const char *expression);
/* Waits until an expression is true: false where it is not after 20 seconds. */
bool browser_until(browser *b, const char *expression);
/* Presses a key, by its name ("s", "ArrowRight", "Escape"), and lets it go. */
void browser_press(browser *b, const char *key);
void browser_click(browser *b, int x, int y);
/* What the page has said to its console since it was opened: messages, errors, what was refused. */
const char *browser_console(const browser *b);
/* A picture of the page, as a PNG file. */
bool browser_picture(browser *b, const char *path);

#endif
