/* cli/command: what the commands share: their table, arguments, the objects that a brief names. */
#ifndef NSK_CLI_COMMAND_H
#define NSK_CLI_COMMAND_H

#include <glib.h>
#include <json-glib/json-glib.h>

#include "netsuke/finer.h"
#include "netsuke/narrower.h"
#include "netsuke/on_board.h"
#include "netsuke/verdict.h"

/* Exit status, as the contract has it. */
enum { CLI_DONE = 0, CLI_LIMIT_BROKEN = 1, CLI_ERROR = 2 };

typedef struct cli_command cli_command;

/* What a brief names, and the options that say something else in its place. What stands behind
 * `own` is the command's own options. Everything is freed with cli_context_clear. */
typedef struct cli_context {
    char *model_path, *board_path, *calibration_path, *held_out_path, *training_path;
    char *on;       /* link to a board */
    char *remember; /* folder for what it says of frames */
    gboolean renew; /* it is given the model, if it runs another; is it? once it is there */
    gint sample;    /* of the held-out images; 0: all */
    gboolean tolerant, strict, json, force;
    bool anew;        /* the model is made, even where it is kept */
    char **arguments; /* BRIEF and what follows it */
    int variant;      /* of the brief, from 0 */

    const cli_command *command; /* that was parsed, or NULL */
    void *own;

    /* each NULL until it is asked for */
    nsk_brief *brief;
    nsk_network *network, *equalised;
    nsk_images *calibration, *held_out, *training;
    nsk_model_file *model;
    nsk_board *board;
    nsk_finer *finer;        /* NULL, too, where the brief asks for no choice */
    nsk_narrower *narrower;  /* the same */
    nsk_on_board *on_board;  /* the same, where none is asked for */
    const nsk_images *shows; /* what an emulated board's camera sees, or NULL: noise */
    nsk_refine_settings refine_settings;
    nsk_refine_result refine_result; /* epochs: 0 where nothing was refined */
    nsk_network *teacher;            /* NULL, too, where the brief names none */
    nsk_network *learned;            /* where `keep_learned` asked for it before refining */
    bool keep_learned;
    nsk_error error;
} cli_context;

/* An option of a command's own: where its value stands in the command's struct, and the count that
 * stands there where none is given. */
typedef struct cli_own {
    const char *name; /* in cli_options; NULL ends a list */
    size_t member;
    int usual;
} cli_own;

struct cli_command {
    const char *name, *summary;
    const char *arguments; /* behind the name: "BRIEF" */
    const char *example;   /* of a call, with a line on what it does */
    int least, most;       /* arguments */
    const char *shared;    /* the context's options that it takes, parted by blanks; or NULL */
    const cli_own *own;    /* or NULL */
    size_t own_size;
    const char *usual; /* what counts where one is not given: "frames: 4; seed: 1"; or NULL */
    bool makes_folder; /* --output names a folder, which is made with those above it */
    int (*run)(cli_context *context);
};

extern const cli_command cli_survey, cli_outline, cli_vet, cli_quantise, cli_compare, cli_drift,
    cli_probe, cli_stress, cli_atlas, cli_shelf, cli_budget, cli_weigh, cli_clock, cli_headroom,
    cli_pare, cli_classify, cli_emit, cli_trial, cli_watch_command, cli_rehearse, cli_report,
    cli_assay;
/* All of them in the order of work, NULL behind the last. */
extern const cli_command *const cli_commands[];

/* Each loads what it needs first, once. On failure context->error is set. */
bool cli_load_brief(cli_context *context);
bool cli_load_network(cli_context *context);
bool cli_load_calibration(cli_context *context);
/* The same set once more, the caller's own. */
nsk_images *cli_open_calibration(cli_context *context);
bool cli_load_held_out(cli_context *context);
nsk_images *cli_open_held_out(cli_context *context);
/* The training images, the caller's own. */
nsk_images *cli_open_training(cli_context *context);
/* The file of --model, or else the network quantised now; with --on, the board that it runs on. */
bool cli_load_model(cli_context *context);
bool cli_load_board(cli_context *context);
/* Where the brief says so, chooses layers whose outputs get 16 bits, and asks it of the network;
 * then those whose weights get fewer than 8, and puts them into the brief's recipe. Each once.
 * Everything that quantises does so first. */
bool cli_load_choices(cli_context *context);
/* The brief's recipe, with what its limit and its board leave to the model of RAM. */
bool cli_make_recipe(cli_context *context, nsk_recipe *recipe);
/* The network that the model is made of: with its channels equalised out, where the brief says so.
 */
bool cli_load_equalised(cli_context *context);
/* Is the model for the brief's labels and preparation? */
bool cli_check_model(cli_context *context, const nsk_model *model);

/* The same of the model that is loaded, open or not. */
bool cli_check_own_model(cli_context *context);

/* Frees what the context holds. */
void cli_context_clear(cli_context *context);

/* Behind a command with --on: says on standard error where the board's scores are not this
 * machine's, and makes its status 1 then. */
int cli_conclude_board(const cli_context *context, int status);

/* Prints context->error as the one line on standard error; returns CLI_ERROR. */
int cli_fail(const cli_context *context);

/* What the network's reader notes, a line each on standard error. */
void cli_print_notes(const nsk_network *network, const char *path);
/* What a tolerant set has left out, as a line on standard error. */
void cli_note_left_out(const nsk_images *images);

/* Prints the builder's root object and frees the builder. */
void cli_print_json(JsonBuilder *builder);
/* A root object that begins with "model": {name, version, author, licence, description}. */
JsonBuilder *cli_json_start(const cli_context *context);
/* The same for people: a line for each fact that is known, the name first. */
void cli_print_facts(const cli_context *context);
void cli_json_text(JsonBuilder *builder, const char *name, const char *value);
void cli_json_int(JsonBuilder *builder, const char *name, gint64 value);
void cli_json_real(JsonBuilder *builder, const char *name, double value);

/* The verdict as the member "verdict"; in words, what does not hold; and the exit status that it
 * makes, with a warning on standard error for what is open. */
void cli_json_verdict(JsonBuilder *builder, const nsk_verdict *verdict);
void cli_print_findings(const nsk_verdict *verdict);
/* "every limit holds", or what does not. */
const char *cli_verdict_words(const nsk_verdict *verdict);
int cli_conclude(const cli_context *context, const nsk_verdict *verdict);

/* nsk_progress that draws on standard error, where that is a terminal. */
void cli_progress(void *context, int done, int total);

#endif
