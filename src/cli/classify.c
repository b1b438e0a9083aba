/* netsuke classify: what both models say of single pictures. */
#include <math.h>
#include <stdio.h>

#include "base/base.h"
#include "command.h"
#include "images/set.h"
#include "table.h"

enum { MOST_SHOWN = 5 };

/* Both models' probabilities of one picture. */
typedef struct opinion {
    float *by_float, *by_integer;
} opinion;

typedef struct classifier {
    cli_job *job;
    nsk_model model;
    void *workspace;
    uint8_t *frame;
} classifier;

static bool classify(const classifier *c, const char *path, opinion *o) {
    cli_job *job = c->job;
    if (!nsk_picture_frame(path, &job->brief->input, c->frame, &job->error) ||
        !nsk_network_score(job->network, &job->brief->input, c->frame, o->by_float, &job->error)) {
        return false;
    }
    nsk_prepare(&c->model, c->frame, (size_t)c->model.width * c->model.channels, c->workspace);
    nsk_run(&c->model, c->workspace, NULL);
    nsk_probabilities(&c->model, nsk_scores(&c->model, c->workspace), o->by_integer);
    return true;
}

/* The class with the `place`-th highest probability; the first of equals. */
static int ranked(const float *probabilities, int classes, int place) {
    for (int c = 0; c < classes; c++) {
        int before = 0;
        for (int k = 0; k < classes; k++) {
            before += probabilities[k] > probabilities[c] ||
                      (!(probabilities[k] < probabilities[c]) && k < c);
        }
        if (before == place) {
            return c;
        }
    }
    return 0;
}

static void json_ranking(JsonBuilder *b, const char *name, const float *probabilities,
                         const nsk_labels *labels) {
    json_builder_set_member_name(b, name);
    json_builder_begin_array(b);
    for (int i = 0; i < labels->count; i++) {
        int c = ranked(probabilities, labels->count, i);
        json_builder_begin_object(b);
        cli_json_text(b, "class", labels->names[c]);
        cli_json_real(b, "probability", (double)probabilities[c]);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
}

static void print_json(const cli_job *job, const opinion *opinions, guint count) {
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    json_builder_set_member_name(b, "images");
    json_builder_begin_array(b);
    for (guint i = 0; i < count; i++) {
        json_builder_begin_object(b);
        cli_json_text(b, "path", job->arguments[i + 1]);
        json_ranking(b, "float", opinions[i].by_float, &job->brief->labels);
        json_ranking(b, "integer", opinions[i].by_integer, &job->brief->labels);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    cli_print_json(b);
}

static void print_opinion(const char *path, const opinion *o, const nsk_labels *labels) {
    printf("%s\n", path);
    cli_table *table = cli_table_new("llrlr");
    cli_table_row(table, "  \tfloat\t\tinteger\t");
    for (int i = 0; i < MIN(labels->count, MOST_SHOWN); i++) {
        int f = ranked(o->by_float, labels->count, i);
        int q = ranked(o->by_integer, labels->count, i);
        cli_table_row(table, "  %d\t%s\t%.1f %%\t%s\t%.1f %%", i + 1, labels->names[f],
                      100.0 * (double)o->by_float[f], labels->names[q],
                      100.0 * (double)o->by_integer[q]);
    }
    cli_table_print(table);
}

static int report(const classifier *c) {
    cli_job *job = c->job;
    guint count = g_strv_length(job->arguments) - 1;
    guint classes = c->model.classes;
    opinion *opinions = g_new0(opinion, count);
    float *probabilities = g_new0(float, (gsize)2 * count * classes);
    bool good = true;
    for (guint i = 0; i < count && good; i++) {
        opinions[i].by_float = probabilities + (gsize)2 * i * classes;
        opinions[i].by_integer = opinions[i].by_float + classes;
        good = classify(c, job->arguments[i + 1], &opinions[i]);
    }
    if (good && job->json) {
        print_json(job, opinions, count);
    }
    for (guint i = 0; i < count && good && !job->json; i++) {
        fputs(i > 0 ? "\n" : "", stdout);
        print_opinion(job->arguments[i + 1], &opinions[i], &job->brief->labels);
    }
    g_free(probabilities);
    g_free(opinions);
    return good ? CLI_DONE : cli_fail(job);
}

static int run(cli_job *job) {
    classifier c = {.job = job};
    if (!cli_load_network(job) || !cli_load_model(job)) {
        return cli_fail(job);
    }
    nsk_open(&c.model, job->model->bytes, job->model->size);
    if (!cli_check_model(job, &c.model)) {
        return cli_fail(job);
    }
    c.workspace = g_malloc(c.model.workspace_bytes);
    c.frame = g_malloc(nsk_frame_bytes(&job->brief->input));
    int status = report(&c);
    g_free(c.workspace);
    g_free(c.frame);
    return status;
}

const cli_command cli_classify = {
    "classify",
    "what both models say of single pictures",
    "BRIEF IMAGE...",
    "  netsuke classify demo/kiln.ini demo/images/held-out/crack/crack-0003.png\n"
    "ranks the classes, float beside integer.",
    2,
    10000,
    "model calibration tolerant",
    run,
};
