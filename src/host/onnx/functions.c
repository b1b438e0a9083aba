#include "onnx/functions.h"

#include <stdlib.h>
#include <string.h>

#include "onnx/function_texts.h"
#include "onnx/wire.h"

/* A function, and what its attributes are where a call does not say. */
typedef struct defined {
    const Onnx__FunctionProto *function;
    const Onnx__NodeProto *call; /* that it was made for; NULL: the file has it for all */
    GPtrArray *defaults;         /* of Onnx__AttributeProto * */
} defined;

struct nsk_onnx_functions {
    GArray *all;     /* of defined: the file's first */
    GPtrArray *kept; /* what was made here; g_free */
    GPtrArray *read; /* attributes that were unpacked here */
    nsk_onnx_is_truth *is_truth;
    const void *context;
};

/* ---- memory: everything made here is freed at the end ---- */

static void *keep(nsk_onnx_functions *f, void *made) {
    g_ptr_array_add(f->kept, made);
    return made;
}

static char *keep_text(nsk_onnx_functions *f, const char *text) {
    return keep(f, g_strdup(text));
}

/* ---- texts to messages ---- */

static void set_list(nsk_onnx_functions *f, Onnx__AttributeProto *a, const char *words) {
    char **numbers = g_strsplit(words, ",", -1);
    a->n_ints = g_strv_length(numbers);
    a->ints = keep(f, g_new0(int64_t, a->n_ints + 1));
    for (size_t i = 0; i < a->n_ints; i++) {
        a->ints[i] = g_ascii_strtoll(numbers[i], NULL, 10);
    }
    g_strfreev(numbers);
}

/* "name=i1", "name=$other". */
static Onnx__AttributeProto *attribute_of(nsk_onnx_functions *f, const char *word) {
    static const Onnx__AttributeProto plain = ONNX__ATTRIBUTE_PROTO__INIT;
    Onnx__AttributeProto *a = keep(f, g_memdup2(&plain, sizeof plain));
    const char *value = strchr(word, '=') + 1;
    a->name = keep(f, g_strndup(word, (gsize)(value - word - 1)));
    switch (*value++) {
    case 'i':
        a->type = ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INT;
        a->i = g_ascii_strtoll(value, NULL, 10);
        break;
    case 'f':
        a->type = ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__FLOAT;
        a->f = (float)g_ascii_strtod(value, NULL);
        break;
    case 'l':
        a->type = ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INTS;
        set_list(f, a, value);
        break;
    default:
        a->ref_attr_name = keep_text(f, value);
        break;
    }
    return a;
}

/* The words up to ">" or the first attribute, and the rest. */
static char **names_of(nsk_onnx_functions *f, char **words, size_t *count) {
    *count = 0;
    while (words[*count] != NULL && strcmp(words[*count], ">") != 0 &&
           strchr(words[*count], '=') == NULL) {
        (*count)++;
    }
    char **names = keep(f, g_new0(char *, *count + 1));
    for (size_t i = 0; i < *count; i++) {
        names[i] = keep_text(f, words[i]);
    }
    return names;
}

static Onnx__NodeProto *node_of(nsk_onnx_functions *f, const char *line) {
    static const Onnx__NodeProto plain = ONNX__NODE_PROTO__INIT;
    Onnx__NodeProto *n = keep(f, g_memdup2(&plain, sizeof plain));
    char *stripped = g_strstrip(g_strdup(line));
    char **words = g_strsplit(stripped, " ", -1);
    n->op_type = keep_text(f, words[0]);
    n->input = names_of(f, words + 1, &n->n_input);
    char **rest = words + 1 + n->n_input + 1; /* behind ">" */
    n->output = names_of(f, rest, &n->n_output);
    rest += n->n_output;
    n->attribute = keep(f, g_new0(Onnx__AttributeProto *, g_strv_length(rest) + 1));
    for (; *rest != NULL; rest++) {
        n->attribute[n->n_attribute++] = attribute_of(f, *rest);
    }
    g_strfreev(words);
    g_free(stripped);
    return n;
}

/* ---- the standard's own, made from their texts for a call ---- */

static Onnx__AttributeProto *named(Onnx__AttributeProto *const *all, size_t count,
                                   const char *name) {
    for (size_t i = 0; i < count; i++) {
        if (all[i]->name != NULL && strcmp(all[i]->name, name) == 0) {
            return all[i];
        }
    }
    return NULL;
}

