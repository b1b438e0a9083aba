/* A link's frames: rows that the host sends, scores, and what each layer took. */
#include "../small.h"

#include <string.h>

#include "../crc.h"
#include "link_parts.h"

/* ---- the checksum of what a layer left ---- */

/* Adds a wide element's bytes, the lowest first on every machine. */
static uint32_t add_wide(uint32_t sum, const uint8_t *at, unsigned bytes) {
    uint8_t low_first[4];
    int16_t wide = 0;
    int32_t level = 0;
    if (bytes == 2) {
        memcpy(&wide, at, sizeof wide);
        level = wide;
    } else {
        memcpy(&level, at, sizeof level);
    }
    for (unsigned i = 0; i < bytes; i++) {
        low_first[i] = (uint8_t)((uint32_t)level >> 8 * i);
    }
    return nsk_crc32(sum, low_first, bytes);
}

static uint32_t add_elements(uint32_t sum, const uint8_t *at, unsigned bytes, uint32_t count) {
    if (bytes == 1) {
        return nsk_crc32(sum, at, count);
    }
    for (uint32_t i = 0; i < count; i++) {
        sum = add_wide(sum, at + i * bytes, bytes);
    }
    return sum;
}

uint32_t nsk_output_sum(const nsk_model *model, const void *workspace, unsigned layer,
                        uint32_t most) {
    const nsk_tensor out = nsk_tensor_at(model, nsk_layer_output(model, layer));
    const uint8_t *at = (const uint8_t *)workspace + out.offset;
    const uint32_t pixels = layer >= model->streamed ? (uint32_t)out.height * out.width : 0;
    uint32_t sum = 0;
    for (uint32_t i = 0; i < pixels && most > 0; i++) {
        const uint32_t count = out.channels < most ? out.channels : most;
        sum = add_elements(sum, at + i * (uint32_t)out.pixel_stride, out.element, count);
        most -= count;
    }
    return sum;
}

/* ---- looking at layers ---- */

static uint32_t now(const nsk_link *link) {
    return link->port->ticks(link->port->context);
}

static void paint(const nsk_link *link) {
    if (link->port->stack_paint != NULL) {
        link->port->stack_paint(link->port->context);
    }
}

static uint32_t used(const nsk_link *link) {
    return link->port->stack_used != NULL ? link->port->stack_used(link->port->context) : 0;
}

static void note(nsk_link_layer *of, uint32_t ticks, uint32_t stack) {
    of->ticks += ticks;
    of->stack = stack > of->stack ? stack : of->stack;
}

static void before_layer(void *context, const nsk_model *model, unsigned layer) {
    nsk_link *link = (nsk_link *)context;
    const uint32_t entered = now(link);
    (void)model;
    (void)layer;
    paint(link);
    link->began = now(link);
    link->aside += link->began - entered;
}

static void after_layer(void *context, const nsk_model *model, unsigned layer) {
    nsk_link *link = (nsk_link *)context;
    const uint32_t left = now(link);
    nsk_link_layer *of = &link->layers[layer];
    link->in_layers += left - link->began;
    note(of, left - link->began, used(link));
    of->sum = nsk_output_sum(model, link->workspace, layer, link->sums);
    link->aside += now(link) - left;
}

void nsk_link_set_observer(nsk_link *link) {
    link->observer.before = before_layer;
    link->observer.after = after_layer;
    link->observer.context = link;
}

/* ---- a frame ---- */

void nsk_link_begin_frame(nsk_link *link, uint32_t frame, uint32_t sums) {
    memset(link->layers, 0, link->model.layers * sizeof *link->layers);
    memset(&link->prepare, 0, sizeof link->prepare);
    link->frame = frame;
    link->rows = 0;
    link->has_frame = true;
    link->live.has_picture = false;
    link->sums = sums;
    nsk_start(&link->feed, &link->model, link->workspace, &link->observer);
}

/* What is in no layer is the preparation. With the last row the network is run. */
void nsk_link_feed(nsk_link *link, const uint8_t *pixels, unsigned rows) {
    const size_t row = (size_t)link->model.width * link->model.channels;
    for (unsigned y = 0; y < rows; y++) {
        link->in_layers = link->aside = 0;
        const bool first = link->rows == 0;
        if (first) {
            paint(link);
        }
        const uint32_t start = now(link);
        nsk_feed_rows(&link->feed, pixels + y * row, row, 1);
        const uint32_t took = now(link) - start;
        note(&link->prepare, took - link->in_layers - link->aside, first ? used(link) : 0);
        link->rows++;
    }
    if (link->rows == link->model.height) {
        nsk_run(&link->model, link->workspace, &link->observer);
    }
}

