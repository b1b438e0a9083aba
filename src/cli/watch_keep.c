/* Pictures of `netsuke watch` that are kept. */
#include "watch_keep.h"

#include <string.h>

#include "netsuke/classify.h"

enum { RECENT = 24 }; /* pictures that can still be kept: some seconds, until a hand has moved */

typedef struct recent {
    long number; /* -1: none */
    int width, height;
    uint8_t *rgb;
    const char *answer;
    double probability;
} recent;

struct cli_keep {
    const cli_watch *watch;
    nsk_gathering *gathering;
    GMutex lock;
    recent recent[RECENT];
    int next;
    nsk_error error; /* of the last step, or "" */
};

cli_keep *cli_keep_open(const char *folder, const cli_watch *watch, nsk_error *error) {
    nsk_gathering *gathering = nsk_gathering_open(folder, &watch->context->brief->labels, error);
    if (gathering == NULL) {
        return NULL;
    }
    cli_keep *k = g_new0(cli_keep, 1);
    k->watch = watch;
    k->gathering = gathering;
    g_mutex_init(&k->lock);
    for (int i = 0; i < RECENT; i++) {
        k->recent[i].number = -1;
    }
    return k;
}

void cli_keep_close(cli_keep *keep) {
    if (keep != NULL) {
        for (int i = 0; i < RECENT; i++) {
            g_free(keep->recent[i].rgb);
        }
        nsk_gathering_close(keep->gathering);
        g_mutex_clear(&keep->lock);
        g_free(keep);
    }
}

void cli_keep_note(cli_keep *keep, const nsk_live_frame *frame) {
    const nsk_labels *labels = &keep->watch->context->brief->labels;
    const bool answered = frame->fault == NSK_FAULT_NONE;
    const int best = answered ? nsk_ranked(frame->by_integer, labels->count, 0) : 0;
    g_mutex_lock(&keep->lock);
    recent *r = &keep->recent[keep->next];
    keep->next = (keep->next + 1) % RECENT;
    g_free(r->rgb);
    *r = (recent){.number = frame->number,
                  .width = frame->width,
                  .height = frame->height,
                  .rgb = g_memdup2(frame->rgb, (gsize)frame->width * (gsize)frame->height * 3),
                  .answer = answered ? labels->names[best] : cli_watch_fault(frame->fault),
                  .probability = answered ? (double)frame->by_integer[best] : 0.0};
    g_mutex_unlock(&keep->lock);
}

/* By the lock. */
static bool take(cli_keep *k, int number, int label) {
    for (int i = 0; i < RECENT; i++) {
        const recent *r = &k->recent[i];
        if (r->number == number && r->rgb != NULL) {
            return nsk_gathering_take(k->gathering, r->rgb, r->width, r->height, label, r->answer,
                                      r->probability, &k->error);
        }
    }
    return nsk_fail(&k->error, "picture %d is gone: only the last %d can be kept", number, RECENT);
}

bool cli_keep_take(cli_keep *keep, int number, int label) {
    g_mutex_lock(&keep->lock);
    keep->error.text[0] = '\0';
    const bool good = take(keep, number, label);
    g_mutex_unlock(&keep->lock);
    return good;
}

bool cli_keep_back(cli_keep *keep) {
    g_mutex_lock(&keep->lock);
    keep->error.text[0] = '\0';
    const bool good = nsk_gathering_back(keep->gathering, &keep->error);
    g_mutex_unlock(&keep->lock);
    return good;
}

char *cli_keep_event(cli_keep *keep) {
    JsonBuilder *b = json_builder_new();
    g_mutex_lock(&keep->lock);
    json_builder_begin_object(b);
    json_builder_set_member_name(b, "counts");
    json_builder_begin_array(b);
    for (int i = 0; i < keep->watch->context->brief->labels.count; i++) {
        json_builder_add_int_value(b, nsk_gathering_count(keep->gathering, i));
    }
    json_builder_end_array(b);
    cli_json_int(b, "steps", nsk_gathering_steps(keep->gathering));
    cli_json_text(b, "last", nsk_gathering_last(keep->gathering));
    cli_json_text(b, "error", keep->error.text);
    json_builder_end_object(b);
    g_mutex_unlock(&keep->lock);
    JsonNode *root = json_builder_get_root(b);
    char *text = json_to_string(root, FALSE);
    json_node_unref(root);
    g_object_unref(b);
    return text;
}
