/* netsuke quantise: builds the integer model. */
#include <stdio.h>

#include "command.h"
#include "netsuke/ablation.h"
#include "netsuke/drift.h"
#include "table.h"

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

static void print_text(const cli_job *job) {
    char text[3][CLI_TEXT];
    nsk_model model;
    nsk_open(&model, job->model->bytes, job->model->size);
    double extra = (double)(job->model->size - job->model->weight_bytes);
    cli_table *table = cli_table_new("ll");
    cli_table_row(table, "wrote\t%s", job->output);
    if (job->array != NULL) {
        cli_table_row(table, "wrote\t%s", job->array);
    }
    if (job->onnx != NULL) {
        cli_table_row(table, "wrote\t%s", job->onnx);
    }
    cli_table_row(table, "size\t%s: weights and biases %s, the rest %s",
                  cli_bytes((double)job->model->size, text[0]),
                  cli_bytes((double)job->model->weight_bytes, text[1]), cli_bytes(extra, text[2]));
    cli_table_row(table, "workspace\t%s in RAM; no plan can need less than %s",
                  cli_bytes(model.workspace_bytes, text[0]),
                  cli_bytes((double)job->model->workspace_lower_bound, text[1]));
    cli_table_row(table, "layers\t%u, on %u tensors", model.layers, model.tensors);
    cli_table_row(table, "calibrated\ton %d images; ranges: %s", nsk_images_count(job->calibration),
                  ranges[job->brief->recipe.ranges]);
    char stages[96] = "";
    for (size_t i = 0; i < 4; i++) {
        const bool on[] = {job->brief->recipe.equalise, job->brief->recipe.rounding,
                           job->brief->recipe.biases, job->refine_result.epochs > 0};
        static const char *const names[] = {"channels evened out", "rounding fitted",
                                            "biases settled", "weights refined"};
        if (on[i]) {
            g_strlcat(stages, stages[0] != '\0' ? ", " : "", sizeof stages);
            g_strlcat(stages, names[i], sizeof stages);
        }
    }
    cli_table_row(table, "stages\t%s", stages[0] != '\0' ? stages : "none");
    if (job->refine_result.epochs > 0) {
        print_refined(table, &job->refine_result);
    }
    if (nsk_network_carried_levels(job->network) > 0) {
        cli_table_row(table, "levels\tof %d tensors are the file's own and were taken as they are",
                      nsk_network_carried_levels(job->network));
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

static bool find_gains(cli_job *job, nsk_ablation *ablation) {
    nsk_images *fitted = cli_open_calibration(job);
    nsk_images *judging = fitted != NULL ? cli_open_calibration(job) : NULL;
    bool good = judging != NULL && (nsk_ablate(job->network, &job->brief->recipe, fitted, judging,
                                               ablation, &job->error) ||
                                    nsk_fail_in(&job->error, "--gains"));
    nsk_images_free(fitted);
    nsk_images_free(judging);
    return good;
}

static int run(cli_job *job) {
    nsk_ablation ablation;
    if (job->output == NULL) {
        nsk_fail(&job->error, "say where the model goes: netsuke quantise BRIEF -o M.nsk");
        return cli_fail(job);
    }
    if (!cli_load_model(job) || !nsk_model_file_write(job->model, job->output, &job->error) ||
        (job->array != NULL &&
         !nsk_model_file_write_c(job->model, job->array,
                                 job->array_name != NULL ? job->array_name : "model",
                                 &job->error)) ||
        (job->onnx != NULL && !nsk_quantise_onnx(job->network, job->calibration,
                                                 &job->brief->recipe, job->onnx, &job->error)) ||
        (job->gains && !find_gains(job, &ablation))) {
        return cli_fail(job);
    }
    if (job->json) {
        JsonBuilder *b = cli_json_start(job);
        cli_json_int(b, "model_bytes", (gint64)job->model->size);
        cli_json_int(b, "weight_bytes", (gint64)job->model->weight_bytes);
        cli_json_int(b, "calibration_images", nsk_images_count(job->calibration));
        if (job->refine_result.epochs > 0) {
            json_refined(b, &job->refine_result);
        }
        if (job->gains) {
            json_gains(b, &ablation);
        }
        json_builder_end_object(b);
        cli_print_json(b);
    } else {
        cli_print_facts(job);
        print_text(job);
        if (job->gains) {
            print_gains(&ablation);
        }
    }
    return CLI_DONE;
}

const cli_command cli_quantise = {
    "quantise",
    "build the 8-bit integer model from calibration images",
    "BRIEF -o M.nsk",
    "  netsuke quantise demo/kiln.ini -o kiln.nsk\n"
    "writes the model file that the device runs. --onnx F.onnx writes the same as standard ONNX\n"
    "with QuantizeLinear and DequantizeLinear, for other tools; --gains says what each stage of "
    "the\n"
    "brief gained. --refine fine-tunes the weights on labelled training images, the integer "
    "network\n"
    "in the loop.",
    1,
    1,
    "calibration tolerant output array array-name onnx gains refine training",
    "array-name: model",
    run,
};
