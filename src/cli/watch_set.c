/* The set that pictures of `netsuke watch` are kept in. */
#include "watch_set.h"

#include <stdlib.h>
#include <string.h>

#include "netsuke/review.h"
#include "netsuke/tools.h"

enum { MOST_STILL = 512 };

struct cli_set {
    const cli_watch *watch;
    cli_serve *serve;
    char *folder;
    nsk_gathering *gathering;
    nsk_images *other; /* which should share no picture with this one, or NULL */
    nsk_error error;   /* of the last step, or "" */
    GThread *thread;   /* that goes through it, or NULL */
    gint stops;        /* atomic */
    GMutex lock;       /* of what follows */
    bool looking, stale;
    int round; /* which time it is: numbers of pictures are those of one round */
    nsk_review *review;
};

/* ---- events ---- */

static void tell_kept(cli_set *s) {
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    json_builder_set_member_name(b, "counts");
    json_builder_begin_array(b);
    for (int i = 0; i < s->watch->context->brief->labels.count; i++) {
        json_builder_add_int_value(b, nsk_gathering_count(s->gathering, i));
    }
    json_builder_end_array(b);
    cli_json_int(b, "steps", nsk_gathering_steps(s->gathering));
    cli_json_text(b, "last", nsk_gathering_last(s->gathering));
    cli_json_text(b, "error", s->error.text);
    json_builder_end_object(b);
    cli_serve_event(s->serve, "kept", cli_watch_text(b), true);
}

static void tell_ready(const cli_set *s) {
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    cli_json_int(b, "round", s->round);
    json_builder_end_object(b);
    cli_serve_event(s->serve, "set", cli_watch_text(b), true);
}

static void tell_progress(void *context, int done, int total) {
    cli_set *s = context;
    if (done % MAX(total / 20, 1) == 0) {
        JsonBuilder *b = json_builder_new();
        json_builder_begin_object(b);
        cli_json_int(b, "done", done);
        cli_json_int(b, "total", total);
        json_builder_end_object(b);
        cli_serve_event(s->serve, "set", cli_watch_text(b), true);
    }
}

static void tell_failure(const cli_set *s, const char *why) {
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    cli_json_text(b, "failed", why);
    json_builder_end_object(b);
    cli_serve_event(s->serve, "set", cli_watch_text(b), true);
}

/* ---- open and close ---- */

static bool is_same(const char *a, const char *b) {
    char *real[] = {realpath(a, NULL), b != NULL ? realpath(b, NULL) : NULL};
    const bool same = real[0] != NULL && real[1] != NULL && strcmp(real[0], real[1]) == 0;
    free(real[0]);
    free(real[1]);
    return same;
}

/* Held-out images, or, where these are they, those of calibration: what can be read of them. */
static nsk_images *open_other(const cli_context *context, const char *folder) {
    const nsk_brief *brief = context->brief;
    const bool held_out = brief->held_out != NULL && !is_same(folder, brief->held_out);
    const char *path = held_out ? brief->held_out : brief->calibration;
    if (path == NULL || is_same(folder, path)) {
        return NULL;
    }
    return nsk_images_open_array(path,
                                 held_out ? brief->held_out_labels : brief->calibration_labels,
                                 &brief->labels, &brief->input, 0, true, NULL);
}

cli_set *cli_set_open(const char *folder, const cli_watch *watch, cli_serve *serve,
                      nsk_error *error) {
    nsk_gathering *gathering = nsk_gathering_open(folder, &watch->context->brief->labels, error);
    if (gathering == NULL) {
        return NULL;
    }
    cli_set *s = g_new0(cli_set, 1);
    s->watch = watch;
    s->serve = serve;
    s->folder = g_strdup(folder);
    s->gathering = gathering;
    s->other = open_other(watch->context, folder);
    g_mutex_init(&s->lock);
    tell_kept(s);
    return s;
}

static void join(cli_set *s) {
    if (s->thread != NULL) {
        g_thread_join(s->thread);
        s->thread = NULL;
    }
}

void cli_set_close(cli_set *set) {
    if (set != NULL) {
        g_atomic_int_set(&set->stops, 1);
        join(set);
        nsk_review_free(set->review);
        nsk_images_free(set->other);
        nsk_gathering_close(set->gathering);
        g_mutex_clear(&set->lock);
        g_free(set->folder);
        g_free(set);
    }
}

/* ---- steps ---- */

bool cli_set_refuse(cli_set *set, const char *why) {
    nsk_fail(&set->error, "%s", why);
    tell_kept(set);
    return false;
}

/* A picture that somebody else has moved or that is new since keeps its name in this round. */
static void follow(cli_set *s) {
    const nsk_moved *moved;
    const int count = nsk_gathering_did(s->gathering, &moved);
    g_mutex_lock(&s->lock);
    for (int i = 0; i < count; i++) {
        s->stale = s->stale || moved[i].from[0] == '\0';
        for (int k = 0; s->review != NULL && k < s->review->count; k++) {
            nsk_reviewed *p = &s->review->picture[k];
            if (strcmp(p->name, moved[i].from) == 0) {
                g_free(p->name);
                p->name = g_strdup(moved[i].to);
                p->label = nsk_gathering_label(s->gathering, p->name);
                break;
            }
        }
    }
    const bool has = s->review != NULL && !s->looking;
    g_mutex_unlock(&s->lock);
    tell_kept(s);
    if (has && count > 0) {
        tell_ready(s);
    }
}

static bool is_looking(cli_set *s) {
    g_mutex_lock(&s->lock);
    const bool looking = s->looking;
    g_mutex_unlock(&s->lock);
    return looking;
}

