/* Flash, RAM and time of a model on a board. */
#include <math.h>
#include <string.h>

#include "estimate/cost_kind.h"
#include "estimate/costs.h"
#include "netsuke/firmware.h"

/* Adds up cycles, and what they may be wrong by: misfits are one and the same for all layers of a
 * kind, and independent from kind to kind. */
typedef struct tally {
    const nsk_costs *costs;
    double wait_states;
    GHashTable *apart; /* kind to a double: cycles by which it may be off */
    nsk_layer_cost all;
} tally;

static void add_times(nsk_layer_cost *to, const nsk_layer_cost *more, double times) {
    to->instructions += more->instructions * times;
    to->cycles += more->cycles * times;
    to->fast += more->fast * times;
    to->slow += more->slow * times;
}

static bool add_cost(tally *t, const char *kind, const nsk_work *work, nsk_layer_cost *to,
                     nsk_error *error) {
    nsk_kernel_cost cost;
    if (!nsk_costs_kernel(t->costs, kind, &cost, error)) {
        return false;
    }
    double *apart = g_hash_table_lookup(t->apart, kind);
    if (apart == NULL) {
        apart = g_new0(double, 1);
        g_hash_table_insert(t->apart, (char *)kind, apart);
    }
    *to = nsk_kernel_cost_of(&cost, work, t->wait_states);
    *apart += cost.spread * to->cycles;
    add_times(&t->all, to, 1.0);
    return true;
}

/* Two standard deviations. */
static double spread_of(const tally *t) {
    GHashTableIter at;
    void *value;
    double squares = 0.0;
    g_hash_table_iter_init(&at, t->apart);
    while (g_hash_table_iter_next(&at, NULL, &value)) {
        squares += *(double *)value * *(double *)value;
    }
    return 2.0 * sqrt(squares);
}

static bool add_layers(nsk_budget *b, const nsk_model *model, tally *t, nsk_error *error) {
    b->layers = model->layers;
    b->layer = g_new0(nsk_layer_cost, b->layers);
    b->macs = g_new0(uint64_t, b->layers);
    for (unsigned i = 0; i < model->layers; i++) {
        nsk_work work = nsk_layer_work(model, i);
        b->macs[i] = work.macs;
        if (!add_cost(t, nsk_cost_kind(model, i), &work, &b->layer[i], error)) {
            return false;
        }
    }
    const nsk_work frame = {.outputs = (uint64_t)model->width * model->height * model->channels,
                            .calls = 1,
                            .rows = model->height};
    const nsk_work stream = nsk_stream_work(model);
    return add_cost(t, "prepare", &frame, &b->preparation, error) &&
           (model->streamed == 0 || add_cost(t, "stream", &stream, &b->streaming, error));
}

/* Of the sensor, and of what the loop sees of that, pixels. */
typedef struct sizes {
    unsigned sensor[2], seen[2];
} sizes;

static sizes sizes_of(const nsk_product *p, const nsk_model *model) {
    sizes of = {{p->camera_width > 0 ? (unsigned)p->camera_width : model->width,
                 p->camera_height > 0 ? (unsigned)p->camera_height : model->height},
                {0, 0}};
    of.seen[0] = nsk_sensor_width(&p->sensor, of.sensor[0]);
    of.seen[1] = nsk_sensor_height(&p->sensor, of.sensor[1]);
    return of;
}

static bool scales(const nsk_product *p, const nsk_model *model) {
    const sizes of = sizes_of(p, model);
    return of.seen[0] != model->width || of.seen[1] != model->height;
}

/* What the firmware's loop holds of the camera's picture besides the frame. */
static double camera_bytes(const nsk_product *p, const nsk_model *model) {
    const sizes of = sizes_of(p, model);
    const unsigned width = of.seen[0];
    const unsigned height = of.seen[1];
    const double lines = nsk_sensor_is_plain(&p->sensor)
                             ? 0.0
                             : (double)nsk_sensor_bytes(&p->sensor, of.sensor[0], model->channels);
    double scaling = (double)width * model->channels + (double)nsk_scaler_bytes(model);
    return (double)NSK_LOOP_BYTES + lines + (scales(p, model) ? scaling : 0.0) +
           (p->check_frames ? (double)nsk_frame_check_bytes(width, height, model->channels) : 0.0);
}

