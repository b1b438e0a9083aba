/* channels/builder: what the rules of single operators (pass.c) tell of channels. */
#ifndef NSK_CHANNELS_BUILDER_H
#define NSK_CHANNELS_BUILDER_H

#include "channels/channels.h"

enum { NSK_STAYS = 0 }; /* the channel of all that has to stay */

typedef struct nsk_channel_builder {
    const nsk_graph *graph;
    const nsk_node *node;       /* whose rule runs */
    nsk_channel_places *places; /* channels as they were born, tied or not */
    GArray *parent;             /* of int, one a channel: one that it is tied to */
    GArray *family;             /* of int, one a channel: born together */
    GArray *family_parent;      /* of int, one a family */
    GPtrArray *family_names;
    const char *tied_by;
} nsk_channel_builder;

/* pass.c: what the builder's node passes on of its inputs' channels. */
void nsk_channels_pass(nsk_channel_builder *builder);

/* Of those that are tied to it, and of those families, the first. */
int nsk_channel_root(const nsk_channel_builder *builder, int channel);
int nsk_channel_family(const nsk_channel_builder *builder, int channel);
void nsk_channel_tie(nsk_channel_builder *builder, int one, int other);
/* So many new ones. g_free. */
int *nsk_channels_new(nsk_channel_builder *builder, int count);

/* NULL where all of the axis stays, or there is no value. */
int *nsk_places_at(const nsk_channel_builder *builder, int value, int axis);
int *nsk_places_copy(const int *places, int64_t count); /* g_free */
/* Takes the places over; those that the axis has already are tied to them. */
void nsk_places_give(nsk_channel_builder *builder, int value, int axis, int *places);
void nsk_places_tie(nsk_channel_builder *builder, const int *one, const int *other, int64_t count);
void nsk_places_stay(nsk_channel_builder *builder, int value, int axis);
void nsk_places_all_stay(nsk_channel_builder *builder, int value);
/* The elements of `to` are those of `from` that `sources` says, -1: a new one; NULL: all as they
 * stand. */
void nsk_places_move(nsk_channel_builder *builder, int from, int to, const int32_t *sources);

#endif
