/* A link's live pictures: the board's own camera, what the rule makes of it, the picture itself. */
#include "../small.h"

#include <string.h>

#include "link_parts.h"

/* ---- the camera ---- */

unsigned nsk_link_camera_size(const nsk_link_port *port, unsigned of_model, bool height) {
    if (port->camera == NULL) {
        return 0;
    }
    const unsigned own = height ? port->camera->height : port->camera->width;
    return own > 0 ? own : of_model;
}

static unsigned width_of(const nsk_link_port *port, const nsk_model *model) {
    return nsk_link_camera_size(port, model->width, false);
}

static unsigned height_of(const nsk_link_port *port, const nsk_model *model) {
    return nsk_link_camera_size(port, model->height, true);
}

static bool scales(const nsk_link_port *port, const nsk_model *model) {
    return width_of(port, model) != model->width || height_of(port, model) != model->height;
}

/* A row of the picture, a row of the frame, the scaler, which comes first as it is aligned. */
size_t nsk_link_camera_bytes(const nsk_link_port *port, const nsk_model *model) {
    if (port->camera == NULL) {
        return 0;
    }
    const size_t rows = (size_t)model->channels * (width_of(port, model) + model->width);
    return rows + (scales(port, model) ? nsk_scaler_bytes(model) : 0U);
}

size_t nsk_link_picture_bytes(const nsk_link_port *port, const nsk_model *model) {
    return (size_t)width_of(port, model) * height_of(port, model) * model->channels;
}

/* The likeliest class at once, if it is likelier than all others together. */
static void usual_rule(nsk_link *link) {
    nsk_rule *rule = &link->live.rule;
    memset(rule, 0, sizeof *rule);
    rule->threshold = NSK_CERTAIN / 2;
    rule->frames = 1;
    rule->resting = UINT16_MAX;
}

nsk_status nsk_link_set_camera(nsk_link *link, uint8_t *memory) {
    nsk_link_live *live = &link->live;
    const nsk_link_port *port = link->port;
    const nsk_model *model = &link->model;
    if (port->rule != NULL && model->bytes == (const uint8_t *)link->built_in) {
        live->rule = *port->rule;
    } else { /* the port's has lists of that other model's classes */
        usual_rule(link);
    }
    memset(&live->decider, 0, sizeof live->decider);
    live->has_picture = false;
    if (port->camera == NULL) {
        return NSK_STATUS_OK;
    }
    const size_t scaler = scales(port, model) ? nsk_scaler_bytes(model) : 0;
    live->row = memory + scaler;
    live->frame_row = live->row + (size_t)width_of(port, model) * model->channels;
    return scaler == 0 ? NSK_STATUS_OK
                       : nsk_scaler_set(&live->scaler, model, width_of(port, model),
                                        height_of(port, model), memory);
}

/* ---- a rule ---- */

/* Where a rule's parts stand among its bytes; the lists behind them, the lowest byte first. */
enum rule_byte {
    RULE_THRESHOLD = 0,
    RULE_MARGIN = 4,
    RULE_FRAMES = 8,
    RULE_WINDOW = 9,
    RULE_HOLD_OFF = 10,
    RULE_LINES = 11,
    RULE_RESTING = 12,
    RULE_BYTES = 14
};

static uint32_t read_number(const uint8_t *at, unsigned bytes) {
    uint32_t number = 0;
    for (unsigned i = bytes; i > 0; i--) {
        number = number << 8 | at[i - 1U];
    }
    return number;
}

/* Each class's line is one of the rule's, or none. */
static bool lines_are_good(const nsk_link *link, const uint8_t *line_of, unsigned lines) {
    bool good = true;
    for (unsigned c = 0; c < link->model.classes; c++) {
        good = good && (line_of[c] < lines || line_of[c] == NSK_NO_LINE);
    }
    return good;
}

static bool rule_is_good(const nsk_link *link, const nsk_wire_map *asked) {
    const uint8_t *at = asked->bytes;
    const uint32_t classes = link->model.classes;
    if (at == NULL || asked->byte_count < RULE_BYTES) {
        return false;
    }
    const uint32_t lists = asked->byte_count - RULE_BYTES;
    const uint32_t lines = at[RULE_LINES] > 0 ? classes : 0;
    return (lists == lines || lists == lines + 4 * classes) && at[RULE_FRAMES] > 0 &&
           at[RULE_WINDOW] <= NSK_MOST_WINDOW &&
           (at[RULE_WINDOW] == 0 || at[RULE_FRAMES] <= at[RULE_WINDOW]) &&
           (lines == 0 || lines_are_good(link, at + RULE_BYTES, at[RULE_LINES]));
}

static void take_rule(nsk_link *link, const nsk_wire_map *asked) {
    nsk_link_live *live = &link->live;
    nsk_rule *rule = &live->rule;
    const uint8_t *at = asked->bytes;
    const uint32_t classes = link->model.classes;
    const uint32_t lines = at[RULE_LINES] > 0 ? classes : 0;
    rule->threshold = read_number(at + RULE_THRESHOLD, 4);
    rule->margin = read_number(at + RULE_MARGIN, 4);
    rule->frames = at[RULE_FRAMES];
    rule->window = at[RULE_WINDOW];
    rule->hold_off = at[RULE_HOLD_OFF];
    rule->line_count = at[RULE_LINES];
    rule->resting = (uint16_t)read_number(at + RULE_RESTING, 2);
    memcpy(live->line_of, at + RULE_BYTES, lines);
    rule->line_of = lines > 0 ? live->line_of : NULL;
    const bool several = asked->byte_count > RULE_BYTES + lines;
    for (uint32_t c = 0; c < classes && several; c++) {
        live->thresholds[c] = read_number(at + RULE_BYTES + lines + 4 * c, 4);
    }
    rule->thresholds = several ? live->thresholds : NULL;
    memset(&live->decider, 0, sizeof live->decider);
}

