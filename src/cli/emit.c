/* netsuke emit: hands over C. */

#include "netsuke/emit.h"
#include "command.h"
#include "table.h"

enum { MOST_NETWORKS = 16, USUAL_FRAMES = 4 };

/* Of one brief. */
typedef struct handed {
    cli_job job;
    char *name;
} handed;

/* Each brief is a job of its own, with the options of the call. */
static bool load(cli_job *call, int index, handed *h) {
    char *arguments[] = {call->arguments[index], NULL};
    h->job.arguments = g_strdupv(arguments);
    h->job.model_path = g_strdup(call->model_path);
    h->job.calibration_path = g_strdup(call->calibration_path);
    h->job.held_out_path = g_strdup(call->held_out_path);
    h->job.tolerant = call->tolerant;
    h->job.sample = call->frames > 0 ? call->frames : USUAL_FRAMES;
    bool good = cli_load_model(&h->job) && cli_load_held_out(&h->job);
    nsk_model model;
    if (good) {
        nsk_open(&model, h->job.model->bytes, h->job.model->size);
        good = cli_check_model(&h->job, &model);
    }
    if (good) {
        h->name = nsk_handed_name(nsk_model_fact(&model, NSK_FACT_NAME));
    } else {
        call->error = h->job.error;
    }
    return good;
}

/* `proof`: what was shown, or NULL. */
static void print_text(const cli_job *call, char *const *files, const handed *all, int count,
                       const char *proof) {
    char text[3][CLI_TEXT];
    cli_table *table = cli_table_new("ll");
    cli_table_row(table, "wrote\t%u files into %s", g_strv_length((char **)files), call->output);
    for (int i = 0; i < count; i++) {
        nsk_model model;
        nsk_open(&model, all[i].job.model->bytes, all[i].job.model->size);
        cli_table_row(table,
                      "network\t%s: %s of flash beside the runtime, a workspace of %s in RAM",
                      all[i].name, cli_bytes((double)all[i].job.model->size, text[0]),
                      cli_bytes(model.workspace_bytes, text[1]));
    }
    char **lines = g_strsplit(proof != NULL ? proof : "", "\n", -1);
    for (char **line = lines; *line != NULL && **line != '\0'; line++) {
        cli_table_row(table, "proof\t%s; see %s/proof", *line, call->output);
    }
    g_strfreev(lines);
    cli_table_row(table, "try it\tmake -C %s, or on an emulated core: make -C %s emulate",
                  call->output, call->output);
    cli_table_print(table);
}

static void print_json(const cli_job *call, char *const *files, const handed *first,
                       const char *proof) {
    JsonBuilder *b = cli_json_start(&first->job);
    cli_json_text(b, "folder", call->output);
    json_builder_set_member_name(b, "files");
    json_builder_begin_array(b);
    for (; *files != NULL; files++) {
        json_builder_add_string_value(b, *files);
    }
    json_builder_end_array(b);
    if (proof != NULL) {
        cli_json_text(b, "proof", proof);
    }
    json_builder_end_object(b);
    cli_print_json(b);
}

static int emit(cli_job *call, handed *all, int count) {
    nsk_handed_network networks[MOST_NETWORKS];
    for (int i = 0; i < count; i++) {
        if (!load(call, i, &all[i])) {
            return cli_fail(call);
        }
        networks[i] = (nsk_handed_network){.name = all[i].name,
                                           .model = all[i].job.model,
                                           .tried = all[i].job.held_out,
                                           .product = &all[i].job.brief->product,
                                           .decision = &all[i].job.brief->decision};
    }
    char **files = nsk_emit(networks, count, call->output, &call->error);
    bool alarms = false;
    char *proof = NULL;
    if (files != NULL && call->prove) {
        proof = nsk_handed_prove(call->output, &alarms, &call->error);
    }
    if (files == NULL || (call->prove && proof == NULL)) {
        g_strfreev(files);
        return cli_fail(call);
    }
    if (call->json) {
        print_json(call, files, &all[0], proof);
    } else {
        cli_print_facts(&all[0].job);
        print_text(call, files, all, count, proof);
    }
    g_free(proof);
    g_strfreev(files);
    return alarms ? CLI_LIMIT_BROKEN : CLI_DONE;
}

static int run(cli_job *call) {
    handed all[MOST_NETWORKS] = {0};
    int count = (int)g_strv_length(call->arguments);
    if (call->output == NULL || (call->model_path != NULL && count > 1)) {
        nsk_fail(&call->error, "%s",
                 call->output == NULL ? "say where the C goes: netsuke emit BRIEF -o DIR"
                                      : "--model is for one brief");
        return cli_fail(call);
    }
    int status = emit(call, all, count);
    for (int i = 0; i < count; i++) {
        cli_job_clear(&all[i].job);
        g_free(all[i].name);
    }
    return status;
}

const cli_command cli_emit = {
    "emit",
    "hand over C that needs only a compiler",
    "BRIEF... -o DIR",
    "  netsuke emit demo/kiln.ini -o kiln\n"
    "writes the model, the runtime that it needs, a self-test on held-out frames, build files and "
    "a\n"
    "README into the folder. Several briefs become several networks on one runtime. --prove shows, "
    "for\n"
    "every frame that there can be, that the runtime stays in its memory (status 1 where it cannot "
    "be shown).",
    1,
    MOST_NETWORKS,
    "model calibration held-out tolerant output frames prove",
    "frames: 4",
    run,
};
