/* netsuke emit: hands over C. */

#include <string.h>

#include "command.h"
#include "netsuke/emit.h"
#include "table.h"

typedef struct emit_options {
    char *output, *kinds;
    gint frames;
    gboolean prove;
} emit_options;

enum { MOST_NETWORKS = 16, USUAL_FRAMES = 4 };

/* Of one brief. */
typedef struct handed {
    cli_context context;
    char *name;
} handed;

/* Each brief has a context of its own, with the options of the call. */
static bool load(cli_context *context, int index, handed *h) {
    const emit_options *own = context->own;
    char *arguments[] = {context->arguments[index], NULL};
    h->context.arguments = g_strdupv(arguments);
    h->context.model_path = g_strdup(context->model_path);
    h->context.board_path = g_strdup(context->board_path);
    h->context.calibration_path = g_strdup(context->calibration_path);
    h->context.held_out_path = g_strdup(context->held_out_path);
    h->context.tolerant = context->tolerant;
    h->context.sample = own->frames > 0 ? own->frames : USUAL_FRAMES;
    bool good = cli_load_model(&h->context) && cli_load_held_out(&h->context);
    nsk_model model;
    if (good) {
        nsk_open(&model, h->context.model->bytes, h->context.model->size);
        good = cli_check_model(&h->context, &model);
    }
    const bool boarded = good && h->context.brief->board != NULL;
    good = good && (!boarded || cli_load_board(&h->context));
    if (good) {
        h->name = nsk_handed_name(nsk_model_fact(&model, NSK_FACT_NAME));
    } else {
        context->error = h->context.error;
    }
    return good;
}

/* Whether its weights are handed over in an order of the board's core. */
static bool is_ordered(const handed *h) {
    const nsk_model_file *plain = h->context.model;
    nsk_model_file *model =
        nsk_model_file_for_core(plain, h->context.board != NULL ? h->context.board->core : "any");
    const bool ordered = memcmp(model->bytes, plain->bytes, plain->size) != 0;
    nsk_model_file_free(model);
    return ordered;
}

/* `proof`: what was shown, or NULL. */
static void print_text(const cli_context *context, char *const *files, const handed *all, int count,
                       const char *proof) {
    const emit_options *own = context->own;
    char text[3][CLI_TEXT];
    cli_table *table = cli_table_new("ll");
    cli_table_row(table, "wrote\t%u files into %s", g_strv_length((char **)files), own->output);
    for (int i = 0; i < count; i++) {
        nsk_model model;
        nsk_open(&model, all[i].context.model->bytes, all[i].context.model->size);
        cli_table_row(table,
                      "network\t%s: %s of flash beside the runtime, a workspace of %s in RAM",
                      all[i].name, cli_bytes((double)all[i].context.model->size, text[0]),
                      cli_bytes(model.workspace_bytes, text[1]));
        if (is_ordered(&all[i])) {
            cli_table_row(table,
                          "order\t%s: weights stand as the kernels of %s want them; others "
                          "run them slowly or refuse them",
                          all[i].name, all[i].context.board->core);
        }
    }
    char **lines = g_strsplit(proof != NULL ? proof : "", "\n", -1);
    for (char **line = lines; *line != NULL && **line != '\0'; line++) {
        cli_table_row(table, "proof\t%s; see %s/proof", *line, own->output);
    }
    g_strfreev(lines);
    cli_table_row(table, "try it\tmake -C %s, or on an emulated core: make -C %s emulate",
                  own->output, own->output);
    cli_table_print(table);
}

static void print_json(const cli_context *context, char *const *files, const handed *first,
                       const char *proof) {
    const emit_options *own = context->own;
    JsonBuilder *b = cli_json_start(&first->context);
    cli_json_text(b, "folder", own->output);
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

static int emit(cli_context *context, handed *all, int count) {
    const emit_options *own = context->own;
    nsk_handed_network networks[MOST_NETWORKS];
    for (int i = 0; i < count; i++) {
        if (!load(context, i, &all[i])) {
            return cli_fail(context);
        }
        networks[i] = (nsk_handed_network){.name = all[i].name,
                                           .model = all[i].context.model,
                                           .tried = all[i].context.held_out,
                                           .product = &all[i].context.brief->product,
                                           .decision = &all[i].context.brief->decision,
                                           .board = all[i].context.board,
                                           .every_kind = g_strcmp0(own->kinds, "all") == 0};
    }
    char **files = nsk_emit(networks, count, own->output, &context->error);
    bool alarms = false;
    char *proof = NULL;
    if (files != NULL && own->prove) {
        proof = nsk_handed_prove(own->output, &alarms, &context->error);
    }
    if (files == NULL || (own->prove && proof == NULL)) {
        g_strfreev(files);
        return cli_fail(context);
    }
    if (context->json) {
        print_json(context, files, &all[0], proof);
    } else {
        cli_print_facts(&all[0].context);
        print_text(context, files, all, count, proof);
    }
    g_free(proof);
    g_strfreev(files);
    return alarms ? CLI_LIMIT_BROKEN : CLI_DONE;
}

static int run(cli_context *context) {
    const emit_options *own = context->own;
    handed all[MOST_NETWORKS] = {0};
    int count = (int)g_strv_length(context->arguments);
    if (own->kinds != NULL && strcmp(own->kinds, "own") != 0 && strcmp(own->kinds, "all") != 0) {
        nsk_fail(&context->error, "--kinds %s: say own or all", own->kinds);
        return cli_fail(context);
    }
    if (own->output == NULL || (context->model_path != NULL && count > 1)) {
        nsk_fail(&context->error, "%s",
                 own->output == NULL ? "say where the C goes: netsuke emit BRIEF -o DIR"
                                     : "--model is for one brief");
        return cli_fail(context);
    }
    int status = emit(context, all, count);
    for (int i = 0; i < count; i++) {
        cli_context_clear(&all[i].context);
        g_free(all[i].name);
    }
    return status;
}

static const cli_own own_options[] = {
    {"output", offsetof(emit_options, output), 0},
    {"frames", offsetof(emit_options, frames), 0},
    {"prove", offsetof(emit_options, prove), 0},
    {"kinds", offsetof(emit_options, kinds), 0},
    {NULL, 0, 0},
};

const cli_command cli_emit = {
    .name = "emit",
    .summary = "hand over C that needs only a compiler",
    .arguments = "BRIEF... -o DIR",
    .example = "  netsuke emit demo/kiln.ini -o kiln\n"
               "writes the model, the runtime that it needs, a self-test on held-out frames, build "
               "files and "
               "a\n"
               "README into the folder. Several briefs become several networks on one runtime. "
               "--kinds all\n"
               "is for a board that is given other models later, over its link. --prove shows, "
               "for\n"
               "every frame that there can be, that the runtime stays in its memory (status 1 "
               "where it cannot "
               "be shown).",
    .least = 1,
    .most = MOST_NETWORKS,
    .shared = "model board calibration held-out tolerant",
    .own = own_options,
    .own_size = sizeof(emit_options),
    .usual = "frames: 4; kinds: own",
    .makes_folder = true,
    .run = run,
};
