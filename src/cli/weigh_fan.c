/* Measuring variants in processes of their own, and the commands that do it. */
#include "netsuke/processes.h"
#include "weigh.h"

/* Options that change what is measured, and are handed on. */
static void hand_on(const cli_context *context, GPtrArray *to) {
    const struct {
        const char *option, *value;
    } paths[] = {{"--board", context->board_path},
                 {"--calibration", context->calibration_path},
                 {"--held-out", context->held_out_path},
                 {"--training", context->training_path}};
    for (size_t i = 0; i < G_N_ELEMENTS(paths); i++) {
        if (paths[i].value != NULL) {
            g_ptr_array_add(to, g_strdup(paths[i].option));
            g_ptr_array_add(to, g_canonicalize_filename(paths[i].value, NULL));
        }
    }
    if (context->tolerant) {
        g_ptr_array_add(to, g_strdup("--tolerant"));
    }
    if (context->sample > 0) {
        g_ptr_array_add(to, g_strdup_printf("--sample=%d", context->sample));
    }
}

static GPtrArray *arguments_of(const cli_context *context, const entry *e, const char *folder) {
    GPtrArray *list = g_ptr_array_new_with_free_func(g_free);
    g_ptr_array_add(list, g_file_read_link("/proc/self/exe", NULL));
    g_ptr_array_add(list, g_strdup("weigh"));
    g_ptr_array_add(list, g_canonicalize_filename(e->context.arguments[0], NULL));
    g_ptr_array_add(list, g_strdup("--only"));
    g_ptr_array_add(list, g_strdup(e->name));
    g_ptr_array_add(list, g_strdup("--keep"));
    g_ptr_array_add(list, g_canonicalize_filename(folder, NULL));
    hand_on(context, list);
    g_ptr_array_add(list, NULL);
    return list;
}

/* Status 1 says that a limit is broken: the variant is measured all the same. */
char *weigh_command_line(const cli_context *context, const weigh_options *own, const entry *e) {
    GPtrArray *list = arguments_of(context, e, own->keep);
    GString *line = g_string_new("");
    for (guint i = 0; i + 1 < list->len; i++) {
        char *quoted = g_shell_quote(g_ptr_array_index(list, i));
        g_string_append_printf(line, "%s%s", i > 0 ? " " : "", quoted);
        g_free(quoted);
    }
    g_string_append(line, " || test $? = 1");
    g_ptr_array_free(list, TRUE);
    return g_string_free(line, FALSE);
}

bool weigh_fan_out(cli_context *context, const weigh_options *own, entry *entries, int count) {
    GPtrArray *commands = g_ptr_array_new_with_free_func((GDestroyNotify)g_ptr_array_unref);
    GPtrArray *names = g_ptr_array_new_with_free_func(g_free);
    nsk_process *processes = g_new0(nsk_process, count);
    int missing = 0;
    for (int i = 0; i < count; i++) {
        if (!entries[i].is_measured) {
            GPtrArray *command = arguments_of(context, &entries[i], own->keep);
            char *name = g_strdup_printf("variant %s", entries[i].name);
            g_ptr_array_add(commands, command);
            g_ptr_array_add(names, name);
            processes[missing++] = (nsk_process){name, (char **)command->pdata};
        }
    }
    bool good =
        nsk_processes_run(processes, missing, own->jobs, cli_progress, NULL, &context->error);
    g_free(processes);
    g_ptr_array_free(names, TRUE);
    g_ptr_array_free(commands, TRUE);
    return good;
}
