/* onnx/function_texts: operators that the standard defines as functions of others, as texts. */
#ifndef NSK_ONNX_FUNCTION_TEXTS_H
#define NSK_ONNX_FUNCTION_TEXTS_H

#include <stddef.h>
#include <stdint.h>

/* `interface`: inputs > outputs. `defaults`: attributes of the call that need not be said. `body`:
 * nodes parted by ';', each "Op input... > output... attribute=value...". A value of an attribute
 * is a letter for its type (i, f, l: a list of whole numbers, s) and the value itself, or $ and the
 * name of the call's attribute.
 *
 * Between them may stand branches, one in no other: "if NAME" (the call gives that input, or that
 * attribute as other than 0), "if-truth NAME" (that input, of truth values), "else-if NAME",
 * "else", "end". */
typedef struct nsk_function_text {
    const char *op;
    int least, most; /* inputs of a call */
    int64_t since;   /* operator set */
    const char *interface, *defaults, *body;
} nsk_function_text;

/* The newer of two that are called alike comes first. */
extern const nsk_function_text nsk_function_texts[];
extern const size_t nsk_function_text_count;

#endif
