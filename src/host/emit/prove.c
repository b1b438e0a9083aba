/* What can be shown of a hand-over for every frame: by the script that it has for that. */
#include <string.h>
#include <sys/wait.h>

#include "base/base.h"
#include "netsuke/emit.h"

/* As proof/prove.sh has them. */
enum { NO_ALARM = 0, ALARMS = 1, NOTHING_SHOWN = 2 };

char *nsk_handed_prove(const char *folder, bool *alarms, nsk_error *error) {
    char *script = g_build_filename(folder, "proof", "prove.sh", NULL);
    char *arguments[] = {(char *)"sh", script, NULL};
    char *out = NULL;
    char *said = NULL;
    int wait = 0;
    GError *reason = NULL;
    if (!g_spawn_sync(NULL, arguments, NULL, G_SPAWN_SEARCH_PATH, NULL, NULL, &out, &said, &wait,
                      &reason)) {
        nsk_fail(error, "%s: %s", script, reason->message);
        g_error_free(reason);
    } else {
        int status = WIFEXITED(wait) ? WEXITSTATUS(wait) : NOTHING_SHOWN;
        *alarms = status != NO_ALARM;
        if (status != NO_ALARM && status != ALARMS) {
            said[strcspn(said, "\n")] = '\0';
            nsk_fail(error, "--prove: %s", *said != '\0' ? said : "it ended without a word");
            g_clear_pointer(&out, g_free);
        }
    }
    g_free(said);
    g_free(script);
    return out != NULL ? g_strchomp(out) : NULL;
}
