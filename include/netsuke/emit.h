/* netsuke/emit.h: C that runs a model, to be handed over. */
#ifndef NETSUKE_EMIT_H
#define NETSUKE_EMIT_H

#include "netsuke/quantise.h"

#ifdef __cplusplus
extern "C" {
#endif

/* A network to be handed over. */
typedef struct nsk_handed_network {
    const char *name; /* a C name in small letters: nsk_handed_name */
    const nsk_model_file *model;
    const nsk_images
        *tried; /* its frames and the scores that they get become the self-test; or NULL */
    /* What stands around it and how it decides, or NULL: nothing, and the likeliest class. */
    const nsk_product *product;
    const nsk_decision *decision;
    /* The board that it is for, or NULL. Weights stand in the order that its core wants
     * (nsk_model_file_for_core), and what rows cost is told in its cycles; else in
     * multiply-accumulates. */
    const struct nsk_board *board;
    bool every_kind; /* the runtime has every kind of layer, for models that come later */
} nsk_handed_network;
/* A C name of any text. nsk_string_free. */
char *nsk_handed_name(const char *text);
/* Writes C that needs nothing but a compiler into the folder: the networks, the runtime that they
 * need and no more, a self-test, build files, a README. The folder is made; it may hold an earlier
 * hand-over, and nothing else. Returns the files' names, NULL behind the last; nsk_strings_free. */
char **nsk_emit(const nsk_handed_network *networks, int count, const char *folder,
                nsk_error *error);
/* Runs the hand-over's proof/prove.sh, which needs Frama-C and minutes: on any frame there can be,
 * the plain runtime stays in its memory and its numbers in their range. Returns what it says, a
 * line a network; `alarms`: whether some are left. NULL where nothing was shown. nsk_string_free.
 */
char *nsk_handed_prove(const char *folder, bool *alarms, nsk_error *error);

#ifdef __cplusplus
}
#endif
#endif
