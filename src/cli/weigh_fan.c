/* Measuring variants in processes of their own, and the commands that do it. */
#include <gio/gio.h>
#include <string.h>

#include "weigh.h"

/* Options that change what is measured, and are handed on. */
static void hand_on(const cli_job *job, GPtrArray *to) {
    const struct {
        const char *option, *value;
    } paths[] = {{"--board", job->board_path},
                 {"--calibration", job->calibration_path},
                 {"--held-out", job->held_out_path},
                 {"--training", job->training_path}};
    for (size_t i = 0; i < G_N_ELEMENTS(paths); i++) {
        if (paths[i].value != NULL) {
            g_ptr_array_add(to, g_strdup(paths[i].option));
            g_ptr_array_add(to, g_canonicalize_filename(paths[i].value, NULL));
        }
    }
    if (job->tolerant) {
        g_ptr_array_add(to, g_strdup("--tolerant"));
    }
    if (job->sample > 0) {
        g_ptr_array_add(to, g_strdup_printf("--sample=%d", job->sample));
    }
}

static GPtrArray *arguments_of(const cli_job *job, const entry *e, const char *folder) {
    GPtrArray *list = g_ptr_array_new_with_free_func(g_free);
    g_ptr_array_add(list, g_file_read_link("/proc/self/exe", NULL));
    g_ptr_array_add(list, g_strdup("weigh"));
    g_ptr_array_add(list, g_canonicalize_filename(e->job.arguments[0], NULL));
    g_ptr_array_add(list, g_strdup("--only"));
    g_ptr_array_add(list, g_strdup(e->name));
    g_ptr_array_add(list, g_strdup("--keep"));
    g_ptr_array_add(list, g_canonicalize_filename(folder, NULL));
    hand_on(job, list);
    g_ptr_array_add(list, NULL);
    return list;
}

/* Status 1 says that a limit is broken: the variant is measured all the same. */
char *weigh_command_line(const cli_job *job, const entry *e) {
    GPtrArray *list = arguments_of(job, e, job->keep);
    GString *line = g_string_new("");
    for (guint i = 0; i + 1 < list->len; i++) {
        char *quoted = g_shell_quote(g_ptr_array_index(list, i));
        g_string_append_printf(line, "%s%s", i > 0 ? " " : "", quoted);
        g_free(quoted);
    }
    g_string_append(line, " || test $? = 1");
    g_ptr_array_free(list, TRUE);
    return g_string_free(line, FALSE);
}

/* Processes at work. */
typedef struct fan {
    cli_job *job;
    entry *entries;
    const char *folder;
    int count, next, running, done, wanted;
    bool good;
} fan;

typedef struct child {
    fan *fan;
    entry *entry;
} child;

static void start_more(fan *f);

static void keep_first_error(fan *f, const entry *e, const char *text) {
    static const char prefix[] = "netsuke: ";
    if (!f->good) {
        return;
    }
    f->good = false;
    text = g_str_has_prefix(text, prefix) ? text + strlen(prefix) : text;
    nsk_fail(&f->job->error, "variant %s: %s", e->name, text);
    g_strchomp(f->job->error.text);
}

static void child_ended(GObject *source, GAsyncResult *result, void *context) {
    GSubprocess *process = G_SUBPROCESS(source);
    child *c = context;
    fan *f = c->fan;
    char *said = NULL;
    GError *reason = NULL;
    g_subprocess_communicate_utf8_finish(process, result, NULL, &said, &reason);
    if (!g_subprocess_get_if_exited(process) || g_subprocess_get_exit_status(process) >= 2) {
        keep_first_error(f, c->entry,
                         said != NULL && said[0] != '\0' ? said
                                                         : "its process ended without a word");
    }
    g_clear_error(&reason);
    g_free(said);
    g_object_unref(process);
    g_free(c);
    f->running--;
    f->done++;
    cli_progress(NULL, f->done, f->wanted);
    start_more(f);
}

static bool start_one(fan *f, entry *e, int threads) {
    GSubprocessLauncher *launcher = g_subprocess_launcher_new(
        (GSubprocessFlags)(G_SUBPROCESS_FLAGS_STDOUT_SILENCE | G_SUBPROCESS_FLAGS_STDERR_PIPE));
    GPtrArray *list = arguments_of(f->job, e, f->folder);
    GError *reason = NULL;
    char *text = g_strdup_printf("%d", threads);
    g_subprocess_launcher_setenv(launcher, "OMP_NUM_THREADS", text, TRUE);
    GSubprocess *process =
        g_subprocess_launcher_spawnv(launcher, (const char *const *)list->pdata, &reason);
    if (process != NULL) {
        child *c = g_new(child, 1);
        *c = (child){f, e};
        f->running++;
        g_subprocess_communicate_utf8_async(process, NULL, NULL, child_ended, c);
    } else {
        keep_first_error(f, e, reason->message);
        g_error_free(reason);
    }
    g_free(text);
    g_ptr_array_free(list, TRUE);
    g_object_unref(launcher);
    return process != NULL;
}

static int jobs_of(const cli_job *job) {
    return job->jobs > 0 ? job->jobs : (int)g_get_num_processors();
}

static void start_more(fan *f) {
    int jobs = MAX(MIN(jobs_of(f->job), f->wanted), 1);
    int threads = MAX((int)g_get_num_processors() / jobs, 1);
    while (f->running < jobs && f->next < f->count) {
        entry *e = &f->entries[f->next++];
        if (!e->is_measured) {
            start_one(f, e, threads);
        }
    }
}

bool weigh_fan_out(cli_job *job, entry *entries, int count, const char *folder) {
    fan f = {.job = job, .entries = entries, .folder = folder, .count = count, .good = true};
    for (int i = 0; i < count; i++) {
        f.wanted += !entries[i].is_measured;
    }
    start_more(&f);
    while (f.running > 0) {
        g_main_context_iteration(NULL, TRUE);
    }
    return f.good;
}
