/* netsuke classify: what both models say of single pictures. */
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "command.h"
#include "draw/sheet.h"
#include "images/set.h"
#include "table.h"

enum { MOST_SHOWN = 5, MOST_RANKED = 6, COLUMNS = 10, MOST_ON_SHEET = 400 };

/* One picture and both models' probabilities. */
typedef struct opinion {
    char *path; /* "-": standard input */
    int truth;  /* label of the folder that it stands in, or -1 */
    float *by_float, *by_integer;
    uint8_t *frame;
} opinion;

typedef struct classifier {
    cli_job *job;
    nsk_model model;
    void *workspace;
    GArray *opinions;
} classifier;

/* ---- which pictures ---- */

static void add_picture(const classifier *c, char *path) {
    char *folder = g_path_get_dirname(path);
    char *name = g_path_get_basename(folder);
    opinion o = {.path = path, .truth = nsk_label_index(&c->job->brief->labels, name)};
    g_array_append_val(c->opinions, o);
    g_free(folder);
    g_free(name);
}

/* A file, a folder of any depth, or standard input. */
static bool add_argument(const classifier *c, const char *argument) {
    if (strcmp(argument, "-") == 0 || !g_file_test(argument, G_FILE_TEST_IS_DIR)) {
        add_picture(c, g_strdup(argument));
        return true;
    }
    GPtrArray *paths = g_ptr_array_new();
    bool good = nsk_list_pictures(argument, paths, &c->job->error) != false;
    if (good && paths->len == 0) {
        g_snprintf(c->job->error.text, sizeof c->job->error.text,
                   "%s: no picture in this folder; give one that has some", argument);
        good = false;
    }
    for (guint i = 0; i < paths->len; i++) {
        add_picture(c, paths->pdata[i]);
    }
    g_ptr_array_free(paths, TRUE);
    return good;
}

/* ---- what the models say ---- */

static bool read_standard_input(nsk_picture *picture, nsk_error *error) {
    const size_t MOST = (size_t)256 << 20;
    GByteArray *bytes = g_byte_array_new();
    uint8_t chunk[4096];
    size_t count = fread(chunk, 1, sizeof chunk, stdin);
    while (count > 0 && bytes->len < MOST) {
        g_byte_array_append(bytes, chunk, (guint)count);
        count = fread(chunk, 1, sizeof chunk, stdin);
    }
    bool good = nsk_picture_decode(bytes->data, bytes->len, picture, error);
    g_byte_array_free(bytes, TRUE);
    return good || nsk_fail_in(error, "standard input");
}

