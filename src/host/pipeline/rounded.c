#include "pipeline/rounded.h"

#include "netsuke/quantise.h"

#include <glib/gstdio.h>

nsk_network *nsk_network_rounded(const nsk_network *network, const nsk_images *calibration,
                                 const nsk_recipe *recipe, nsk_error *error) {
    char *folder = g_dir_make_tmp("netsuke-split-XXXXXX", NULL);
    if (folder == NULL) {
        nsk_fail(error, "no temporary folder can be made");
        return NULL;
    }
    char *path = g_build_filename(folder, "rounded.onnx", NULL);
    nsk_input input = *nsk_images_input(calibration);
    nsk_network *rounded = nsk_quantise_onnx(network, calibration, recipe, path, error)
                               ? nsk_network_read(path, &input, NULL, error)
                               : NULL;
    g_unlink(path);
    g_rmdir(folder);
    g_free(path);
    g_free(folder);
    return rounded;
}
