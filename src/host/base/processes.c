/* Commands run beside each other. */
#include "netsuke/processes.h"

#include <gio/gio.h>
#include <string.h>

#include "base/base.h"

/* Processes at work. */
typedef struct crowd {
    const nsk_process *processes;
    int count, next, running, done, most;
    nsk_progress progress;
    void *context;
    nsk_error *error;
    bool good;
} crowd;

typedef struct child {
    crowd *crowd;
    const nsk_process *process;
} child;

static void start_more(crowd *c);

static void keep_first_error(crowd *c, const nsk_process *process, const char *text) {
    static const char prefix[] = "netsuke: ";
    if (!c->good) {
        return;
    }
    text = g_str_has_prefix(text, prefix) ? text + strlen(prefix) : text;
    char *line = g_strchomp(g_strdup(text));
    c->good = nsk_fail(c->error, "%s: %s", process->name, line);
    g_free(line);
}

static void child_ended(GObject *source, GAsyncResult *result, void *context) {
    GSubprocess *process = G_SUBPROCESS(source);
    child *one = context;
    crowd *c = one->crowd;
    char *said = NULL;
    GError *reason = NULL;
    g_subprocess_communicate_utf8_finish(process, result, NULL, &said, &reason);
    if (!g_subprocess_get_if_exited(process) || g_subprocess_get_exit_status(process) >= 2) {
        keep_first_error(c, one->process,
                         said != NULL && said[0] != '\0' ? said
                                                         : "its process ended without a word");
    }
    g_clear_error(&reason);
    g_free(said);
    g_object_unref(process);
    g_free(one);
    c->running--;
    c->done++;
    if (c->progress != NULL) {
        c->progress(c->context, c->done, c->count);
    }
    start_more(c);
}

static void start_one(crowd *c, const nsk_process *what, int threads) {
    GSubprocessLauncher *launcher = g_subprocess_launcher_new(
        (GSubprocessFlags)(G_SUBPROCESS_FLAGS_STDOUT_SILENCE | G_SUBPROCESS_FLAGS_STDERR_PIPE));
    GError *reason = NULL;
    char *text = g_strdup_printf("%d", threads);
    g_subprocess_launcher_setenv(launcher, "OMP_NUM_THREADS", text, TRUE);
    GSubprocess *process =
        g_subprocess_launcher_spawnv(launcher, (const char *const *)what->command, &reason);
    if (process != NULL) {
        child *one = g_new(child, 1);
        *one = (child){c, what};
        c->running++;
        g_subprocess_communicate_utf8_async(process, NULL, NULL, child_ended, one);
    } else {
        keep_first_error(c, what, reason->message);
        g_error_free(reason);
    }
    g_free(text);
    g_object_unref(launcher);
}

static void start_more(crowd *c) {
    int processors = (int)g_get_num_processors();
    int jobs = MAX(MIN(c->most > 0 ? c->most : processors, c->count), 1);
    while (c->running < jobs && c->next < c->count) {
        start_one(c, &c->processes[c->next++], MAX(processors / jobs, 1));
    }
}

bool nsk_processes_run(const nsk_process *processes, int count, int most, nsk_progress progress,
                       void *context, nsk_error *error) {
    crowd c = {.processes = processes,
               .count = count,
               .most = most,
               .progress = progress,
               .context = context,
               .error = error,
               .good = true};
    start_more(&c);
    while (c.running > 0) {
        g_main_context_iteration(NULL, TRUE);
    }
    return c.good;
}