bool cli_set_take(cli_set *set, const uint8_t *rgb, int width, int height, int label,
                  const char *answer, double probability) {
    set->error.text[0] = '\0';
    const bool good = nsk_gathering_take(set->gathering, rgb, width, height, label, answer,
                                         probability, &set->error);
    follow(set);
    return good;
}

bool cli_set_back(cli_set *set) {
    if (is_looking(set)) {
        return cli_set_refuse(set, "wait until all pictures have been looked at");
    }
    set->error.text[0] = '\0';
    const bool good = nsk_gathering_back(set->gathering, &set->error);
    follow(set);
    return good;
}

/* Their names, NULL at the end; NULL where they are not all of this round. */
static char **names_of(cli_set *s, const cli_request *request) {
    GPtrArray *names = g_ptr_array_new();
    g_mutex_lock(&s->lock);
    bool good =
        s->review != NULL && !s->looking && request->round == s->round && request->count > 0;
    for (int i = 0; i < request->count && good; i++) {
        const int number = request->numbers[i];
        good = number >= 0 && number < s->review->count;
        if (good) {
            g_ptr_array_add(names, g_strdup(s->review->picture[number].name));
        }
    }
    g_mutex_unlock(&s->lock);
    g_ptr_array_add(names, NULL);
    char **list = (char **)g_ptr_array_free(names, FALSE);
    if (!good) {
        g_strfreev(list);
        return NULL;
    }
    return list;
}

bool cli_set_move(cli_set *set, const cli_request *request, bool aside) {
    char **names = names_of(set, request);
    if (names == NULL) {
        return cli_set_refuse(set, "these pictures are not known: look at the set again");
    }
    set->error.text[0] = '\0';
    const bool good = nsk_gathering_move(set->gathering, (const char *const *)names, request->count,
                                         aside ? NSK_SET_ASIDE : request->label, &set->error);
    g_strfreev(names);
    follow(set);
    return good;
}

/* ---- going through it ---- */

static gpointer look(gpointer data) {
    cli_set *s = data;
    const cli_context *context = s->watch->context;
    nsk_error error = {.text = ""};
    const nsk_review_setup setup = {.folder = s->folder,
                                    .network = context->equalised != NULL ? context->equalised
                                                                          : context->network,
                                    .model = context->model,
                                    .labels = &context->brief->labels,
                                    .input = &context->brief->input,
                                    .other = s->other,
                                    .stops = &s->stops};
    nsk_review *review = nsk_review_make(&setup, tell_progress, s, &error);
    g_mutex_lock(&s->lock);
    s->looking = false;
    nsk_review_free(s->review);
    s->review = review;
    s->round++;
    g_mutex_unlock(&s->lock);
    if (review != NULL) {
        tell_ready(s);
    } else {
        tell_failure(s, error.text);
    }
    return NULL;
}

bool cli_set_look(cli_set *set) {
    g_mutex_lock(&set->lock);
    const bool begins = !set->looking && (set->review == NULL || set->stale);
    set->looking = set->looking || begins;
    set->stale = set->stale && !begins;
    g_mutex_unlock(&set->lock);
    if (begins) {
        join(set);
        set->thread = g_thread_new("look through", look, set);
    }
    return true;
}

/* ---- what the page asks for ---- */

static void add_picture(JsonBuilder *b, const nsk_reviewed *p, int number) {
    json_builder_begin_object(b);
    cli_json_int(b, "number", number);
    cli_json_text(b, "name", p->name);
    cli_json_int(b, "label", p->label);
    cli_json_int(b, "answer", p->answer);
    cli_json_real(b, "sure", p->sure);
    cli_json_real(b, "own", p->own);
    if (p->is_placed) {
        cli_json_real(b, "x", p->x);
        cli_json_real(b, "y", p->y);
        json_builder_set_member_name(b, "near");
        json_builder_begin_array(b);
        for (int k = 0; k < p->neighbours; k++) {
            json_builder_add_int_value(b, p->nearest[k]);
        }
        json_builder_end_array(b);
    }
    if (p->is_astray) {
        cli_json_int(b, "astray", 1);
    }
    if (p->twin >= 0) {
        cli_json_int(b, "twin", p->twin);
    }
    if (p->twin_elsewhere != NULL) {
        cli_json_text(b, "elsewhere", p->twin_elsewhere);
    }
    json_builder_end_object(b);
}

char *cli_set_list(cli_set *set) {
    JsonBuilder *b = json_builder_new();
    g_mutex_lock(&set->lock);
    const nsk_review *review = set->review;
    json_builder_begin_object(b);
    cli_json_text(b, "folder", set->folder);
    cli_json_int(b, "round", set->round);
    cli_json_int(b, "unreadable", review != NULL ? review->left_out : 0);
    cli_json_text(b, "unplaced",
                  review != NULL && review->unplaced != NULL ? review->unplaced : "");
    json_builder_set_member_name(b, "pictures");
    json_builder_begin_array(b);
    for (int i = 0; review != NULL && i < review->count; i++) {
        add_picture(b, &review->picture[i], i);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    g_mutex_unlock(&set->lock);
    return cli_watch_text(b);
}

char *cli_set_still(cli_set *set, const cli_request *request, size_t *size) {
    char *path = NULL;
    g_mutex_lock(&set->lock);
    if (set->review != NULL && request->round == set->round && request->number >= 0 &&
        request->number < set->review->count) {
        path = g_build_filename(set->folder, set->review->picture[request->number].name, NULL);
    }
    g_mutex_unlock(&set->lock);
    nsk_error ignored;
    char *bytes = path != NULL ? nsk_review_still(path, MOST_STILL, size, &ignored) : NULL;
    g_free(path);
    return bytes;
}
