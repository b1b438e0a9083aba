/* netsuke survey: what the image sets hold. */
#include <stdio.h>

#include "command.h"
#include "table.h"

static void print_json(const cli_job *job, const nsk_survey *s) {
    JsonBuilder *b = json_builder_new();
    json_builder_begin_object(b);
    json_builder_set_member_name(b, "sets");
    json_builder_begin_array(b);
    for (int k = 0; k < 2; k++) {
        json_builder_begin_object(b);
        cli_json_text(b, "name", s->sets[k].name);
        cli_json_int(b, "images", s->sets[k].images);
        json_builder_set_member_name(b, "classes");
        json_builder_begin_array(b);
        for (int c = 0; c < job->brief->labels.count; c++) {
            json_builder_begin_object(b);
            cli_json_text(b, "name", job->brief->labels.names[c]);
            cli_json_int(b, "images", s->sets[k].in_class[c]);
            json_builder_end_object(b);
        }
        json_builder_end_array(b);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    cli_json_int(b, "overlap", s->overlap);
    json_builder_end_object(b);
    cli_print_json(b);
}

static void print_classes(const cli_job *job, const nsk_survey *s) {
    int most = 1;
    for (int k = 0; k < 2; k++) {
        for (int c = 0; c < job->brief->labels.count; c++) {
            most = MAX(most, s->sets[k].in_class[c]);
        }
    }
    cli_table *table = cli_table_new("lrlrl");
    cli_table_row(table, "class\tcalibration\t\theld-out\t");
    for (int c = 0; c < job->brief->labels.count; c++) {
        char bars[2][CLI_TEXT];
        for (int k = 0; k < 2; k++) {
            int full = (20 * s->sets[k].in_class[c] + most / 2) / most;
            bars[k][0] = '\0';
            for (int i = 0; i < full; i++) {
                g_strlcat(bars[k], "#", CLI_TEXT);
            }
        }
        cli_table_row(table, "%s\t%d\t%s\t%d\t%s", job->brief->labels.names[c],
                      s->sets[0].in_class[c], bars[0], s->sets[1].in_class[c], bars[1]);
    }
    cli_table_row(table, "all\t%d\t\t%d\t", s->sets[0].images, s->sets[1].images);
    cli_table_print(table);
}

static void print_sizes(const cli_job *job, const nsk_survey_set *set) {
    const nsk_input *input = &job->brief->input;
    if (set->least_width == set->most_width && set->least_height == set->most_height) {
        bool same = set->least_width == input->width && set->least_height == input->height;
        printf("%-12s all pictures are %d x %d; the network takes %d x %d%s\n", set->name,
               set->least_width, set->least_height, input->width, input->height,
               same ? "" : ", so they are resized");
    } else {
        printf("%-12s mixed sizes, %d to %d wide and %d to %d high, resized to %d x %d\n",
               set->name, set->least_width, set->most_width, set->least_height, set->most_height,
               input->width, input->height);
    }
}

static void print_evenness(const cli_job *job, const nsk_survey_set *set) {
    int least = 0;
    int most = 0;
    for (int c = 1; c < job->brief->labels.count; c++) {
        least = set->in_class[c] < set->in_class[least] ? c : least;
        most = set->in_class[c] > set->in_class[most] ? c : most;
    }
    if (set->in_class[most] > 2 * set->in_class[least]) {
        printf("%-12s uneven: %d of '%s', %d of '%s'; overall accuracy will speak mostly of the "
               "first\n",
               set->name, set->in_class[most], job->brief->labels.names[most], set->in_class[least],
               job->brief->labels.names[least]);
    }
}

static int run(cli_job *job) {
    if (!cli_load_network(job) || !cli_load_held_out(job)) {
        return cli_fail(job);
    }
    int limit = job->brief->calibration_limit;
    job->brief->calibration_limit = 0; /* look at all there are */
    if (!cli_load_calibration(job)) {
        return cli_fail(job);
    }
    nsk_survey *s = nsk_survey_make(job->calibration, job->held_out, &job->error);
    if (s == NULL) {
        return cli_fail(job);
    }
    if (job->json) {
        print_json(job, s);
    } else {
        print_classes(job, s);
        putchar('\n');
        if (limit > 0 && limit < s->sets[0].images) {
            printf("calibration  %d of %d pictures will be used, spread over the classes\n", limit,
                   s->sets[0].images);
        }
        for (int k = 0; k < 2; k++) {
            print_sizes(job, &s->sets[k]);
            print_evenness(job, &s->sets[k]);
        }
        if (s->overlap > 0) {
            printf("overlap      %d held-out pictures stand in calibration too, first %s = %s; "
                   "judge on pictures that nothing was fitted to\n",
                   s->overlap, s->first_overlap[1], s->first_overlap[0]);
        } else {
            printf("overlap      none: no held-out picture stands in calibration too\n");
        }
    }
    nsk_survey_free(s);
    return CLI_DONE;
}

const cli_command cli_survey = {
    "survey",
    "look at the images: classes, sizes, pictures that stand in both sets",
    "BRIEF",
    "  netsuke survey demo/kiln.ini\n"
    "counts the pictures of each class in the calibration and held-out sets.",
    1,
    1,
    "calibration held-out tolerant",
    run,
};