void nsk_link_rule(nsk_link *link, const nsk_wire_map *asked) {
    const bool good = rule_is_good(link, asked);
    if (good) {
        take_rule(link, asked);
    }
    nsk_link_say(link, asked, good ? NSK_LINK_DONE : NSK_LINK_UNFIT);
}

/* ---- a picture ---- */

static void take_row(nsk_link *link, const uint8_t *row) {
    nsk_link_live *live = &link->live;
    if (!scales(link->port, &link->model)) {
        nsk_link_feed(link, row, 1);
        return;
    }
    nsk_scaler_put(&live->scaler, row);
    while (nsk_scaler_take(&live->scaler, live->frame_row)) {
        nsk_link_feed(link, live->frame_row, 1);
    }
}

static nsk_row take_picture(nsk_link *link) {
    const nsk_link_port *port = link->port;
    nsk_link_live *live = &link->live;
    const size_t bytes = (size_t)width_of(port, &link->model) * link->model.channels;
    const unsigned height = height_of(port, &link->model);
    for (unsigned y = 0; y < height; y++) {
        uint8_t *row = live->picture != NULL ? live->picture + y * bytes : live->row;
        const nsk_row came = port->camera->row(port->context, row, bytes, y);
        if (came != NSK_ROW_THERE) {
            return came;
        }
        take_row(link, row);
    }
    return NSK_ROW_THERE;
}

static void decide(nsk_link *link) {
    nsk_link_live *live = &link->live;
    const int32_t *scores = nsk_scores(&link->model, link->workspace);
    live->line = (int16_t)nsk_answer_of(&live->rule, &link->model, scores);
    live->decided = (int16_t)nsk_decide(&live->decider, &live->rule, &link->model, scores);
    if (live->decided != NSK_NOTHING && link->port->camera->decided != NULL) {
        link->port->camera->decided(link->port->context, live->decided);
    }
}

static void look(nsk_link *link, uint32_t frame, uint32_t sums) {
    nsk_link_live *live = &link->live;
    nsk_link_begin_frame(link, frame, sums);
    if (scales(link->port, &link->model)) {
        nsk_scaler_start(&live->scaler);
    }
    live->came = (uint8_t)take_picture(link);
    live->line = NSK_UNSURE;
    live->decided = NSK_NOTHING;
    if (live->came == NSK_ROW_THERE) {
        decide(link);
    } else {
        nsk_decider_forget(&live->decider);
    }
    live->has_picture = true;
}

static bool is_looked_at(const nsk_link *link, const nsk_wire_map *asked) {
    return link->has_frame && link->live.has_picture && link->frame == asked->number[NSK_KEY_FRAME];
}

static uint32_t all_ticks(const nsk_link *link) {
    uint32_t ticks = link->prepare.ticks;
    for (unsigned i = 0; i < link->model.layers; i++) {
        ticks += link->layers[i].ticks;
    }
    return ticks;
}

void nsk_link_look(nsk_link *link, const nsk_wire_map *asked) {
    if (link->port->camera == NULL) {
        nsk_link_say(link, asked, NSK_LINK_NOT_KNOWN);
        return;
    }
    if (!is_looked_at(link, asked)) {
        look(link, asked->number[NSK_KEY_FRAME], asked->number[NSK_KEY_SUMS]);
    }
    const nsk_link_live *live = &link->live;
    const nsk_decider *d = &live->decider;
    const int standing = d->has_standing ? d->standing : (int)NSK_NOTHING;
    const uint32_t numbers[][2] = {
        {NSK_KEY_FRAME, link->frame},
        {NSK_KEY_CAME, live->came},
        {NSK_KEY_LINE, (uint32_t)(live->line - NSK_UNSURE)},
        {NSK_KEY_DECIDED, (uint32_t)(live->decided - NSK_UNSURE)},
        {NSK_KEY_STANDING, (uint32_t)(standing - NSK_UNSURE)},
        {NSK_KEY_TICKS, all_ticks(link)},
    };
    const unsigned count = sizeof numbers / sizeof numbers[0];
    nsk_wire w;
    nsk_link_begin_answer(&w, link, asked, NSK_LINK_DONE, count);
    for (unsigned i = 0; i < count; i++) {
        nsk_wire_number(&w, numbers[i][0], numbers[i][1]);
    }
    nsk_wire_end(&w);
}

/* So much of it as the host asks for. */
void nsk_link_picture(nsk_link *link, const nsk_wire_map *asked) {
    const nsk_link_live *live = &link->live;
    if (!is_looked_at(link, asked) || live->picture == NULL) {
        nsk_link_say(link, asked, NSK_LINK_NOT_THERE);
        return;
    }
    const uint32_t all = (uint32_t)nsk_link_picture_bytes(link->port, &link->model);
    const uint32_t from = asked->number[NSK_KEY_FROM];
    const uint32_t left = from < all ? all - from : 0;
    const uint32_t most = asked->number[NSK_KEY_MOST];
    nsk_wire w;
    nsk_link_begin_answer(&w, link, asked, NSK_LINK_DONE, 3);
    nsk_wire_number(&w, NSK_KEY_FRAME, link->frame);
    nsk_wire_number(&w, NSK_KEY_FROM, from);
    nsk_wire_bytes(&w, NSK_KEY_DATA, live->picture + (left > 0 ? from : 0),
                   left < most ? left : most);
    nsk_wire_end(&w);
}