/* Looks at the model: before a frame is taken, before its answer is given, and once more where it
 * is run a second time. */
static double checks_of(const nsk_product *p) {
    return p->twice ? 3.0 : 2.0;
}

/* The camera's picture and the model's bytes. */
static bool add_around(nsk_budget *b, const nsk_model *model, const nsk_product *p, tally *t,
                       nsk_error *error) {
    const sizes of = sizes_of(p, model);
    const nsk_work scaling = nsk_scaling_work(model, of.seen[0], of.seen[1]);
    const nsk_work frame_check = nsk_frame_check_work(model, of.seen[0], of.seen[1]);
    const nsk_work check = {.calls = 1, .moved = model->size};
    if ((scales(p, model) &&
         !add_cost(t, nsk_scaling_group(model), &scaling, &b->scaling, error)) ||
        (p->check_frames && !add_cost(t, "frame-check", &frame_check, &b->frame_check, error)) ||
        (p->check_every > 0 && !add_cost(t, "check", &check, &b->check, error))) {
        return false;
    }
    if (p->check_every > 0) {
        double share = checks_of(p) / p->check_every;
        const nsk_layer_cost once = b->check;
        add_times(&b->check, &once, share - 1.0);
        add_times(&t->all, &once, share - 1.0);
    }
    if (p->twice) {
        b->again = b->preparation;
        for (int i = 0; i < b->layers; i++) {
            add_times(&b->again, &b->layer[i], 1.0);
        }
        add_times(&t->all, &b->again, 1.0);
    }
    b->ram_camera = camera_bytes(p, model);
    return true;
}

/* Between two calls that can feed a watchdog lies a layer, or the preparation of a frame with what
 * is done to the camera's rows, or what comes behind the last layer: a look at the model, and, for
 * the second run, preparation and the first layer. A streamed layer is counted whole, though it is
 * done in pieces. */
static double longest_apart(const nsk_budget *b, const nsk_product *product) {
    double once =
        product != NULL ? b->check.cycles * product->check_every / checks_of(product) : 0.0;
    double most = b->preparation.cycles + b->scaling.cycles + b->frame_check.cycles + once;
    if (product != NULL && product->twice) {
        most = fmax(most, once + b->preparation.cycles + b->layer[0].cycles);
    }
    for (int i = 0; i < b->layers; i++) {
        most = fmax(most, b->layer[i].cycles + once);
    }
    return most;
}

static bool estimate_time(nsk_budget *b, const nsk_model *model, const nsk_product *product,
                          const nsk_costs *costs, const nsk_board *board, nsk_error *error) {
    tally t = {.costs = costs,
               .wait_states = board->wait_states,
               .apart = g_hash_table_new_full(g_str_hash, g_str_equal, NULL, g_free)};
    bool good = add_layers(b, model, &t, error) &&
                (product == NULL || add_around(b, model, product, &t, error));
    double apart = spread_of(&t);
    b->cycles = t.all.cycles;
    b->timed = !g_str_has_prefix(nsk_costs_source(costs, "cycles"), "one an instruction");
    b->seconds = b->cycles / board->clock;
    b->watchdog = longest_apart(b, product) / board->clock;
    b->seconds_low = fmax(b->cycles - apart, 0.0) / board->clock;
    b->seconds_high = (b->cycles + apart) / board->clock;
    b->seconds_fast = t.all.fast / board->clock;
    b->seconds_slow = t.all.slow / board->clock;
    g_hash_table_destroy(t.apart);
    return good;
}

