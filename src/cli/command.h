/* cli/command: what the commands share: their table, arguments, the objects that a brief names. */
#ifndef NSK_CLI_COMMAND_H
#define NSK_CLI_COMMAND_H

#include <glib.h>
#include <json-glib/json-glib.h>

#include "netsuke/verdict.h"

/* Exit status, as the contract has it. */
enum { CLI_DONE = 0, CLI_LIMIT_BROKEN = 1, CLI_ERROR = 2 };

/* A command's options and, once asked for, what they name. Everything is freed by the caller of
 * `run`, with cli_job_clear. */
typedef struct cli_job {
    /* options that several commands take */
    char *model_path, *board_path, *calibration_path, *held_out_path, *training_path;
    gboolean json, tolerant, strict, force;
    /* options of one command */
    char *output, *array, *array_name, *predictions, *sheet, *plot, *onnx, *points, *keep, *only,
        *scene, *signals, *capture;
    char *tick, *layer;
    char **faults, **logs;
    gboolean all, split, gains, refine, neighbours, list, scenes, sweep, compile, prove;
    gint frames, seed, sample, jobs;
    int variant;      /* of the brief, from 0 */
    char **arguments; /* BRIEF and what follows it */

    nsk_brief *brief;
    nsk_network *network, *equalised;
    nsk_images *calibration, *held_out, *training;
    nsk_model_file *model;
    nsk_board *board;
    nsk_refine_settings refine_settings;
    nsk_refine_result refine_result; /* epochs: 0 where nothing was refined */
    nsk_error error;
} cli_job;

typedef struct cli_command {
    const char *name, *summary;
    const char *arguments; /* behind the name: "BRIEF" */
    const char *example;   /* of a call, with a line on what it does */
    int least, most;       /* arguments */
    const char *options;   /* names of the options it takes besides --json, parted by blanks */
    const char *usual;     /* what counts where one is not given: "frames: 4; seed: 1"; or NULL */
    int (*run)(cli_job *job);
} cli_command;

extern const cli_command cli_survey, cli_outline, cli_vet, cli_quantise, cli_compare, cli_drift,
    cli_probe, cli_stress, cli_atlas, cli_shelf, cli_budget, cli_weigh, cli_clock, cli_headroom,
    cli_classify, cli_emit, cli_rehearse, cli_report, cli_assay;
/* All of them in the order of work, NULL behind the last. */
extern const cli_command *const cli_commands[];

/* Each loads what it needs first, once. On failure job->error is set. */
bool cli_load_brief(cli_job *job);
bool cli_load_network(cli_job *job);
bool cli_load_calibration(cli_job *job);
/* The same set once more, the caller's own. */
nsk_images *cli_open_calibration(cli_job *job);
bool cli_load_held_out(cli_job *job);
nsk_images *cli_open_held_out(cli_job *job);
/* The file of --model, or else the network quantised now. */
bool cli_load_model(cli_job *job);
bool cli_load_board(cli_job *job);
/* The brief's recipe, with what its limit and its board leave to the model of RAM. */
bool cli_make_recipe(cli_job *job, nsk_recipe *recipe);
/* The network that the model is made of: with its channels equalised out, where the brief says so.
 */
bool cli_load_equalised(cli_job *job);
/* Is the model for the brief's labels and preparation? */
bool cli_check_model(cli_job *job, const nsk_model *model);

/* The same of the model that is loaded, open or not. */
bool cli_check_own_model(cli_job *job);

/* Frees what the job holds. */
void cli_job_clear(cli_job *job);

/* Prints job->error as the one line on standard error; returns CLI_ERROR. */
int cli_fail(const cli_job *job);

/* What a tolerant set has left out, as a line on standard error. */
void cli_note_left_out(const nsk_images *images);

/* Prints the builder's root object and frees the builder. */
void cli_print_json(JsonBuilder *builder);
/* A root object that begins with "model": {name, version, author, licence, description}. */
JsonBuilder *cli_json_start(const cli_job *job);
/* The same for people: a line for each fact that is known, the name first. */
void cli_print_facts(const cli_job *job);
void cli_json_text(JsonBuilder *builder, const char *name, const char *value);
void cli_json_int(JsonBuilder *builder, const char *name, gint64 value);
void cli_json_real(JsonBuilder *builder, const char *name, double value);

/* The verdict as the member "verdict"; in words, what does not hold; and the exit status that it
 * makes, with a warning on standard error for what is open. */
void cli_json_verdict(JsonBuilder *builder, const nsk_verdict *verdict);
void cli_print_findings(const nsk_verdict *verdict);
/* "every limit holds", or what does not. */
const char *cli_verdict_words(const nsk_verdict *verdict);
int cli_conclude(const cli_job *job, const nsk_verdict *verdict);

/* nsk_progress that draws on standard error, where that is a terminal. */
void cli_progress(void *context, int done, int total);

#endif
