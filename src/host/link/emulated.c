/* A hand-over in an emulator as a carrier: its serial line is a socket of this machine. */
#include <gio/gio.h>
#include <signal.h>
#include <string.h>
#if defined(__linux__)
#include <sys/prctl.h>
#endif

#include "netsuke/budget.h"
#include "netsuke/emit.h"
#include "stream.h"

typedef struct emulated {
    nsk_stream line;
    GSubprocess *emulator;
    char *folder;
} emulated;

static void remove_folder(const char *folder) {
    char *arguments[] = {(char *)"rm", (char *)"-rf", (char *)"--", (char *)folder, NULL};
    g_spawn_sync(NULL, arguments, NULL, G_SPAWN_SEARCH_PATH, NULL, NULL, NULL, NULL, NULL, NULL);
}

static bool send_all(void *of, const uint8_t *bytes, size_t count, nsk_error *error) {
    const nsk_stream *line = &((emulated *)of)->line;
    return line->carrier->send(line->of, bytes, count, error);
}

static void take_away(emulated *e) {
    if (e->folder != NULL) {
        remove_folder(e->folder);
        g_clear_pointer(&e->folder, g_free);
    }
}

/* What answers has been loaded: nothing of the folder is needed any more, and nobody who ends this
 * process later leaves it behind. */
static int receive(void *of, uint8_t *to, int most, int milliseconds, nsk_error *error) {
    emulated *e = of;
    const int came = e->line.carrier->receive(e->line.of, to, most, milliseconds, error);
    if (came > 0) {
        take_away(e);
    }
    return came;
}

static void end(void *of) {
    emulated *e = of;
    nsk_stream_close(&e->line);
    if (e->emulator != NULL) {
        g_subprocess_force_exit(e->emulator);
        g_subprocess_wait(e->emulator, NULL, NULL);
        g_object_unref(e->emulator);
    }
    take_away(e);
    g_free(e);
}

/* What make printed, where it could do what it was asked for. g_free. */
static char *make(const char *folder, const char *core, const char *target, nsk_error *error) {
    char *setting = g_strdup_printf("CORE=%s", core);
    char *arguments[] = {(char *)"make", (char *)"-s", (char *)"-j",   (char *)"-C",
                         (char *)folder, setting,      (char *)target, NULL};
    char **environment = g_environ_unsetenv(g_get_environ(), "MAKEFLAGS");
    char *out = NULL;
    char *said = NULL;
    int status = 0;
    GError *reason = NULL;
    if (!g_spawn_sync(NULL, arguments, environment, G_SPAWN_SEARCH_PATH, NULL, NULL, &out, &said,
                      &status, &reason)) {
        nsk_fail_system(error, "make cannot be started: %s", reason->message);
        g_error_free(reason);
    } else if (status != 0) {
        said[strcspn(said, "\n")] = '\0';
        nsk_fail(error, "emulate:%s: the hand-over cannot be built for it: %s", core, said);
        g_clear_pointer(&out, g_free);
    }
    g_free(said);
    g_free(setting);
    g_strfreev(environment);
    return out;
}

/* An emulator goes with the process that started it, however that ends. */
static void go_with_parent(gpointer nothing) {
    (void)nothing;
#if defined(__linux__)
    prctl(PR_SET_PDEATHSIG, SIGKILL);
#endif
}

/* The emulator with the image, its serial line at `path`: the command is the hand-over's own. */
static GSubprocess *start(const char *folder, const char *core, const char *path,
                          nsk_error *error) {
    char *command = make(folder, core, "link-command", error);
    if (command == NULL) {
        return NULL;
    }
    GError *reason = NULL;
    char *all = g_strdup_printf("%s -serial unix:%s,server=on", g_strchomp(command), path);
    char **words = g_strsplit(all, " ", -1);
    GSubprocessLauncher *launcher = g_subprocess_launcher_new(G_SUBPROCESS_FLAGS_STDOUT_SILENCE |
                                                              G_SUBPROCESS_FLAGS_STDERR_SILENCE);
    g_subprocess_launcher_set_cwd(launcher, folder);
    g_subprocess_launcher_set_child_setup(launcher, go_with_parent, NULL, NULL);
    GSubprocess *emulator =
        g_subprocess_launcher_spawnv(launcher, (const char *const *)words, &reason);
    if (emulator == NULL) {
        nsk_fail_system(error, "emulate:%s: %s", core, reason->message);
        g_error_free(reason);
    }
    g_object_unref(launcher);
    g_strfreev(words);
    g_free(all);
    g_free(command);
    return emulator;
}

/* Is it one of those that the hand-over has a board of? Before anything is done with its name. */
static bool is_core(const char *folder, const char *core, nsk_error *error) {
    char *path = g_build_filename(folder, "board", "cores.mk", NULL);
    char *text = NULL;
    g_file_get_contents(path, &text, NULL, NULL);
    char *list = text != NULL ? strstr(text, "\nCORES := ") : NULL;
    list = list != NULL ? list + strlen("\nCORES := ") : (char *)"";
    char *line = g_strndup(list, strcspn(list, "\n"));
    char **cores = g_strsplit(line, " ", -1);
    bool good = g_strv_contains((const char *const *)cores, core);
    if (!good) {
        char *all = g_strjoinv(", ", cores);
        char *meant = nsk_did_you_mean(core, (const char *const *)cores);
        nsk_fail(error, "emulate:%s: the cores that are emulated are %s%s", core, all, meant);
        nsk_string_free(meant);
        g_free(all);
    }
    g_strfreev(cores);
    g_free(line);
    g_free(text);
    g_free(path);
    return good;
}

bool nsk_stream_emulated(nsk_stream *stream, const char *core, const nsk_handed_network *network,
                         nsk_error *error) {
    static const nsk_carrier carrier = {send_all, receive, end};
    GError *reason = NULL;
    char *scratch = g_dir_make_tmp("netsuke-XXXXXX", &reason);
    if (scratch == NULL) {
        nsk_fail_system(error, "%s", reason->message);
        g_error_free(reason);
        return false;
    }
    emulated *e = g_new0(emulated, 1);
    char *folder = g_build_filename(scratch, "handed", NULL);
    char *path = g_build_filename(scratch, "line", NULL);
    e->folder = scratch;
    const nsk_board board = {.name = (char *)core, .core = (char *)core};
    nsk_handed_network its = *network;
    its.board = &board; /* for the order of its weights */
    char **files = nsk_emit(&its, 1, folder, error);
    char *built =
        files != NULL && is_core(folder, core, error) ? make(folder, core, "link", error) : NULL;
    bool good = built != NULL && (e->emulator = start(folder, core, path, error)) != NULL &&
                nsk_stream_local(&e->line, path, error);
    g_strfreev(files);
    g_free(built);
    g_free(path);
    g_free(folder);
    stream->carrier = &carrier;
    stream->of = e;
    if (!good) {
        nsk_stream_close(stream);
    }
    return good;
}