/* Frames are taken as fast as camera and board allow while the product is awake. */
static void estimate_power(nsk_budget *b, const nsk_product *product, const nsk_board *board) {
    enum { DAY = 86400 };
    b->joules = board->active_power < 0.0 ? -1.0 : board->active_power * b->seconds;
    b->watts = b->days = -1.0;
    if (board->active_power < 0.0 || board->idle_power < 0.0) {
        return;
    }
    double awake = product != NULL ? product->awake : 1.0;
    double busy = fmin(b->seconds * board->frame_rate, 1.0);
    double asleep = board->sleep_power >= 0.0 ? board->sleep_power : board->idle_power;
    b->watts = awake * (board->active_power * busy + board->idle_power * (1.0 - busy)) +
               (1.0 - awake) * asleep;
    if (product != NULL && product->battery > 0.0) {
        b->days = product->battery / b->watts / DAY;
    }
}

static void set_limit(nsk_budget_limit *to, const char *name, const char *unit, double wanted,
                      double board, double value) {
    double limit = fmin(wanted, board);
    *to = (nsk_budget_limit){name, unit, limit, value, value <= limit, false};
}

/* The product's loop: its code, and its stack. */
static bool add_loop(nsk_budget *b, const nsk_model *model, const nsk_product *product,
                     const nsk_costs *costs, nsk_error *error) {
    const bool senses = !nsk_sensor_is_plain(&product->sensor);
    bool good = nsk_costs_firmware(costs, model, senses, &b->flash_loop, &b->ram_stack, error);
    b->flash_code += b->flash_loop;
    return good;
}

static bool estimate(nsk_budget *b, const nsk_model_file *file, const nsk_model *model,
                     const nsk_board *board, const nsk_product *product, const nsk_costs *costs,
                     const nsk_limits *limits, nsk_error *error) {
    const char *like = nsk_costs_core(costs);
    if (strcmp(like, board->core) != 0 && strcmp(like, nsk_costs_of_core(board->core)) != 0) {
        return nsk_fail(error, "%s: the board's core is %s, its cost table is for %s", board->path,
                        board->core, like);
    }
    b->flash_model = (double)file->size;
    b->ram_workspace = model->workspace_bytes;
    b->ram_lower_bound = (double)file->workspace_lower_bound;
    b->ram_frame = (double)model->width * model->channels *
                   (model->streamed > 0 ? 1.0 : (double)model->height);
    b->ram_rest_of_frame = (double)model->width * model->channels * model->height - b->ram_frame;
    b->streamed = model->streamed;
    b->band = model->band;
    if (!nsk_costs_code(costs, model, &b->flash_code, error) ||
        !estimate_time(b, model, product, costs, board, error) ||
        !nsk_costs_stack(costs, model, &b->ram_stack, error) ||
        (product != NULL && !add_loop(b, model, product, costs, error))) {
        return false;
    }
    estimate_power(b, product, board);
    b->flash = b->flash_model + b->flash_code;
    b->ram = b->ram_workspace + b->ram_frame + b->ram_camera + b->ram_stack;
    set_limit(&b->limits[NSK_LIMIT_FLASH], "flash", "bytes", limits->flash, board->flash, b->flash);
    set_limit(&b->limits[NSK_LIMIT_RAM], "ram", "bytes", limits->ram, board->ram, b->ram);
    set_limit(&b->limits[NSK_LIMIT_LATENCY], "latency", "seconds", limits->latency,
              1.0 / board->frame_rate, b->seconds);
    b->code_source = g_strdup_printf("what this model needs of the runtime, %s,%s compiled with %s",
                                     nsk_costs_source(costs, "kernels"),
                                     product != NULL ? " and the product's loop," : "",
                                     nsk_costs_source(costs, "compiler"));
    char *other = strcmp(like, board->core) != 0
                      ? g_strdup_printf("of the %s, whose code the %s runs: ", like, board->core)
                      : g_strdup("");
    b->cycle_source =
        g_strdup_printf("%sinstructions %s; cycles: %s; flash wait states at a taken branch: %g",
                        other, nsk_costs_source(costs, "instructions"),
                        nsk_costs_source(costs, "cycles"), board->wait_states);
    g_free(other);
    b->stack_source = g_strdup_printf(
        "deepest use by a layer%s, painted on the emulated %s; what calls %s comes on top",
        product != NULL ? " below the product's loop" : "", like,
        product != NULL ? "nsk_firmware_run" : "the runtime");
    return true;
}

