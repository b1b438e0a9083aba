/* limits: whether the system lets a process have what this one needs. */
#ifndef NSK_CLI_LIMITS_H
#define NSK_CLI_LIMITS_H

/* Ends the process with one line and status 2 where limits of memory or stack are so low that
 * libraries would wait for ever for memory, or crash. main.c has it called before any library has
 * begun; the environment is handed over, as getenv does not know it then. */
void cli_check_limits(int count, char **arguments, char **environment);

/* From then on, memory that runs out in spite of that ends the process in the same way. */
void cli_watch_memory(void);

#endif
