#include "limits.h"

#include <glib.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/resource.h>
#include <unistd.h>

/* Address space: the libraries and the work of one thread; what OpenBLAS and malloc reserve for
 * each, most of which is never touched. Measured with OpenBLAS 0.3.21 and glibc 2.36. */
static const rlim_t MIB = (rlim_t)1 << 20;
enum { BASE_MIB = 256, THREAD_MIB = 160, STACK_KIB = 512, LINE = 300 };

/* Nothing of GLib yet: it may not have begun. */
static long threads_of(char **environment) {
    static const char name[] = "OMP_NUM_THREADS=";
    long processors = sysconf(_SC_NPROCESSORS_ONLN);
    long wanted = 0;
    for (char **at = environment; *at != NULL; at++) {
        if (strncmp(*at, name, sizeof name - 1) == 0) {
            wanted = strtol(*at + sizeof name - 1, NULL, 10);
        }
    }
    return wanted > 0 && wanted < processors ? wanted : processors > 0 ? processors : 1;
}

static void end_with(const char *line) {
    ssize_t ignored = write(STDERR_FILENO, line, strlen(line));
    (void)ignored;
    _exit(2);
}

static void check_memory(int kind, const char *command, long threads) {
    struct rlimit limit;
    const rlim_t need = MIB * (BASE_MIB + (rlim_t)threads * THREAD_MIB);
    char line[LINE];
    if (getrlimit(kind, &limit) != 0 || limit.rlim_cur == RLIM_INFINITY || limit.rlim_cur >= need) {
        return;
    }
    snprintf(line, sizeof line,
             "netsuke: the limit of memory, %llu MiB (%s), is too low for %ld threads, which may "
             "ask for %llu MiB; raise it, or say OMP_NUM_THREADS=1\n",
             (unsigned long long)(limit.rlim_cur / MIB), command, threads,
             (unsigned long long)(need / MIB));
    end_with(line);
}

void cli_check_limits(int count, char **arguments, char **environment) {
    struct rlimit stack;
    char line[LINE];
    if (getrlimit(RLIMIT_STACK, &stack) == 0 && stack.rlim_cur != RLIM_INFINITY &&
        stack.rlim_cur < STACK_KIB * (rlim_t)1024) {
        snprintf(line, sizeof line,
                 "netsuke: the limit of the stack, %llu KiB (ulimit -s), is too low; %d KiB are "
                 "needed\n",
                 (unsigned long long)(stack.rlim_cur / 1024), STACK_KIB);
        end_with(line);
    }
    (void)count;
    (void)arguments;
    check_memory(RLIMIT_AS, "ulimit -v", threads_of(environment));
    check_memory(RLIMIT_DATA, "ulimit -d", threads_of(environment));
}

/* GLib says what it could not allocate, and would abort. */
static void hear(const char *domain, GLogLevelFlags level, const char *message, void *context) {
    if ((level & G_LOG_LEVEL_ERROR) != 0 && strstr(message, "allocate") != NULL) {
        end_with("netsuke: out of memory; give it fewer or smaller images, or more memory\n");
    }
    g_log_default_handler(domain, level, message, context);
}

void cli_watch_memory(void) {
    g_log_set_default_handler(hear, NULL);
}