/* A call of the function that is being made. */
typedef struct making {
    nsk_onnx_functions *functions;
    const Onnx__FunctionProto *function; /* its inputs are known */
    const Onnx__NodeProto *call;
} making;

/* The call's input that the function calls `name`; NULL where it gives none. */
static const char *input_given(const making *m, const char *name) {
    for (size_t i = 0; i < m->function->n_input && i < m->call->n_input; i++) {
        if (strcmp(m->function->input[i], name) == 0 && *m->call->input[i] != '\0') {
            return m->call->input[i];
        }
    }
    return NULL;
}

static bool is_given(const making *m, const char *name) {
    const Onnx__AttributeProto *a = named(m->call->attribute, m->call->n_attribute, name);
    return input_given(m, name) != NULL || (a != NULL && (a->i != 0 || a->f < 0.0F || a->f > 0.0F));
}

static bool is_truth(const making *m, const char *name) {
    const char *given = input_given(m, name);
    return given != NULL && m->functions->is_truth != NULL &&
           m->functions->is_truth(m->functions->context, given);
}

/* Of several branches the first whose condition holds is the body's; `taken` and `here` go from
 * line to line. False where the line is a node. */
static bool read_branch(const making *m, const char *line, bool *taken, bool *here) {
    const struct {
        const char *word;
        bool first;
        bool (*holds)(const making *m, const char *name);
    } words[] = {
        {"if ", true, is_given}, {"if-truth ", true, is_truth}, {"else-if ", false, is_given}};
    for (size_t i = 0; i < G_N_ELEMENTS(words); i++) {
        if (g_str_has_prefix(line, words[i].word)) {
            *taken = *taken && !words[i].first;
            *here = !*taken && words[i].holds(m, line + strlen(words[i].word));
            *taken = *taken || *here;
            return true;
        }
    }
    bool end = strcmp(line, "end") == 0;
    bool otherwise = strcmp(line, "else") == 0;
    *here = end ? true : otherwise ? !*taken : *here;
    return end || otherwise;
}

static void make_body(const making *m, Onnx__FunctionProto *function, const char *body) {
    char **lines = g_strsplit(body, ";", -1);
    bool taken = false;
    bool here = true;
    function->node = keep(m->functions, g_new0(Onnx__NodeProto *, g_strv_length(lines) + 1));
    for (char **line = lines; *line != NULL; line++) {
        if (!read_branch(m, g_strstrip(*line), &taken, &here) && here) {
            function->node[function->n_node++] = node_of(m->functions, *line);
        }
    }
    g_strfreev(lines);
}

static const defined *make_standard(nsk_onnx_functions *f, const nsk_function_text *t,
                                    const Onnx__NodeProto *call) {
    static const Onnx__FunctionProto plain = ONNX__FUNCTION_PROTO__INIT;
    Onnx__FunctionProto *function = keep(f, g_memdup2(&plain, sizeof plain));
    char **words = g_strsplit(t->interface, " ", -1);
    char **defaults = g_strsplit(t->defaults, " ", -1);
    defined d = {function, call, g_ptr_array_new()};
    function->name = keep_text(f, t->op);
    function->input = names_of(f, words, &function->n_input);
    function->output = names_of(f, words + function->n_input + 1, &function->n_output);
    make_body(&(making){f, function, call}, function, t->body);
    for (char **word = defaults; *word != NULL && **word != '\0'; word++) {
        g_ptr_array_add(d.defaults, attribute_of(f, *word));
    }
    g_array_append_val(f->all, d);
    g_strfreev(words);
    g_strfreev(defaults);
    return &g_array_index(f->all, defined, f->all->len - 1);
}

/* ---- the file's ---- */

/* Defaults came to the format later than the schema that this is built with: they stand among the
 * fields that it does not know, behind their length. */
enum { DEFAULTS_FIELD = 11 };

