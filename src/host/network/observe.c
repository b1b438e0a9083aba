#include "network/observe.h"

bool nsk_observe_image(const nsk_graph *graph, nsk_pass *pass, const nsk_images *images, int image,
                       uint8_t *frame, nsk_error *error) {
    if (!nsk_images_frame(images, image, frame, error)) {
        return false;
    }
    nsk_float_prepare(graph, nsk_images_input(images), frame, nsk_pass_input(pass));
    nsk_pass_run(pass);
    return true;
}

int nsk_spread_image(const nsk_images *images, int count, int k) {
    return (int)((int64_t)k * nsk_images_count(images) / count);
}
