/* netsuke quantise: builds the integer model. */
#include <stdio.h>

#include "command.h"
#include "netsuke/ablation.h"
#include "netsuke/drift.h"
#include "table.h"

typedef struct quantise_options {
    char *output, *array, *array_name, *onnx, *teacher, *learned;
    gboolean ordered, gains, refine, robust;
} quantise_options;

/* In the order of nsk_range_method. */
static const char *const ranges[] = {
    "each as it moves the scores least", "lowest and highest value of each tensor",
    "all but the outermost values of each tensor", "least squared error of each tensor",
    "least divergence of each tensor"};

static void print_refined(cli_table *table, const nsk_refine_result *r) {
    char best[64] = "no epoch was better";
    if (r->best_epoch > 0) {
        g_snprintf(best, sizeof best, "epoch %d of %d was best", r->best_epoch, r->epochs);
    }
    cli_table_row(
        table,
        "refined\ton %d images; on %d set aside: loss %.4f, before %.4f; right %d, before "
        "%d; %s",
        r->learned_from, r->aside, r->loss[1], r->loss[0], r->right[1], r->right[0], best);
}

static void print_state(cli_table *table, const char *first, const char *what,
                        const nsk_finer_state *s, int images) {
    char text[CLI_TEXT];
    cli_table_row(table, "%s\t%s: log-odds off by %.3f, %d of %d alike; %.1f ms, %s RAM", first,
                  what, s->odds, s->agree, images, 1e3 * s->seconds, cli_bytes(s->ram, text));
}

/* What there was before, what was tried on top of that, and taken or not. */
static void print_finer(cli_table *table, const nsk_finer *f) {
    print_state(table, "fine", "none", &f->before, f->images);
    for (int i = 0; i < f->count; i++) {
        char *what = g_strdup_printf("with %s, %s", f->layer[i].name,
                                     f->layer[i].chosen ? "taken" : "not taken");
        print_state(table, "", what, &f->layer[i].with, f->images);
        g_free(what);
    }
    if (f->chosen == 0) {
        cli_table_row(table, "\tno layer pays for 16 bits");
    }
}

/* What 8 bits would take, what was chosen, and what that does. */
static void print_narrower(cli_table *table, const nsk_narrower *n) {
    char text[2][CLI_TEXT];
    char *what =
        g_strdup_printf("8 everywhere: %s of flash, %s allowed",
                        cli_bytes(n->before.flash, text[0]), cli_bytes(n->allowed, text[1]));
    print_state(table, "bits", what, &n->before, n->images);
    g_free(what);
    for (int i = 0; i < n->narrowed_count; i++) {
        const nsk_bits_exception *e = &n->narrowed[i];
        cli_table_row(table, "\t%s: %d", e->layer, e->bits);
    }
    if (n->narrowed_count > 0) {
        what =
            g_strdup_printf("%s: %s of flash",
                            n->after.flash > n->allowed ? "the least that there is" : "with these",
                            cli_bytes(n->after.flash, text[0]));
        print_state(table, "", what, &n->after, n->images);
        g_free(what);
    }
}

/* The core that files are ordered for: the board's. NULL: none is. */
static const char *core_of(const cli_context *context) {
    const quantise_options *own = context->own;
    const bool asked = own->ordered || own->array != NULL;
    return asked && context->board != NULL ? context->board->core : NULL;
}

static void print_files(cli_table *table, const cli_context *context) {
    const quantise_options *own = context->own;
    cli_table_row(table, "wrote\t%s", own->output);
    if (own->array != NULL) {
        cli_table_row(table, "wrote\t%s", own->array);
    }
    if (own->onnx != NULL) {
        cli_table_row(table, "wrote\t%s", own->onnx);
    }
    if (own->learned != NULL) {
        cli_table_row(table, "wrote\t%s", own->learned);
    }
    if (core_of(context) != NULL) {
        cli_table_row(table, "order\tweights of %s stand as %s is quickest with",
                      own->ordered && own->array != NULL ? "both"
                      : own->ordered                     ? own->output
                                                         : own->array,
                      core_of(context));
    }
}

