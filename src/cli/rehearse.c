/* netsuke rehearse: the product on the simulated board. */
#include <stdio.h>

#include "command.h"
#include "csv.h"
#include "sim/rehearse.h"
#include "table.h"

enum { SHORT_LIST = 12 };

static const char *label_of(const cli_job *job, int class_index) {
    return job->brief->labels.names[class_index];
}

static void print_json(const cli_job *job, const nsk_rehearsal *r) {
    JsonBuilder *b = cli_json_start(job);
    cli_json_int(b, "frames", r->frames);
    cli_json_int(b, "dropped", r->dropped);
    cli_json_int(b, "taken", r->taken);
    cli_json_int(b, "correct", r->correct);
    cli_json_real(b, "seconds", r->seconds);
    cli_json_real(b, "busy_seconds", r->busy);
    cli_json_real(b, "frames_per_second", r->taken / r->seconds);
    if (r->joules >= 0.0) {
        cli_json_real(b, "joules", r->joules);
    }
    json_builder_set_member_name(b, "decisions");
    json_builder_begin_array(b);
    for (int i = 0; i < r->taken; i++) {
        const nsk_rehearsed *a = &r->answers[i];
        if (a->decided >= 0) {
            json_builder_begin_object(b);
            cli_json_real(b, "seconds", a->answered);
            cli_json_text(b, "class", label_of(job, a->decided));
            cli_json_real(b, "probability", (double)a->probability);
            cli_json_text(b, "image", nsk_images_path(job->held_out, a->image));
            json_builder_end_object(b);
        }
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
    cli_print_json(b);
}

static bool write_predictions(cli_job *job, const nsk_rehearsal *r) {
    cli_csv *csv = cli_csv_new("image,label,arrived,answered,integer_class,integer_probability");
    for (int i = 0; i < r->taken; i++) {
        const nsk_rehearsed *a = &r->answers[i];
        cli_csv_text(csv, nsk_images_path(job->held_out, a->image));
        cli_csv_text(csv, label_of(job, nsk_images_label(job->held_out, a->image)));
        cli_csv_number(csv, a->arrived);
        cli_csv_number(csv, a->answered);
        cli_csv_text(csv, label_of(job, a->class_index));
        cli_csv_number(csv, (double)a->probability);
        cli_csv_end(csv);
    }
    return cli_csv_write(csv, job->predictions, &job->error);
}

static void print_summary(const cli_job *job, const nsk_rehearsal *r) {
    const nsk_decision *d = &job->brief->decision;
    char text[CLI_TEXT];
    printf("%s on the simulated board '%s', camera at %g frames a second.\n", job->brief->name,
           job->board->name, job->board->frame_rate);
    printf("Pictures of %s, in an order drawn from seed %d\n\n", job->brief->held_out, job->seed);
    cli_table *table = cli_table_new("lrl");
    cli_table_row(table, "frames\t%d\tfrom the camera, in %s of virtual time", r->frames,
                  cli_time(r->seconds, text));
    cli_table_row(table, "dropped\t%d\tarrived while the device was busy", r->dropped);
    cli_table_row(table, "answered\t%d\t%.2f frames a second", r->taken, r->taken / r->seconds);
    cli_table_row(table, "right\t%d\t%.2f %% of the frames answered", r->correct,
                  r->taken > 0 ? 100.0 * r->correct / r->taken : 0.0);
    cli_table_row(table, "decisions\t%d\t%d of them by the class that was there", r->decisions,
                  r->right);
    cli_table_row(table, "busy\t%.1f %%\tof the time", 100.0 * r->busy / r->seconds);
    if (r->joules >= 0.0) {
        cli_table_row(table, "energy\t%.2f J\t%.2f mJ a frame, waiting included", r->joules,
                      1e3 * r->joules / r->frames);
    }
    cli_table_print(table);
    printf("\nRule: probability at least %.2f on %d frame%s in a row; at rest: %s\n\n",
           d->threshold, d->frames, d->frames == 1 ? "" : "s",
           d->resting != NULL ? d->resting : "no class");
}

static void print_decisions(const cli_job *job, const nsk_rehearsal *r) {
    int left = job->all ? r->decisions : SHORT_LIST;
    cli_table *table = cli_table_new("rlrll");
    cli_table_row(table, "time\tline raised\tprobability\tthere was\t");
    for (int i = 0; i < r->taken && left > 0; i++) {
        const nsk_rehearsed *a = &r->answers[i];
        if (a->decided >= 0) {
            int truth = nsk_images_label(job->held_out, a->image);
            cli_table_row(table, "%.3f s\t%s\t%.2f\t%s\t%s", a->answered, label_of(job, a->decided),
                          (double)a->probability, label_of(job, truth),
                          truth == a->decided ? "" : "wrong");
            left--;
        }
    }
    cli_table_print(table);
    if (!job->all && r->decisions > SHORT_LIST) {
        printf("... and %d more; --all lists them\n", r->decisions - SHORT_LIST);
    }
}

static int run(cli_job *job) {
    if (job->frames < 0 || job->frames > 1000000) {
        g_snprintf(job->error.text, sizeof job->error.text,
                   "--frames %d: from 0 (all images) to 1000000", job->frames);
        return cli_fail(job);
    }
    if (!cli_load_board(job) || !cli_load_model(job)) {
        return cli_fail(job);
    }
    if (job->brief->input.width == 0 && !cli_load_network(job)) {
        return cli_fail(job);
    }
    if (!cli_load_held_out(job)) {
        return cli_fail(job);
    }
    nsk_budget *budget = nsk_budget_make(job->model, job->board, &job->brief->limits, &job->error);
    nsk_rehearsal *r =
        budget == NULL ? NULL
                       : nsk_rehearse(job->model, job->board, budget, &job->brief->decision,
                                      job->held_out, job->frames, (unsigned)job->seed, &job->error);
    nsk_budget_free(budget);
    if (r == NULL || (job->predictions != NULL && !write_predictions(job, r))) {
        nsk_rehearsal_free(r);
        return cli_fail(job);
    }
    if (job->json) {
        print_json(job, r);
    } else {
        cli_print_facts(job);
        print_summary(job, r);
        print_decisions(job, r);
    }
    nsk_rehearsal_free(r);
    return CLI_DONE;
}

const cli_command cli_rehearse = {
    "rehearse",
    "the product on the simulated board: frames in, decisions out",
    "BRIEF",
    "  netsuke rehearse demo/kiln.ini --frames 200\n"
    "plays held-out pictures at the board's frame rate and lists the decisions.",
    1,
    1,
    "model board calibration held-out tolerant frames seed predictions all",
    run,
};