static bool read_default(nsk_onnx_functions *f, GPtrArray *to,
                         const ProtobufCMessageUnknownField *u, nsk_error *error) {
    size_t skip = 0;
    while (skip < u->len && u->data[skip] >= 0x80) {
        skip++;
    }
    skip++;
    Onnx__AttributeProto *a =
        skip <= u->len && nsk_onnx_wire_fits(u->data + skip, u->len - skip,
                                             &onnx__attribute_proto__descriptor, error)
            ? onnx__attribute_proto__unpack(NULL, u->len - skip, u->data + skip)
            : NULL;
    if (a == NULL) {
        return nsk_fail(error, "an attribute of a function is damaged");
    }
    g_ptr_array_add(f->read, a);
    g_ptr_array_add(to, a);
    return true;
}

static bool add_own(nsk_onnx_functions *f, const Onnx__FunctionProto *function, nsk_error *error) {
    defined d = {function, NULL, g_ptr_array_new()};
    g_array_append_val(f->all, d);
    if (function->name == NULL) {
        return nsk_fail(error, "a function has no name; the file is damaged");
    }
    bool good = true;
    for (unsigned i = 0; i < function->base.n_unknown_fields && good; i++) {
        const ProtobufCMessageUnknownField *u = &function->base.unknown_fields[i];
        good = u->tag != DEFAULTS_FIELD || u->wire_type != PROTOBUF_C_WIRE_TYPE_LENGTH_PREFIXED ||
               read_default(f, d.defaults, u, error);
    }
    return good;
}

nsk_onnx_functions *nsk_onnx_functions_new(const Onnx__ModelProto *model, nsk_onnx_is_truth *asks,
                                           const void *context, nsk_error *error) {
    nsk_onnx_functions *f = g_new0(nsk_onnx_functions, 1);
    f->is_truth = asks;
    f->context = context;
    f->all = g_array_new(FALSE, FALSE, sizeof(defined));
    f->kept = g_ptr_array_new_with_free_func(g_free);
    f->read = g_ptr_array_new();
    for (size_t i = 0; i < model->n_functions; i++) {
        if (!add_own(f, model->functions[i], error)) {
            nsk_onnx_functions_free(f);
            return NULL;
        }
    }
    return f;
}

void nsk_onnx_functions_free(nsk_onnx_functions *f) {
    if (f == NULL) {
        return;
    }
    for (guint i = 0; i < f->all->len; i++) {
        g_ptr_array_free(g_array_index(f->all, defined, i).defaults, TRUE);
    }
    for (guint i = 0; i < f->read->len; i++) {
        onnx__attribute_proto__free_unpacked(f->read->pdata[i], NULL);
    }
    g_array_free(f->all, TRUE);
    g_ptr_array_free(f->kept, TRUE);
    g_ptr_array_free(f->read, TRUE);
    g_free(f);
}

/* ---- calls ---- */

static const char *domain_of(const char *domain) {
    return domain == NULL || strcmp(domain, "ai.onnx") == 0 ? "" : domain;
}

static const nsk_function_text *text_of(const Onnx__NodeProto *node, int64_t opset) {
    for (size_t i = 0; i < nsk_function_text_count && *domain_of(node->domain) == '\0'; i++) {
        const nsk_function_text *t = &nsk_function_texts[i];
        if (strcmp(t->op, node->op_type) == 0 && opset >= t->since &&
            node->n_input >= (size_t)t->least && node->n_input <= (size_t)t->most) {
            return t;
        }
    }
    return NULL;
}

const Onnx__FunctionProto *nsk_onnx_function_of(nsk_onnx_functions *f, const Onnx__NodeProto *node,
                                                int64_t opset) {
    for (guint i = 0; i < f->all->len; i++) {
        const defined *d = &g_array_index(f->all, defined, i);
        if (d->call == NULL && strcmp(d->function->name, node->op_type) == 0 &&
            strcmp(domain_of(d->function->domain), domain_of(node->domain)) == 0) {
            return d->function;
        }
    }
    const nsk_function_text *t = text_of(node, opset);
    return t != NULL ? make_standard(f, t, node)->function : NULL;
}

/* What the call says of an attribute, or the default; NULL where neither does. */
static Onnx__AttributeProto *said(const nsk_onnx_functions *f, const Onnx__FunctionProto *function,
                                  const Onnx__NodeProto *call, const char *name) {
    Onnx__AttributeProto *own = named(call->attribute, call->n_attribute, name);
    for (guint i = 0; i < f->all->len && own == NULL; i++) {
        const defined *d = &g_array_index(f->all, defined, i);
        own = d->function == function
                  ? named((Onnx__AttributeProto *const *)(void *)d->defaults->pdata,
                          d->defaults->len, name)
                  : NULL;
    }
    return own;
}

