/* cli/rehearse: films played on the simulated board, for those who rehearse_run what came of it. */
#ifndef NSK_CLI_REHEARSE_H
#define NSK_CLI_REHEARSE_H

#include "command.h"
#include "netsuke/rehearse.h"

enum { MOST_INJECTIONS = 32 };

typedef struct rehearse_options {
    gint frames, seed;
    char *predictions, *scene, *signals, *plot, *capture;
    gboolean all, scenes, sweep;
    char **faults;
} rehearse_options;

/* One film, and how it was played. */
typedef struct play {
    char *name;
    nsk_film *film;
    nsk_product product;
    nsk_budget *budget;
    nsk_stage stage;
    nsk_rehearsal *rehearsal;
} play;

typedef struct rehearse_run {
    cli_context *context;
    const rehearse_options *own;
    nsk_injection injections[MOST_INJECTIONS];
    int injection_count;
    GArray *plays; /* of play */
} rehearse_run;

void rehearse_begin(rehearse_run *s, cli_context *context, const rehearse_options *own);
/* Loads what the brief names, and plays one scene, all scenes of the brief, or held-out images.
 */
bool rehearse_play(rehearse_run *s);
void rehearse_end(rehearse_run *s);
/* What came of all of it, held against the brief's limits; where something was broken on purpose,
 * nothing is judged. */
void rehearse_judge(const rehearse_run *s, nsk_verdict *verdict);

static inline play *play_at(const rehearse_run *s, guint i) {
    return &g_array_index(s->plays, play, i);
}

#endif
