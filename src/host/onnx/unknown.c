#include "onnx/unknown.h"

#include <glib.h>

enum { MOST_NAMES = 16 };

/* Families of the standard's operators, and the way around them. */
static const struct {
    const char *names[MOST_NAMES];
    const char *advice;
} families[] = {
    {{"ArgMax", "ArgMin", "TopK"},
     "gives numbers of classes, not scores, in the middle of the network; name the scores as "
     "[model] output in the brief"},
    {{"If", "Loop", "Scan"},
     "chooses or repeats nodes while it runs; export with the input's size fixed, so that the "
     "exporter writes out what is done"},
    {{"GRU", "LSTM", "RNN"},
     "remembers what came before; a network that sees one picture at a time is wanted"},
    {{"Attention"},
     "takes queries, keys, values and a mask, from operator set 23 on; with keys of earlier calls, "
     "a network remembers what came before: one that sees one picture at a time is wanted"},
    {{"Bernoulli", "Multinomial", "RandomNormal", "RandomNormalLike", "RandomUniform",
      "RandomUniformLike"},
     "draws random numbers; export the network for inference"},
    {{"MaxRoiPool", "NonMaxSuppression", "NonZero", "RoiAlign"},
     "finds places in a picture; a classifier's scores are wanted: name them as [model] output "
     "in the brief"},
    {{"ConvInteger", "DynamicQuantizeLinear", "MatMulInteger", "QLinearConv", "QLinearMatMul"},
     "computes in integers of its own; export with QuantizeLinear and DequantizeLinear in pairs "
     "around the float operators, or without"},
    {{"SequenceAt", "SequenceConstruct", "SequenceEmpty", "SequenceInsert", "SequenceLength",
      "SplitToSequence", "ConcatFromSequence", "Optional", "OptionalGetElement"},
     "handles lists of tensors; export with Split and Concat"},
};

static const char *advice_on(const char *op) {
    for (size_t i = 0; i < G_N_ELEMENTS(families); i++) {
        for (int k = 0; k < MOST_NAMES && families[i].names[k] != NULL; k++) {
            if (g_strcmp0(families[i].names[k], op) == 0) {
                return families[i].advice;
            }
        }
    }
    return NULL;
}

bool nsk_onnx_unknown(const Onnx__NodeProto *node, nsk_error *error) {
    const char *domain = node->domain != NULL ? node->domain : "";
    if (*domain != '\0' && g_strcmp0(domain, "ai.onnx") != 0) {
        return nsk_unsupported(error,
                               "node '%s': operator '%s' is one of '%s', not of the standard, and "
                               "the file does not say what it does; export with the standard's "
                               "operators",
                               node->name, node->op_type, domain);
    }
    const char *advice = advice_on(node->op_type);
    if (advice != NULL) {
        return nsk_unsupported(error, "node '%s' (%s): %s", node->name, node->op_type, advice);
    }
    return nsk_unsupported(error,
                           "node '%s': operator '%s' is not known; write it in those that "
                           "docs/onnx-support.md lists, or name a tensor before it as [model] "
                           "output in the brief",
                           node->name, node->op_type);
}