bool nsk_ram_for_model(const nsk_board *board, const nsk_product *product, const nsk_input *input,
                       const nsk_limits *limits, double *bytes, nsk_error *error) {
    const nsk_model shape = {.width = (uint16_t)input->width,
                             .height = (uint16_t)input->height,
                             .channels = input->colour == NSK_COLOUR_GREY ? 1 : 3};
    enum { USUAL_STACK = 1024 }; /* of a core without a table: what the known ones need at most */
    double stack = USUAL_STACK;
    bool has_table = nsk_has_costs(board);
    nsk_costs *costs = has_table ? nsk_costs_read(board->costs, error) : NULL;
    bool good = costs == NULL ? !has_table : nsk_costs_deepest(costs, &stack, error);
    *bytes = fmin(board->ram, limits->ram) - stack -
             (product != NULL ? camera_bytes(product, &shape) : 0.0);
    nsk_costs_free(costs);
    return good;
}

nsk_budget *nsk_budget_make(const nsk_model_file *file, const nsk_board *board,
                            const nsk_product *product, const nsk_limits *limits,
                            nsk_error *error) {
    nsk_model model;
    nsk_status status = nsk_open(&model, file->bytes, file->size);
    if (status != NSK_STATUS_OK) {
        nsk_fail(error, "the model is %s", nsk_status_text(status));
        return NULL;
    }
    nsk_costs *costs = nsk_costs_read(board->costs, error);
    if (costs == NULL) {
        return NULL;
    }
    nsk_budget *b = g_new0(nsk_budget, 1);
    nsk_model_file *handed = nsk_model_file_for_core(file, nsk_costs_core(costs));
    nsk_open(&model, handed->bytes, handed->size);
    bool good = estimate(b, handed, &model, board, product, costs, limits, error);
    nsk_model_file_free(handed);
    nsk_costs_free(costs);
    if (!good) {
        nsk_budget_free(b);
        return NULL;
    }
    return b;
}

void nsk_budget_set_code(nsk_budget *b, double code, const char *source) {
    nsk_budget_limit *l = &b->limits[NSK_LIMIT_FLASH];
    b->flash += code - b->flash_code;
    b->flash_code = code;
    l->value = b->flash;
    l->holds = l->value <= l->limit;
    g_free(b->code_source);
    b->code_source = g_strdup(source);
}

void nsk_budget_set_cycles(nsk_budget *b, const nsk_board *board, const nsk_product *product,
                           const double *cycles, const char *source) {
    const double before = b->preparation.cycles + b->streaming.cycles;
    double change = cycles[b->layers] - before;
    b->preparation.cycles = cycles[b->layers];
    b->streaming.cycles = 0.0;
    for (int i = 0; i < b->layers; i++) {
        change += cycles[i] - b->layer[i].cycles;
        b->layer[i].cycles = cycles[i];
    }
    if (b->again.cycles > 0.0) {
        b->again.cycles += change;
        change *= 2.0;
    }
    b->cycles += change;
    b->measured = b->timed = true;
    b->seconds = b->seconds_low = b->seconds_high = b->cycles / board->clock;
    b->seconds_fast = b->seconds_slow = 0.0;
    b->watchdog = longest_apart(b, product) / board->clock;
    estimate_power(b, product, board);
    nsk_budget_limit *l = &b->limits[NSK_LIMIT_LATENCY];
    l->value = b->seconds;
    l->holds = l->value <= l->limit;
    g_free(b->cycle_source);
    b->cycle_source = g_strdup(source);
}

void nsk_budget_free(nsk_budget *b) {
    if (b != NULL) {
        g_free(b->layer);
        g_free(b->macs);
        g_free(b->code_source);
        g_free(b->cycle_source);
        g_free(b->stack_source);
        g_free(b);
    }
}
