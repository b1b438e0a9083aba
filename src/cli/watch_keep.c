/* Pictures of `netsuke watch` that are kept. */
#include "watch_keep.h"

#include <string.h>

#include "netsuke/classify.h"

enum { RECENT = 24 }; /* pictures that can still be kept: some seconds, until a hand has moved */

typedef struct recent {
    long number;
    int width, height;
    uint8_t *rgb; /* NULL: none yet */
    const char *answer;
    double probability;
} recent;

struct cli_keep {
    const cli_watch *watch;
    cli_set *set;
    GMutex lock; /* of what follows */
    recent recent[RECENT], offered[CLI_OFFERED];
    int next, next_offered;
};

cli_keep *cli_keep_open(const cli_watch *watch, cli_set *set) {
    cli_keep *k = g_new0(cli_keep, 1);
    k->watch = watch;
    k->set = set;
    g_mutex_init(&k->lock);
    return k;
}

static void clear(recent *recents, int count) {
    for (int i = 0; i < count; i++) {
        g_free(recents[i].rgb);
    }
}

void cli_keep_close(cli_keep *keep) {
    if (keep != NULL) {
        clear(keep->recent, RECENT);
        clear(keep->offered, CLI_OFFERED);
        g_mutex_clear(&keep->lock);
        g_free(keep);
    }
}

static void put(recent *to, const nsk_live_frame *frame, const char *answer, double probability) {
    g_free(to->rgb);
    *to = (recent){.number = frame->number,
                   .width = frame->width,
                   .height = frame->height,
                   .rgb = g_memdup2(frame->rgb, (gsize)frame->width * (gsize)frame->height * 3),
                   .answer = answer,
                   .probability = probability};
}

void cli_keep_note(cli_keep *keep, const nsk_live_frame *frame, const char *worth) {
    const nsk_labels *labels = &keep->watch->context->brief->labels;
    const bool answered = frame->fault == NSK_FAULT_NONE;
    const int best = answered ? nsk_ranked(frame->by_integer, labels->count, 0) : 0;
    const char *answer = answered ? labels->names[best] : cli_watch_fault(frame->fault);
    const double probability = answered ? (double)frame->by_integer[best] : 0.0;
    g_mutex_lock(&keep->lock);
    put(&keep->recent[keep->next], frame, answer, probability);
    keep->next = (keep->next + 1) % RECENT;
    if (worth != NULL) {
        put(&keep->offered[keep->next_offered], frame, answer, probability);
        keep->next_offered = (keep->next_offered + 1) % CLI_OFFERED;
    }
    g_mutex_unlock(&keep->lock);
}

static const recent *find(const recent *recents, int count, int number) {
    for (int i = 0; i < count; i++) {
        if (recents[i].rgb != NULL && recents[i].number == number) {
            return &recents[i];
        }
    }
    return NULL;
}

bool cli_keep_take(cli_keep *keep, int number, int label) {
    g_mutex_lock(&keep->lock);
    const recent *r = find(keep->recent, RECENT, number);
    r = r != NULL ? r : find(keep->offered, CLI_OFFERED, number);
    const bool good = r != NULL && cli_set_take(keep->set, r->rgb, r->width, r->height, label,
                                                r->answer, r->probability);
    g_mutex_unlock(&keep->lock);
    if (r == NULL) {
        char *why =
            g_strdup_printf("picture %d is gone: only the last %d can be kept", number, RECENT);
        cli_set_refuse(keep->set, why);
        g_free(why);
    }
    return good;
}
