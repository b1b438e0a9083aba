/* quantise_in_process BRIEF: the host half from C: read, calibrate, quantise, compare, print. */
#include <stdio.h>

#include "netsuke/compare.h"

static int report(const nsk_error *error) {
    fprintf(stderr, "%s\n", error->text);
    return 2;
}

int main(int argc, char **argv) {
    nsk_error error;
    nsk_brief *brief = nsk_brief_read(argc > 1 ? argv[1] : "demo/kiln.ini", &error);
    nsk_network *network =
        brief ? nsk_network_read(brief->model, &brief->input, brief->output, &error) : NULL;
    if (network == NULL) {
        return report(&error);
    }
    nsk_images *calibration =
        nsk_images_open(brief->calibration, &brief->labels, &brief->input, 200, false, &error);
    nsk_model_file *model = calibration ? nsk_quantise(network, calibration, NULL, &error) : NULL;
    if (model == NULL) {
        return report(&error);
    }
    nsk_images *held_out =
        nsk_images_open(brief->held_out, &brief->labels, &brief->input, 0, false, &error);
    nsk_comparison *result =
        held_out ? nsk_compare(network, model, held_out, NULL, NULL, &error) : NULL;
    if (result == NULL) {
        return report(&error);
    }
    printf("%d of %d right in float, %d in integer: %.2f points lost, %zu bytes of model\n",
           result->float_correct, result->images, result->integer_correct, result->loss_points,
           model->size);
    nsk_comparison_free(result);
    nsk_images_free(held_out);
    nsk_model_file_free(model);
    nsk_images_free(calibration);
    nsk_network_free(network);
    nsk_brief_free(brief);
    return 0;
}
