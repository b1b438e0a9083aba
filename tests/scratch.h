/* scratch: a folder for what a test writes. */
#ifndef NSK_TESTS_SCRATCH_H
#define NSK_TESTS_SCRATCH_H

#include <glib.h>
#include <stddef.h>

/* A fresh folder; scratch_remove takes it and everything in it away and frees the name. */
char *scratch_new(void);
void scratch_remove(char *folder);
/* "folder/name", made of printf parts; g_free. */
char *scratch_path(const char *folder, const char *format, ...) G_GNUC_PRINTF(2, 3);
void scratch_write(const char *path, const void *bytes, size_t size);
void scratch_write_text(const char *path, const char *text);

#endif
