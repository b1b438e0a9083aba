/* A board's end of a link: takes requests, runs frames, gives figures. */
#include "../small.h"

#include "netsuke/link.h"

#include <string.h>

#include "../crc.h"
#include "../layer.h"
#include "link_words.h"
#include "wire.h"

/* Any request but for its pixels; and where there is memory without end. */
static const size_t LEAST_MESSAGE = 96;
static const size_t MOST_MESSAGE = 1UL << 24;

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

/* ---- a frame ---- */

static void begin_frame(nsk_link *link, uint32_t frame, uint32_t sums) {
    memset(link->layers, 0, link->model.layers * sizeof *link->layers);
    memset(&link->prepare, 0, sizeof link->prepare);
    link->frame = frame;
    link->rows = 0;
    link->has_frame = true;
    link->sums = sums;
    nsk_start(&link->feed, &link->model, link->workspace, &link->observer);
}

/* What is in no layer is the preparation. */
static void feed(nsk_link *link, const uint8_t *pixels, unsigned rows) {
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
}

static bool is_run(const nsk_link *link, const nsk_wire_map *asked) {
    return link->has_frame && link->rows == link->model.height &&
           link->frame == asked->number[NSK_KEY_FRAME];
}

/* ---- answers ---- */

static void begin_answer(nsk_wire *w, const nsk_link *link, const nsk_wire_map *asked,
                         nsk_link_answer answer, unsigned more) {
    nsk_wire_begin(w, link->port);
    nsk_wire_head(w, NSK_CBOR_MAP, 3U + more);
    nsk_wire_number(w, NSK_KEY_WHAT, asked->number[NSK_KEY_WHAT]);
    nsk_wire_number(w, NSK_KEY_NUMBER, asked->number[NSK_KEY_NUMBER]);
    nsk_wire_number(w, NSK_KEY_ANSWER, (uint32_t)answer);
}

static void refuse(const nsk_link *link, const nsk_wire_map *asked, nsk_link_answer why) {
    nsk_wire w;
    begin_answer(&w, link, asked, why, 0);
    nsk_wire_end(&w);
}

static uint32_t kinds_of_build(void) {
    uint32_t kinds = 0;
    for (unsigned i = 0; i < NSK_KINDS; i++) {
        kinds |= nsk_operations[i] != NULL ? UINT32_C(1) << i : 0U;
    }
    return kinds;
}

static void who(nsk_link *link, const nsk_wire_map *asked) {
    const nsk_link_port *port = link->port;
    const uint32_t numbers[][2] = {
        {NSK_KEY_VERSION, NSK_LINK_VERSION},
        {NSK_KEY_CLOCK, port->clock_hertz},
        {NSK_KEY_TICK, port->tick_hertz},
        {NSK_KEY_KINDS, kinds_of_build()},
        {NSK_KEY_MEMORY, port->memory_bytes},
        {NSK_KEY_LONGEST, link->inbox.room - NSK_WIRE_SUM},
        {NSK_KEY_MEASURES_STACK, port->stack_used != NULL},
        {NSK_KEY_CHECKSUM, link->model.checksum},
        {NSK_KEY_MODEL_BYTES, link->model.size},
        {NSK_KEY_WORKSPACE, link->model.workspace_bytes},
    };
    const unsigned count = sizeof numbers / sizeof numbers[0];
    nsk_wire w;
    begin_answer(&w, link, asked, NSK_LINK_DONE, count + 1U);
    nsk_wire_text(&w, NSK_KEY_CORE, port->core);
    for (unsigned i = 0; i < count; i++) {
        nsk_wire_number(&w, numbers[i][0], numbers[i][1]);
    }
    nsk_wire_end(&w);
}

/* A frame's first rows begin it; rows that have come before are not taken again, so that a request
 * may be repeated. The answer says which row is the next. */
