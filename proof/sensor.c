/* Any lines, cut at any one, of every format, for colours and grey, of these sizes and parts of
 * them; and a sensor that says anything of itself. */
#include "netsuke/sensor.h"
#include "__fc_builtin.h"

static const struct {
    uint16_t width, height;
    nsk_sensor part;
} sizes[] = {{4, 4, {0}},
             {2, 2, {0}},
             {6, 4, {.left = 1, .top = 1, .width = 3, .height = 2}},
             {5, 3, {.left = 4, .top = 2, .width = 1, .height = 1}}};

static uint8_t memory[3 * 6 * 2], row[6 * 3];

static nsk_row give(void *context, uint8_t *to, size_t bytes, unsigned y) {
    (void)context;
    (void)y;
    Frama_C_make_unknown((char *)to, bytes);
    return Frama_C_nondet(0, 1) ? NSK_ROW_THERE : NSK_ROW_CUT;
}

/* Rows in order, and again from the first at any point. */
static void look(const nsk_sensor *sensor, const nsk_model *model, unsigned width,
                 unsigned height) {
    nsk_sensor_reader reader;
    if (nsk_sensor_set(&reader, sensor, model, width, height, memory) != NSK_STATUS_OK) {
        return;
    }
    for (unsigned picture = 0; picture < 2; picture++) {
        for (unsigned y = 0; y < reader.sensor.height; y++) {
            if (nsk_sensor_row(&reader, give, 0, row, y) != NSK_ROW_THERE) {
                break;
            }
        }
    }
}

/* Is it known as what it is? Nothing is read. */
static void say_anything(const nsk_model *model) {
    nsk_sensor_reader reader;
    nsk_sensor sensor = {.format = (uint8_t)Frama_C_interval(0, 255),
                         .left = (uint16_t)Frama_C_interval(0, 65535),
                         .top = (uint16_t)Frama_C_interval(0, 65535),
                         .width = (uint16_t)Frama_C_interval(0, 65535),
                         .height = (uint16_t)Frama_C_interval(0, 65535)};
    nsk_sensor_set(&reader, &sensor, model, (unsigned)Frama_C_interval(0, 70000),
                   (unsigned)Frama_C_interval(0, 70000), memory);
}

int main(void) {
    nsk_model model = {.width = 0};
    for (unsigned colour = 0; colour <= NSK_COLOUR_GREY; colour++) {
        model.colour = (nsk_colour)colour;
        model.channels = colour == NSK_COLOUR_GREY ? 1 : 3;
        say_anything(&model);
        for (unsigned i = 0; i < sizeof sizes / sizeof *sizes; i++) {
            for (unsigned way = 0; way < 4U * NSK_SENSOR_FORMATS; way++) {
                nsk_sensor sensor = sizes[i].part;
                sensor.format = (uint8_t)(way / 4U);
                sensor.upside_down = (way & 1U) != 0;
                sensor.mirrored = sensor.full = (way & 2U) != 0;
                look(&sensor, &model, sizes[i].width, sizes[i].height);
            }
        }
    }
    Frama_C_show_each_end();
    return 0;
}