static bool classify(const classifier *c, opinion *o) {
    cli_job *job = c->job;
    nsk_picture picture;
    bool good = strcmp(o->path, "-") == 0 ? read_standard_input(&picture, &job->error)
                                          : nsk_picture_named(o->path, &picture, &job->error);
    if (!good) {
        return false;
    }
    o->frame = g_malloc(nsk_frame_bytes(&job->brief->input));
    o->by_float = g_new(float, c->model.classes);
    o->by_integer = g_new(float, c->model.classes);
    nsk_picture_to_frame(&picture, &job->brief->input, o->frame);
    nsk_picture_clear(&picture);
    if (!nsk_network_score(job->network, &job->brief->input, o->frame, o->by_float, &job->error)) {
        return false;
    }
    nsk_prepare(&c->model, o->frame, (size_t)c->model.width * c->model.channels, c->workspace);
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

/* ---- machine-readable ---- */

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

static void print_json(const classifier *c) {
    const nsk_labels *labels = &c->job->brief->labels;
    JsonBuilder *b = cli_json_start(c->job);
    json_builder_set_member_name(b, "images");
    json_builder_begin_array(b);
    for (guint i = 0; i < c->opinions->len; i++) {
        const opinion *o = &g_array_index(c->opinions, opinion, i);
        json_builder_begin_object(b);
        cli_json_text(b, "path", o->path);
        json_builder_set_member_name(b, "label");
        if (o->truth >= 0) {
            json_builder_add_string_value(b, labels->names[o->truth]);
        } else {
            json_builder_add_null_value(b);
        }
        json_ranking(b, "float", o->by_float, labels);
        json_ranking(b, "integer", o->by_integer, labels);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    cli_print_json(b);
}

/* ---- for people ---- */

static void print_ranking(const opinion *o, const nsk_labels *labels) {
    bool named = strcmp(o->path, "-") != 0;
    printf("%s%s%s\n", named ? o->path : "standard input",
           o->truth >= 0 ? ", whose folder says " : "",
           o->truth >= 0 ? labels->names[o->truth] : "");
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

/* One line a picture, and how many were right where that is known. */
static void print_list(const classifier *c) {
    const nsk_labels *labels = &c->job->brief->labels;
    int known = 0;
    int right[2] = {0, 0};
    cli_table *table = cli_table_new("lllrlrl");
    cli_table_row(table, "picture\tfolder\tfloat\t\tinteger\t\t");
    for (guint i = 0; i < c->opinions->len; i++) {
        const opinion *o = &g_array_index(c->opinions, opinion, i);
        char *name = g_path_get_basename(o->path);
        int f = ranked(o->by_float, labels->count, 0);
        int q = ranked(o->by_integer, labels->count, 0);
        bool wrong = o->truth >= 0 && q != o->truth;
        cli_table_row(table, "%s\t%s\t%s\t%.1f %%\t%s\t%.1f %%\t%s", name,
                      o->truth >= 0 ? labels->names[o->truth] : "", labels->names[f],
                      100.0 * (double)o->by_float[f], labels->names[q],
                      100.0 * (double)o->by_integer[q],
                      f != q  ? "differ"
                      : wrong ? "wrong"
                              : "");
        known += o->truth >= 0;
        right[0] += f == o->truth;
        right[1] += q == o->truth;
        g_free(name);
    }
    cli_table_print(table);
    if (known > 0) {
        printf("\n%d of %d have a folder that tells; float is right on %d, integer on %d\n", known,
               (int)c->opinions->len, right[0], right[1]);
    }
}

static bool draw_sheet(const classifier *c) {
    const nsk_labels *labels = &c->job->brief->labels;
    const nsk_input *input = &c->job->brief->input;
    int shown = MIN((int)c->opinions->len, MOST_ON_SHEET);
    char *title = g_strdup_printf("Float above, integer below%s",
                                  shown < (int)c->opinions->len ? "; the first 400" : "");
    nsk_sheet *sheet =
        nsk_sheet_new(title, input->width, input->height, MAX(4, MIN(shown, COLUMNS)));
    nsk_sheet_row(sheet, NULL);
    for (int i = 0; i < shown; i++) {
        const opinion *o = &g_array_index(c->opinions, opinion, i);
        int best[2] = {ranked(o->by_float, labels->count, 0),
                       ranked(o->by_integer, labels->count, 0)};
        char *says[2];
        nsk_picture picture;
        says[0] = g_strdup_printf("%s %.2f", labels->names[best[0]], (double)o->by_float[best[0]]);
        says[1] =
            g_strdup_printf("%s %.2f", labels->names[best[1]], (double)o->by_integer[best[1]]);
        nsk_picture_of_frame(o->frame, input, &picture);
        bool bad = best[0] != best[1] || (o->truth >= 0 && best[1] != o->truth);
        nsk_sheet_add(sheet, &picture, says[0], says[1], bad);
        nsk_picture_clear(&picture);
        g_free(says[0]);
        g_free(says[1]);
    }
    g_free(title);
    return nsk_sheet_write(sheet, c->job->sheet, &c->job->error);
}

static int report(const classifier *c) {
    cli_job *job = c->job;
    for (guint i = 0; i < c->opinions->len; i++) {
        if (!classify(c, &g_array_index(c->opinions, opinion, i))) {
            return cli_fail(job);
        }
        cli_progress(NULL, (int)i + 1, (int)c->opinions->len);
    }
    if (job->sheet != NULL && !draw_sheet(c)) {
        return cli_fail(job);
    }
    if (job->json) {
        print_json(c);
    } else if (c->opinions->len > MOST_RANKED) {
        print_list(c);
    } else {
        for (guint i = 0; i < c->opinions->len; i++) {
            fputs(i > 0 ? "\n" : "", stdout);
            print_ranking(&g_array_index(c->opinions, opinion, i), &job->brief->labels);
        }
    }
    return CLI_DONE;
}

static void clear_opinion(gpointer data) {
    opinion *o = data;
    g_free(o->path);
    g_free(o->by_float);
    g_free(o->by_integer);
    g_free(o->frame);
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
    c.opinions = g_array_new(FALSE, FALSE, sizeof(opinion));
    g_array_set_clear_func(c.opinions, clear_opinion);
    bool good = true;
    for (char **argument = job->arguments + 1; *argument != NULL && good; argument++) {
        good = add_argument(&c, *argument);
    }
    int status = good ? report(&c) : cli_fail(job);
    g_array_free(c.opinions, TRUE);
    g_free(c.workspace);
    return status;
}

const cli_command cli_classify = {
    "classify",
    "what both models say of single pictures, folders, or standard input",
    "BRIEF IMAGE...",
    "  netsuke classify demo/kiln.ini demo/images/held-out/crack/crack-0003.png\n"
    "ranks the classes, float beside integer. A folder stands for every picture in it, FILE[17] "
    "for one\n"
    "of an array, - for one on standard input; --sheet draws them with both answers.",
    2,
    10000,
    "model calibration tolerant sheet",
    NULL,
    run,
};