/* A list of numbers that the call gives as one is a list of one; one that is wanted as a number in
 * floating point may be given whole. */
static void fit(nsk_onnx_functions *f, Onnx__AttributeProto *a) {
    bool single = a->type == ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INT;
    if (single && g_strcmp0(a->name, "value_ints") == 0) {
        a->type = ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__INTS;
        a->n_ints = 1;
        a->ints = keep(f, g_memdup2(&a->i, sizeof a->i));
    } else if (single && g_strcmp0(a->name, "value_float") == 0) {
        a->type = ONNX__ATTRIBUTE_PROTO__ATTRIBUTE_TYPE__FLOAT;
        a->f = (float)a->i;
    }
}

/* The attributes of a body's node: those that the call leaves open stay out. */
static void resolve(nsk_onnx_functions *f, const Onnx__FunctionProto *function,
                    const Onnx__NodeProto *call, Onnx__NodeProto *node) {
    Onnx__AttributeProto **own = keep(f, g_new0(Onnx__AttributeProto *, node->n_attribute + 1));
    size_t count = 0;
    for (size_t i = 0; i < node->n_attribute; i++) {
        Onnx__AttributeProto *a = node->attribute[i];
        if (a->ref_attr_name != NULL && *a->ref_attr_name != '\0') {
            const Onnx__AttributeProto *of = said(f, function, call, a->ref_attr_name);
            if (of == NULL) {
                continue;
            }
            Onnx__AttributeProto *copy = keep(f, g_memdup2(of, sizeof *of));
            copy->name = a->name;
            fit(f, copy);
            a = copy;
        }
        own[count++] = a;
    }
    node->attribute = own;
    node->n_attribute = count;
}

/* The body's name for a value as the call's: an input, an output, or a name of the call's own. */
static char *renamed(nsk_onnx_functions *f, const Onnx__FunctionProto *function,
                     const Onnx__NodeProto *call, const char *name) {
    const struct {
        char *const *formal, *const *actual;
        size_t formals, actuals;
    } sides[] = {{function->input, call->input, function->n_input, call->n_input},
                 {function->output, call->output, function->n_output, call->n_output}};
    for (int s = 0; s < 2 && *name != '\0'; s++) {
        for (size_t i = 0; i < sides[s].formals; i++) {
            bool given = i < sides[s].actuals && *sides[s].actual[i] != '\0';
            if (strcmp(sides[s].formal[i], name) == 0 && (s == 0 || given)) {
                return keep_text(f, given ? sides[s].actual[i] : "");
            }
        }
    }
    return *name != '\0' ? keep(f, g_strdup_printf("%s/%s", call->name, name)) : keep_text(f, "");
}

static char **renamed_all(nsk_onnx_functions *f, const Onnx__FunctionProto *function,
                          const Onnx__NodeProto *call, char *const *names, size_t count) {
    char **own = keep(f, g_new0(char *, count + 1));
    for (size_t i = 0; i < count; i++) {
        own[i] = renamed(f, function, call, names[i]);
    }
    return own;
}

Onnx__NodeProto *nsk_onnx_function_node(nsk_onnx_functions *f, const Onnx__FunctionProto *function,
                                        const Onnx__NodeProto *call, size_t index) {
    const Onnx__NodeProto *from = function->node[index];
    Onnx__NodeProto *node = keep(f, g_memdup2(from, sizeof *from));
    bool has_name = from->name != NULL && *from->name != '\0';
    node->name =
        keep(f, has_name ? g_strdup_printf("%s/%s", call->name, from->name)
                         : g_strdup_printf("%s/%s-%zu", call->name,
                                           from->op_type != NULL ? from->op_type : "?", index + 1));
    node->input = renamed_all(f, function, call, from->input, from->n_input);
    node->output = renamed_all(f, function, call, from->output, from->n_output);
    while (node->n_input > 0 && *node->input[node->n_input - 1] == '\0') {
        node->n_input--; /* what the call leaves out at the end is not there */
    }
    resolve(f, function, call, node);
    return node;
}