static void rows(nsk_link *link, const nsk_wire_map *asked) {
    const uint32_t row_bytes = (uint32_t)link->model.width * link->model.channels;
    const uint32_t first = asked->number[NSK_KEY_ROW];
    const uint32_t count = asked->byte_count / row_bytes;
    const bool is_new = !link->has_frame || link->frame != asked->number[NSK_KEY_FRAME];
    if (asked->bytes == NULL || count == 0 || asked->byte_count % row_bytes != 0 ||
        first >= link->model.height || count > link->model.height - first) {
        refuse(link, asked, NSK_LINK_UNFIT);
        return;
    }
    if (is_new && first == 0) {
        begin_frame(link, asked->number[NSK_KEY_FRAME], asked->number[NSK_KEY_SUMS]);
    } else if (is_new) {
        link->has_frame = false;
    }
    const bool next = link->has_frame && first == link->rows;
    if (next) {
        feed(link, asked->bytes, count);
    }
    if (next && link->rows == link->model.height) {
        nsk_run(&link->model, link->workspace, &link->observer);
    }
    nsk_wire w;
    begin_answer(&w, link, asked, NSK_LINK_DONE, 2);
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

static void scores(nsk_link *link, const nsk_wire_map *asked) {
    if (!is_run(link, asked)) {
        refuse(link, asked, NSK_LINK_NOT_THERE);
        return;
    }
    const int32_t *all = nsk_scores(&link->model, link->workspace);
    const uint32_t count = part_of(asked, link->model.classes);
    nsk_wire w;
    begin_answer(&w, link, asked, NSK_LINK_DONE, 3);
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

static void layers(nsk_link *link, const nsk_wire_map *asked) {
    if (!is_run(link, asked)) {
        refuse(link, asked, NSK_LINK_NOT_THERE);
        return;
    }
    const uint32_t count = part_of(asked, link->model.layers);
    nsk_wire w;
    begin_answer(&w, link, asked, NSK_LINK_DONE, 4);
    begin_list(&w, asked, NSK_KEY_LAYERS, count);
    for (uint32_t i = 0; i < count; i++) {
        figures(&w, &link->layers[asked->number[NSK_KEY_FROM] + i]);
    }
    nsk_wire_head(&w, NSK_CBOR_UNSIGNED, NSK_KEY_PREPARE);
    figures(&w, &link->prepare);
    nsk_wire_end(&w);
}

static void answer(nsk_link *link) {
    static void (*const handlers[NSK_LINK_WHATS])(nsk_link *, const nsk_wire_map *) = {
        NULL, who, rows, scores, layers};
    nsk_wire_map asked;
    if (!nsk_wire_read(&asked, link->inbox.bytes, link->inbox.count) ||
        !nsk_wire_has(&asked, NSK_KEY_WHAT) || !nsk_wire_has(&asked, NSK_KEY_NUMBER)) {
        return; /* nothing that could be answered */
    }
    const uint32_t what = asked.number[NSK_KEY_WHAT];
    if (what < NSK_LINK_WHATS && handlers[what] != NULL) {
        handlers[what](link, &asked);
    } else {
        refuse(link, &asked, NSK_LINK_NOT_KNOWN);
    }
}

/* ---- for the caller ---- */

/* Rounded up, so that what follows is aligned. */
static size_t aligned(size_t bytes) {
    return (bytes + NSK_ALIGNMENT - 1U) / NSK_ALIGNMENT * NSK_ALIGNMENT;
}

static size_t fixed_bytes(const nsk_model *model) {
    return aligned(model->workspace_bytes) + model->layers * sizeof(nsk_link_layer);
}

size_t nsk_link_bytes(const nsk_model *model) {
    return fixed_bytes(model) + LEAST_MESSAGE + (size_t)model->width * model->channels;
}

nsk_status nsk_link_set(nsk_link *link, const nsk_link_port *port, const void *model,
                        size_t model_bytes, void *memory, size_t bytes) {
    memset(link, 0, sizeof *link);
    const nsk_status status = nsk_open(&link->model, model, model_bytes);
    if (status != NSK_STATUS_OK) {
        return status;
    }
    if (bytes < nsk_link_bytes(&link->model)) {
        return NSK_STATUS_NO_MEMORY;
    }
    uint8_t *at = (uint8_t *)memory;
    const size_t left = bytes - fixed_bytes(&link->model);
    link->port = port;
    link->workspace = at;
    link->layers = (nsk_link_layer *)(void *)(at + aligned(link->model.workspace_bytes));
    link->inbox.bytes = at + fixed_bytes(&link->model);
    link->inbox.room = (uint32_t)(left < MOST_MESSAGE ? left : MOST_MESSAGE);
    link->observer.before = before_layer;
    link->observer.after = after_layer;
    link->observer.context = link;
    return NSK_STATUS_OK;
}

/* No more at a time than the longest message has, whatever the host sends. */
void nsk_link_poll(nsk_link *link) {
    uint8_t bytes[NSK_WIRE_CHUNK];
    size_t count = 1;
    for (size_t taken = 0; taken < link->inbox.room && count > 0; taken += count) {
        count = link->port->receive(link->port->context, bytes, sizeof bytes);
        for (size_t i = 0; i < count && i < sizeof bytes; i++) {
            if (nsk_wire_take(&link->inbox, bytes[i])) {
                answer(link);
            }
        }
    }
}
