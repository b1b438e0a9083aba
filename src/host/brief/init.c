/* What holds where nobody says otherwise. */
#include <math.h>

#include "netsuke/brief.h"

void nsk_input_init(nsk_input *input) {
    *input = (nsk_input){.colour = NSK_COLOUR_RGB,
                         .fit = NSK_FIT_STRETCH,
                         .resample = NSK_RESAMPLE_AREA,
                         .deviation = {1.0, 1.0, 1.0},
                         .top = 1.0};
}

void nsk_limits_init(nsk_limits *limits) {
    *limits = (nsk_limits){.flash = INFINITY,
                           .ram = INFINITY,
                           .latency = INFINITY,
                           .loss = INFINITY,
                           .dropped = 0.0,
                           .missed = INFINITY,
                           .false_actions = INFINITY};
}

void nsk_product_init(nsk_product *product) {
    *product = (nsk_product){.awake = 1.0};
}

void nsk_refine_settings_init(nsk_refine_settings *settings, const struct nsk_images *training) {
    *settings = (nsk_refine_settings){
        .training = training, .epochs = NSK_REFINE_EPOCHS, .rate = NSK_REFINE_RATE, .seed = 1};
}

void nsk_recipe_init(nsk_recipe *recipe) {
    *recipe = (nsk_recipe){.ranges = NSK_RANGE_METHOD_SQUARED_ERROR,
                           .bits = 8,
                           .equalise = true,
                           .rounding = true,
                           .biases = true,
                           .streaming = NSK_STREAMING_WHEN_NEEDED,
                           .ram = INFINITY};
}
