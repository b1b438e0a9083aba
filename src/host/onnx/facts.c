#include "onnx/facts.h"

#include "netsuke/device.h"

#include <string.h>

/* metadata_props have no fixed keys beyond the few that the standard suggests; these are in use. */
static const struct {
    const char *key;
    nsk_fact fact;
} keys[] = {
    {"name", NSK_FACT_NAME},
    {"model_name", NSK_FACT_NAME},
    {"title", NSK_FACT_NAME},
    {"version", NSK_FACT_VERSION},
    {"model_version", NSK_FACT_VERSION},
    {"author", NSK_FACT_AUTHOR},
    {"authors", NSK_FACT_AUTHOR},
    {"model_author", NSK_FACT_AUTHOR},
    {"licence", NSK_FACT_LICENCE},
    {"license", NSK_FACT_LICENCE},
    {"model_license", NSK_FACT_LICENCE},
    {"description", NSK_FACT_DESCRIPTION},
};

/* One line of text, or NULL where there is nothing to read. */
static char *one_line(const char *text) {
    enum { MOST = 1000 };
    if (text == NULL) {
        return NULL;
    }
    char *line = g_utf8_make_valid(text, (gssize)strnlen(text, MOST));
    g_strdelimit(line, "\r\n\t", ' ');
    g_strstrip(line);
    if (line[0] == '\0') {
        g_free(line);
        return NULL;
    }
    return line;
}

static void take(char **facts, nsk_fact fact, const char *text) {
    if (facts[fact] == NULL) {
        facts[fact] = one_line(text);
    }
}

void nsk_onnx_facts(const Onnx__ModelProto *model, char **facts) {
    for (size_t i = 0; i < model->n_metadata_props; i++) {
        const Onnx__StringStringEntryProto *entry = model->metadata_props[i];
        for (size_t k = 0; entry->key != NULL && k < G_N_ELEMENTS(keys); k++) {
            if (g_ascii_strcasecmp(entry->key, keys[k].key) == 0) {
                take(facts, keys[k].fact, entry->value);
            }
        }
    }
    if (model->model_version > 0) {
        char *number = g_strdup_printf("%" G_GINT64_FORMAT, model->model_version);
        take(facts, NSK_FACT_VERSION, number);
        g_free(number);
    }
    take(facts, NSK_FACT_DESCRIPTION, model->doc_string);
    take(facts, NSK_FACT_DESCRIPTION, model->graph->doc_string);
}
