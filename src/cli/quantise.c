/* netsuke quantise: builds the integer model. */
#include <stdio.h>

#include "command.h"
#include "table.h"

/* In the order of nsk_range_method. */
static const char *const ranges[] = {
    "each as it moves the scores least", "lowest and highest value of each tensor",
    "all but the outermost values of each tensor", "least squared error of each tensor",
    "least divergence of each tensor"};

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
    for (size_t i = 0; i < 3; i++) {
        const bool on[] = {job->brief->recipe.equalise, job->brief->recipe.rounding,
                           job->brief->recipe.biases};
        static const char *const names[] = {"channels evened out", "rounding fitted",
                                            "biases settled"};
        if (on[i]) {
            g_strlcat(stages, stages[0] != '\0' ? ", " : "", sizeof stages);
            g_strlcat(stages, names[i], sizeof stages);
        }
    }
    cli_table_row(table, "stages\t%s", stages[0] != '\0' ? stages : "none");
    if (nsk_network_carried_levels(job->network) > 0) {
        cli_table_row(table, "levels\tof %d tensors are the file's own and were taken as they are",
                      nsk_network_carried_levels(job->network));
    }
    cli_table_row(table, "proven\tno accumulator can overflow 32 bits, whatever the picture");
    cli_table_print(table);
}

static int run(cli_job *job) {
    if (job->output == NULL) {
        g_snprintf(job->error.text, sizeof job->error.text,
                   "say where the model goes: netsuke quantise BRIEF -o M.nsk");
        return cli_fail(job);
    }
    if (!cli_load_model(job) || !nsk_model_file_write(job->model, job->output, &job->error) ||
        (job->array != NULL &&
         !nsk_model_file_write_c(job->model, job->array,
                                 job->array_name != NULL ? job->array_name : "model",
                                 &job->error)) ||
        (job->onnx != NULL && !nsk_quantise_onnx(job->network, job->calibration,
                                                 &job->brief->recipe, job->onnx, &job->error))) {
        return cli_fail(job);
    }
    if (job->json) {
        JsonBuilder *b = cli_json_start(job);
        cli_json_int(b, "model_bytes", (gint64)job->model->size);
        cli_json_int(b, "weight_bytes", (gint64)job->model->weight_bytes);
        cli_json_int(b, "calibration_images", nsk_images_count(job->calibration));
        json_builder_end_object(b);
        cli_print_json(b);
    } else {
        cli_print_facts(job);
        print_text(job);
    }
    return CLI_DONE;
}

const cli_command cli_quantise = {
    "quantise",
    "build the 8-bit integer model from calibration images",
    "BRIEF -o M.nsk",
    "  netsuke quantise demo/kiln.ini -o kiln.nsk\n"
    "writes the model file that the device runs. --onnx F.onnx writes the same as standard ONNX\n"
    "with QuantizeLinear and DequantizeLinear, for other tools.",
    1,
    1,
    "calibration tolerant output array array-name onnx",
    run,
};
