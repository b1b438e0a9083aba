/* cli/rehearse: films played on the simulated board, for those who show what came of it. */
#ifndef NSK_CLI_REHEARSE_H
#define NSK_CLI_REHEARSE_H

#include "command.h"
#include "netsuke/rehearse.h"

enum { MOST_FAULTS = 32 };

/* One film, and how it was played. */
typedef struct play {
    char *name;
    nsk_film *film;
    nsk_product product;
    nsk_budget *budget;
    nsk_stage stage;
    nsk_rehearsal *rehearsal;
} play;

typedef struct show {
    cli_job *job;
    nsk_fault faults[MOST_FAULTS];
    int fault_count;
    GArray *plays; /* of play */
} show;

void rehearse_begin(show *s, cli_job *job);
/* Loads what the job names, and plays its scene, all scenes of its brief, or held-out pictures. */
bool rehearse_play(show *s);
void rehearse_end(show *s);
/* What came of all of it, held against the brief's limits; where something was broken on purpose,
 * nothing is judged. */
void rehearse_judge(const show *s, nsk_verdict *verdict);

static inline play *play_at(const show *s, guint i) {
    return &g_array_index(s->plays, play, i);
}

#endif
