/* base/shipped: files that came along with the program: boards, cost tables. */
#ifndef NSK_BASE_SHIPPED_H
#define NSK_BASE_SHIPPED_H

/* FOLDER/NAME.ini among them, or NULL. Looked for in $NETSUKE_DATA, in share/netsuke beside the
 * program's folder, in the sources around a build, and where this was built to be installed.
 * g_free.
 */
char *nsk_shipped(const char *folder, const char *name);
/* The names in a folder of them without ".ini", sorted; NULL behind the last. g_strfreev. */
char **nsk_shipped_names(const char *folder);

#endif