static void print_text(const cli_context *context) {
    char text[3][CLI_TEXT];
    nsk_model model;
    nsk_open(&model, context->model->bytes, context->model->size);
    double extra = (double)(context->model->size - context->model->weight_bytes);
    cli_table *table = cli_table_new("ll");
    print_files(table, context);
    cli_table_row(table, "size\t%s: weights and biases %s, the rest %s",
                  cli_bytes((double)context->model->size, text[0]),
                  cli_bytes((double)context->model->weight_bytes, text[1]),
                  cli_bytes(extra, text[2]));
    cli_table_row(table, "workspace\t%s in RAM; no plan can need less than %s",
                  cli_bytes(model.workspace_bytes, text[0]),
                  cli_bytes((double)context->model->workspace_lower_bound, text[1]));
    cli_table_row(table, "layers\t%u, on %u tensors", model.layers, model.tensors);
    int used = nsk_images_count(context->calibration);
    int found = nsk_images_found(context->calibration);
    const int moved = context->model->moved;
    char share[64];
    g_snprintf(share, sizeof share, used < found ? "%d of %d" : "%d", used, found);
    char more[64] = "";
    if (moved > 0) {
        g_snprintf(more, sizeof more, " (ranges also on %d copies, moved a little)", moved);
    }
    char fewer[48] = "";
    if (context->model->fitted > 0 && context->model->fitted < used) {
        g_snprintf(fewer, sizeof fewer, ", fitted on %d of them", context->model->fitted);
    }
    cli_table_row(table, "calibrated\ton %s images%s%s; ranges: %s", share, fewer, more,
                  ranges[context->brief->recipe.ranges]);
    char stages[96] = "";
    for (size_t i = 0; i < 4; i++) {
        const bool on[] = {context->brief->recipe.equalise, context->brief->recipe.rounding,
                           context->brief->recipe.biases, context->refine_result.epochs > 0};
        static const char *const names[] = {"channels evened out", "rounding fitted",
                                            "biases settled", "weights refined"};
        if (on[i]) {
            g_strlcat(stages, stages[0] != '\0' ? ", " : "", sizeof stages);
            g_strlcat(stages, names[i], sizeof stages);
        }
    }
    cli_table_row(table, "stages\t%s", stages[0] != '\0' ? stages : "none");
    if (context->finer != NULL) {
        print_finer(table, context->finer);
    }
    if (context->narrower != NULL) {
        print_narrower(table, context->narrower);
    }
    if (context->refine_result.epochs > 0) {
        print_refined(table, &context->refine_result);
        if (context->teacher != NULL) {
            cli_table_row(table, "teacher\t%s", context->brief->teacher);
        }
    }
    if (nsk_network_carried_levels(context->network) > 0) {
        cli_table_row(table, "levels\tof %d tensors are the file's own and were taken as they are",
                      nsk_network_carried_levels(context->network));
    }
    cli_table_row(table, "proven\tno accumulator can overflow 32 bits, whatever the picture");
    cli_table_print(table);
}

/* ---- what each stage gained ---- */

static void print_gains(const nsk_ablation *a) {
    cli_table *table = cli_table_new("lrrrr");
    printf("\nWhat each stage gained: fitted to %d of the calibration images, judged on the %d "
           "others\n\n",
           a->fitted, a->judged);
    cli_table_row(table, "stage\tscores\tgained\tagreement\timages");
    for (int i = 0; i < a->count; i++) {
        char gained[32] = "";
        if (i > 0) {
            g_snprintf(gained, sizeof gained, "%.1f dB",
                       a->stage[i].output_db - a->stage[i - 1].output_db);
        }
        cli_table_row(table, "%s\t%.1f dB\t%s\t%.2f %%\t%d of %d", a->stage[i].name,
                      a->stage[i].output_db, gained, 100.0 * a->stage[i].agree / a->judged,
                      a->stage[i].agree, a->judged);
    }
    cli_table_print(table);
    puts("");
    cli_paragraph("scores  ", "signal over error of the scores: the float network's beside the "
                              "integer model's");
}

