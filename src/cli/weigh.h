/* cli/weigh: what `netsuke weigh` keeps of each variant; how it is shown, and how measuring is
 * spread over processes. */
#ifndef NSK_CLI_WEIGH_H
#define NSK_CLI_WEIGH_H

#include "command.h"
#include "netsuke/weigh.h"

/* What may tell variants apart, in words. */
enum { MODEL, INPUT, BOARD, RANGES, STREAMED, REFINED, TRAITS };

typedef struct weigh_options {
    char *points, *plot, *keep, *only;
    gboolean list;
    gint jobs;
} weigh_options;

typedef struct entry {
    cli_context context; /* of one variant of one brief */
    const char *name;
    char *traits[TRAITS];
    char *key; /* of the measurement */
    nsk_measured measured;
    bool is_measured;
} entry;

/* All variants of the context's briefs, measured or taken from what is kept, and ranked. GArray of
 * entry, and as many variants (g_free); NULL and context->error on failure. Names own->keep where
 * it is not given. */
GArray *weigh_collect(cli_context *context, weigh_options *own, nsk_variant **variants);
void weigh_clear_entry(void *entry);

void weigh_print(const entry *entries, const nsk_variant *variants, int count);
void weigh_print_json(const entry *entries, const nsk_variant *variants, int count);
bool weigh_write_points(cli_context *context, const entry *entries, const nsk_variant *variants,
                        int count);

/* The command that measures one variant, for any shell. g_free. */
char *weigh_command_line(const cli_context *context, const weigh_options *own, const entry *e);
/* Measures those that are not, each in a process of its own; what they found is in own->keep then.
 * Goes on past one that fails; false and the first one's error at the end. */
bool weigh_fan_out(cli_context *context, const weigh_options *own, entry *entries, int count);

#endif