bool nsk_link_has_run(const nsk_link *link, const nsk_wire_map *asked) {
    return link->has_frame && link->rows == link->model.height &&
           link->frame == asked->number[NSK_KEY_FRAME];
}

/* ---- requests ---- */

/* A frame's first rows begin it; rows that have come before are not taken again, so that a request
 * may be repeated. The answer says which row is the next. */
void nsk_link_rows(nsk_link *link, const nsk_wire_map *asked) {
    const uint32_t row_bytes = (uint32_t)link->model.width * link->model.channels;
    const uint32_t first = asked->number[NSK_KEY_ROW];
    const uint32_t count = asked->byte_count / row_bytes;
    const bool is_new = !link->has_frame || link->frame != asked->number[NSK_KEY_FRAME];
    if (asked->bytes == NULL || count == 0 || asked->byte_count % row_bytes != 0 ||
        first >= link->model.height || count > link->model.height - first) {
        nsk_link_say(link, asked, NSK_LINK_UNFIT);
        return;
    }
    if (is_new && first == 0) {
        nsk_link_begin_frame(link, asked->number[NSK_KEY_FRAME], asked->number[NSK_KEY_SUMS]);
    } else if (is_new) {
        link->has_frame = false;
    }
    if (link->has_frame && first == link->rows) {
        nsk_link_feed(link, asked->bytes, count);
    }
    nsk_wire w;
    nsk_link_begin_answer(&w, link, asked, NSK_LINK_DONE, 2);
    nsk_wire_number(&w, NSK_KEY_FRAME, asked->number[NSK_KEY_FRAME]);
    nsk_wire_number(&w, NSK_KEY_ROW, link->has_frame ? link->rows : 0);
    nsk_wire_end(&w);
}

/* How many of a list of `all` an answer has. */
static uint32_t part_of(const nsk_wire_map *asked, uint32_t all) {
    const uint32_t from = asked->number[NSK_KEY_FROM];
    const uint32_t left = from < all ? all - from : 0;
    const uint32_t most = asked->number[NSK_KEY_MOST];
    return left < most ? left : most;
}

static void begin_list(nsk_wire *w, const nsk_wire_map *asked, unsigned key, uint32_t count) {
    nsk_wire_number(w, NSK_KEY_FRAME, asked->number[NSK_KEY_FRAME]);
    nsk_wire_number(w, NSK_KEY_FROM, asked->number[NSK_KEY_FROM]);
    nsk_wire_head(w, NSK_CBOR_UNSIGNED, key);
    nsk_wire_head(w, NSK_CBOR_ARRAY, count);
}

void nsk_link_scores(nsk_link *link, const nsk_wire_map *asked) {
    if (!nsk_link_has_run(link, asked)) {
        nsk_link_say(link, asked, NSK_LINK_NOT_THERE);
        return;
    }
    const int32_t *all = nsk_scores(&link->model, link->workspace);
    const uint32_t count = part_of(asked, link->model.classes);
    nsk_wire w;
    nsk_link_begin_answer(&w, link, asked, NSK_LINK_DONE, 3);
    begin_list(&w, asked, NSK_KEY_SCORES, count);
    for (uint32_t i = 0; i < count; i++) { /* from 0 to NSK_CERTAIN, all of them */
        nsk_wire_head(&w, NSK_CBOR_UNSIGNED, (uint32_t)all[asked->number[NSK_KEY_FROM] + i]);
    }
    nsk_wire_end(&w);
}

static void figures(nsk_wire *w, const nsk_link_layer *of) {
    nsk_wire_head(w, NSK_CBOR_ARRAY, 3);
    nsk_wire_head(w, NSK_CBOR_UNSIGNED, of->ticks);
    nsk_wire_head(w, NSK_CBOR_UNSIGNED, of->stack);
    nsk_wire_head(w, NSK_CBOR_UNSIGNED, of->sum);
}

void nsk_link_layers(nsk_link *link, const nsk_wire_map *asked) {
    if (!nsk_link_has_run(link, asked)) {
        nsk_link_say(link, asked, NSK_LINK_NOT_THERE);
        return;
    }
    const uint32_t count = part_of(asked, link->model.layers);
    nsk_wire w;
    nsk_link_begin_answer(&w, link, asked, NSK_LINK_DONE, 4);
    begin_list(&w, asked, NSK_KEY_LAYERS, count);
    for (uint32_t i = 0; i < count; i++) {
        figures(&w, &link->layers[asked->number[NSK_KEY_FROM] + i]);
    }
    nsk_wire_head(&w, NSK_CBOR_UNSIGNED, NSK_KEY_PREPARE);
    figures(&w, &link->prepare);
    nsk_wire_end(&w);
}