static void json_gains(JsonBuilder *b, const nsk_ablation *a) {
    json_builder_set_member_name(b, "gains");
    json_builder_begin_array(b);
    for (int i = 0; i < a->count; i++) {
        json_builder_begin_object(b);
        cli_json_text(b, "stage", a->stage[i].name);
        cli_json_real(b, "scores_db", a->stage[i].output_db);
        cli_json_int(b, "agree", a->stage[i].agree);
        cli_json_int(b, "images", a->judged);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
}

static void json_refined(JsonBuilder *b, const nsk_refine_result *r) {
    json_builder_set_member_name(b, "refined");
    json_builder_begin_object(b);
    cli_json_int(b, "learned_from", r->learned_from);
    cli_json_int(b, "aside", r->aside);
    cli_json_int(b, "epochs", r->epochs);
    cli_json_int(b, "best_epoch", r->best_epoch);
    cli_json_real(b, "loss_before", r->loss[0]);
    cli_json_real(b, "loss", r->loss[1]);
    cli_json_int(b, "right_before", r->right[0]);
    cli_json_int(b, "right", r->right[1]);
    json_builder_end_object(b);
}

static void json_state(JsonBuilder *b, const char *name, const nsk_finer_state *s) {
    json_builder_set_member_name(b, name);
    json_builder_begin_object(b);
    cli_json_int(b, "agree", s->agree);
    cli_json_real(b, "log_odds_off", s->odds);
    cli_json_real(b, "seconds", s->seconds);
    cli_json_real(b, "ram_bytes", s->ram);
    cli_json_real(b, "flash_bytes", s->flash);
    json_builder_end_object(b);
}

static void json_narrower(JsonBuilder *b, const nsk_narrower *n) {
    json_builder_set_member_name(b, "bits");
    json_builder_begin_object(b);
    cli_json_int(b, "images", n->images);
    cli_json_real(b, "allowed_flash_bytes", n->allowed);
    json_state(b, "before", &n->before);
    json_state(b, "after", &n->after);
    json_builder_set_member_name(b, "layers");
    json_builder_begin_array(b);
    for (int i = 0; i < n->count; i++) {
        json_builder_begin_object(b);
        cli_json_text(b, "layer", n->layer[i].name);
        cli_json_int(b, "bits", n->layer[i].bits);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
}

static void json_finer(JsonBuilder *b, const nsk_finer *f) {
    json_builder_set_member_name(b, "fine");
    json_builder_begin_object(b);
    cli_json_int(b, "images", f->images);
    json_state(b, "before", &f->before);
    json_state(b, "after", &f->after);
    json_builder_set_member_name(b, "tried");
    json_builder_begin_array(b);
    for (int i = 0; i < f->count; i++) {
        json_builder_begin_object(b);
        cli_json_text(b, "layer", f->layer[i].name);
        json_builder_set_member_name(b, "taken");
        json_builder_add_boolean_value(b, f->layer[i].chosen);
        json_state(b, "with", &f->layer[i].with);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
}

static bool find_gains(cli_context *context, nsk_ablation *ablation) {
    nsk_images *fitted = cli_open_calibration(context);
    nsk_images *judging = fitted != NULL ? cli_open_calibration(context) : NULL;
    bool good = judging != NULL && (nsk_ablate(context->network, &context->brief->recipe, fitted,
                                               judging, ablation, &context->error) ||
                                    nsk_fail_in(&context->error, "--gains"));
    nsk_images_free(fitted);
    nsk_images_free(judging);
    return good;
}

/* For a core that has no order of its own, the usual one. */
static bool write_model(cli_context *context) {
    const quantise_options *own = context->own;
    const char *core = core_of(context);
    nsk_error *error = &context->error;
    nsk_model_file *ordered = nsk_model_file_for_core(context->model, core != NULL ? core : "any");
    const bool good =
        nsk_model_file_write(own->ordered ? ordered : context->model, own->output, error) &&
        (own->array == NULL ||
         nsk_model_file_write_c(ordered, own->array,
                                own->array_name != NULL ? own->array_name : "model", error));
    nsk_model_file_free(ordered);
    return good;
}

static bool write_files(cli_context *context) {
    const quantise_options *own = context->own;
    return write_model(context) &&
           (own->learned == NULL ||
            nsk_network_write(context->learned, own->learned, &context->error)) &&
           (own->onnx == NULL ||
            nsk_quantise_onnx(context->network, context->calibration, &context->brief->recipe,
                              own->onnx, &context->error));
}

/* The board whose core files are ordered for, before time is spent. */
static bool load_order(cli_context *context) {
    const quantise_options *own = context->own;
    if (context->brief->board != NULL) {
        return (!own->ordered && own->array == NULL) || cli_load_board(context);
    }
    return !own->ordered ||
           nsk_fail(&context->error,
                    "--ordered: for which core? Give a board, by [board] file in %s or --board",
                    context->brief->path);
}

/* What options say of learning. */
static bool set_learning(cli_context *context) {
    const quantise_options *own = context->own;
    nsk_brief *brief = context->brief;
    if (own->teacher != NULL) {
        g_free(brief->teacher);
        brief->teacher = g_strdup(own->teacher);
    }
    brief->refine |= own->refine || own->robust || own->teacher != NULL;
    brief->refine_changes |= own->robust ? NSK_EVERY_CHANGE : 0U;
    context->keep_learned = own->learned != NULL;
    return own->learned == NULL || brief->refine ||
           nsk_fail(&context->error, "--learned: nothing is learned without --refine; add it, and "
                                     "training images");
}

static int run(cli_context *context) {
    const quantise_options *own = context->own;
    nsk_ablation ablation;
    if (own->output == NULL) {
        nsk_fail(&context->error, "say where the model goes: netsuke quantise BRIEF -o M.nsk");
        return cli_fail(context);
    }
    if (!cli_load_brief(context) || !load_order(context)) {
        return cli_fail(context);
    }
    context->anew = true;
    if (!set_learning(context) || !cli_load_model(context) || !write_files(context) ||
        (own->gains && !find_gains(context, &ablation))) {
        return cli_fail(context);
    }
    if (context->json) {
        JsonBuilder *b = cli_json_start(context);
        cli_json_int(b, "model_bytes", (gint64)context->model->size);
        cli_json_int(b, "weight_bytes", (gint64)context->model->weight_bytes);
        cli_json_int(b, "calibration_images", nsk_images_count(context->calibration));
        cli_json_int(b, "calibration_images_found", nsk_images_found(context->calibration));
        if (core_of(context) != NULL) {
            cli_json_text(b, "ordered_for", core_of(context));
        }
        cli_json_int(b, "moved_copies", context->model->moved);
        cli_json_int(b, "fitted_images", context->model->fitted);
        if (context->refine_result.epochs > 0) {
            json_refined(b, &context->refine_result);
            if (context->teacher != NULL) {
                cli_json_text(b, "teacher", context->brief->teacher);
            }
        }
        if (context->finer != NULL) {
            json_finer(b, context->finer);
        }
        if (context->narrower != NULL) {
            json_narrower(b, context->narrower);
        }
        if (own->gains) {
            json_gains(b, &ablation);
        }
        json_builder_end_object(b);
        cli_print_json(b);
    } else {
        cli_print_facts(context);
        print_text(context);
        if (own->gains) {
            print_gains(&ablation);
        }
    }
    return CLI_DONE;
}

static const cli_own own_options[] = {
    {"output", offsetof(quantise_options, output), 0},
    {"array", offsetof(quantise_options, array), 0},
    {"array-name", offsetof(quantise_options, array_name), 0},
    {"ordered", offsetof(quantise_options, ordered), 0},
    {"onnx", offsetof(quantise_options, onnx), 0},
    {"gains", offsetof(quantise_options, gains), 0},
    {"refine", offsetof(quantise_options, refine), 0},
    {"teacher", offsetof(quantise_options, teacher), 0},
    {"learned", offsetof(quantise_options, learned), 0},
    {"robust", offsetof(quantise_options, robust), 0},
    {NULL, 0, 0},
};

const cli_command cli_quantise = {
    .name = "quantise",
    .summary = "build the 8-bit integer model from calibration images",
    .arguments = "BRIEF -o M.nsk",
    .example =
        "  netsuke quantise demo/kiln.ini -o kiln.nsk\n"
        "writes the model file that the device runs. --onnx F.onnx writes the same as standard "
        "ONNX\n"
        "with QuantizeLinear and DequantizeLinear, for other tools; --gains says what each stage "
        "of "
        "the\n"
        "brief gained. --refine fine-tunes the weights on labelled training images, the integer "
        "network\n"
        "in the loop. --array writes weights in the order that the board's core is quickest with;\n"
        "--ordered, the model file, too, for a board that takes it from storage.",
    .least = 1,
    .most = 1,
    .shared = "board calibration tolerant training",
    .own = own_options,
    .own_size = sizeof(quantise_options),
    .usual = "array-name: model",
    .run = run,
};
