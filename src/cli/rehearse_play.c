/* Playing films on the simulated board. */
#include <string.h>

#include "rehearse.h"

static void clear_play(void *data) {
    play *p = data;
    nsk_rehearsal_free(p->rehearsal);
    nsk_budget_free(p->budget);
    nsk_film_free(p->film);
    g_free(p->name);
}

void rehearse_begin(rehearse_run *s, cli_context *context, const rehearse_options *own) {
    *s = (rehearse_run){
        .context = context, .own = own, .plays = g_array_new(FALSE, TRUE, sizeof(play))};
    g_array_set_clear_func(s->plays, clear_play);
}

void rehearse_end(rehearse_run *s) {
    g_array_free(s->plays, TRUE);
}

static bool read_faults(rehearse_run *s) {
    for (char **text = s->own->faults; text != NULL && *text != NULL; text++) {
        if (s->injection_count == MOST_INJECTIONS) {
            return nsk_fail(&s->context->error, "--fault: at most %d", MOST_INJECTIONS);
        }
        if (!nsk_injection_parse(*text, &s->injections[s->injection_count++], &s->context->error)) {
            return false;
        }
    }
    return true;
}

static bool run_play(const rehearse_run *s, play *p) {
    cli_context *context = s->context;
    p->budget = nsk_budget_make(context->model, context->board, &p->product,
                                &context->brief->limits, &context->error);
    p->stage = (nsk_stage){.model = context->model,
                           .board = context->board,
                           .budget = p->budget,
                           .product = &p->product,
                           .decision = &context->brief->decision,
                           .film = p->film,
                           .injections = s->injections,
                           .injection_count = s->injection_count,
                           .capture = s->own->capture};
    p->rehearsal = p->budget != NULL ? nsk_rehearse(&p->stage, &context->error) : NULL;
    return p->rehearsal != NULL;
}

static char *stem_of(const char *path) {
    char *name = g_path_get_basename(path);
    char *dot = strrchr(name, '.');
    if (dot != NULL) {
        *dot = '\0';
    }
    return name;
}

static bool add_scene(const rehearse_run *s, const char *path) {
    cli_context *context = s->context;
    nsk_film *film = nsk_film_read(path, &context->brief->labels, &context->brief->input,
                                   &context->brief->product, s->own->frames, &context->error);
    const play one = {.name = stem_of(path), .film = film, .product = context->brief->product};
    g_array_append_val(s->plays, one);
    return film != NULL;
}

static bool add_films(const rehearse_run *s) {
    cli_context *context = s->context;
    if (s->own->scene != NULL) {
        return add_scene(s, s->own->scene);
    }
    if (s->own->scenes) {
        char **scene = context->brief->scenes;
        if (scene == NULL) {
            return nsk_fail(&context->error,
                            "%s: no scenes; name them under [rehearsal], or one with --scene",
                            context->brief->path);
        }
        bool good = true;
        for (; *scene != NULL && good; scene++) {
            good = add_scene(s, *scene);
        }
        return good;
    }
    if (!cli_load_held_out(context)) {
        return false;
    }
    const play one = {
        .name = g_strdup("held-out"),
        .film = nsk_film_of_set(context->held_out, s->own->frames, (unsigned)s->own->seed),
        .product = context->brief->product};
    g_array_append_val(s->plays, one);
    return true;
}

bool rehearse_play(rehearse_run *s) {
    cli_context *context = s->context;
    if (!cli_load_board(context) || !cli_load_model(context) || !cli_check_own_model(context) ||
        !read_faults(s) || !add_films(s)) {
        return false;
    }
    for (guint i = 0; i < s->plays->len; i++) {
        if (!run_play(s, play_at(s, i))) {
            return false;
        }
        cli_progress(NULL, (int)i + 1, (int)s->plays->len);
    }
    return true;
}

void rehearse_judge(const rehearse_run *s, nsk_verdict *verdict) {
    nsk_rehearsed_counts sum = {0};
    for (guint i = 0; i < s->plays->len; i++) {
        nsk_rehearsal_count(play_at(s, i)->rehearsal, s->own->scene != NULL || s->own->scenes,
                            &sum);
    }
    if (s->injection_count == 0 && sum.frames > 0) {
        nsk_judge_rehearsal(verdict, &sum, &s->context->brief->limits);
    }
}
