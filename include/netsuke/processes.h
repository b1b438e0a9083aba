/* netsuke/processes.h: commands run beside each other, each in a process of its own. */
#ifndef NETSUKE_PROCESSES_H
#define NETSUKE_PROCESSES_H

#include "netsuke/error.h"

#ifdef __cplusplus
extern "C" {
#endif

/* One process: its command, NULL behind the last word, and what to call it for people. */
typedef struct nsk_process {
    const char *name;
    char **command;
} nsk_process;

/* Runs all of them, `most` at a time (0: one a processor), which share the processors: each sees
 * OMP_NUM_THREADS. What they print is not shown. Status 0 and 1 are good. Goes on past one that
 * fails; false and the first one's error line, its name before it, at the end. */
bool nsk_processes_run(const nsk_process *processes, int count, int most, nsk_progress progress,
                       void *context, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
