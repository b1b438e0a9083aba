/* emit/bundle: what is handed over, before it is written: files by name, all in memory. */
#ifndef NSK_EMIT_BUNDLE_H
#define NSK_EMIT_BUNDLE_H

#include "base/base.h"
#include "estimate/costs.h"

typedef struct nsk_bundle nsk_bundle;

nsk_bundle *nsk_bundle_new(void);
void nsk_bundle_free(nsk_bundle *bundle);

/* Takes the text over. A name may begin with a folder of its own. */
void nsk_bundle_add(nsk_bundle *bundle, const char *name, GString *text);
/* A template that came with the program, each @KEY@ replaced; `values` are KEY, value, ..., NULL.
 */
void nsk_bundle_add_template(nsk_bundle *bundle, const char *name, const char *template_name,
                             const char *const *values);
/* The runtime's sources that are needed, side by side in one folder; the table of kinds with them.
 */
void nsk_bundle_add_runtime(nsk_bundle *bundle, const nsk_needs *needs);
/* The name of a symbol that a runtime with these kinds of layer has, and no other. g_free. */
char *nsk_runtime_mark(const nsk_needs *needs);
/* What runs the self-test on emulated boards. */
void nsk_bundle_add_boards(nsk_bundle *bundle);

/* Writes all of it, each file by way of a temporary one, and takes away what an earlier hand-over
 * left there and this one has not. The folder is made; one that holds anything else is refused. */
bool nsk_bundle_write(const nsk_bundle *bundle, const char *folder, nsk_error *error);
/* The files' names, in order. g_strfreev. */
char **nsk_bundle_names(const nsk_bundle *bundle);

#endif
