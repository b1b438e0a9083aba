/* generate: writes a labelled set of kiln-line pictures: DIR/CLASS/CLASS-0000.png ...
 *
 *     generate --seed 3 --per-class 200 demo/images/held-out
 */
#include <glib.h>
#include <stdio.h>

#include "images/picture.h"
#include "scene.h"

/* Each picture has a random state of its own, so that a set does not depend on the threads. */
static random_state picture_state(uint64_t seed, int class, int index) {
    random_state r = {seed * UINT64_C(1000003) + (uint64_t) class * UINT64_C(7919)};
    r.state = random_bits(&r) + (uint64_t)index * UINT64_C(0x2545f4914f6cdd1d);
    random_bits(&r);
    return r;
}

static bool write_picture(const char *folder, int size, uint64_t seed, int class, int index,
                          nsk_error *error) {
    uint8_t *rgb = g_malloc(3 * (gsize)size * (gsize)size);
    random_state r = picture_state(seed, class, index);
    scene_draw((kiln_class) class, &r, size, rgb);
    const nsk_picture picture = {.width = size, .height = size, .rgb = rgb};
    char *path = g_strdup_printf("%s/%s/%s-%04d.png", folder, kiln_class_names[class],
                                 kiln_class_names[class], index);
    bool good = nsk_picture_write_png(&picture, path, error);
    g_free(path);
    g_free(rgb);
    return good;
}

static bool make_folders(const char *folder, nsk_error *error) {
    for (int class = 0; class < KILN_CLASSES; class ++) {
        char *path = g_build_filename(folder, kiln_class_names[class], NULL);
        int failed = g_mkdir_with_parents(path, 0777);
        if (failed) {
            nsk_fail(error, "%s: the folder cannot be made; check the path", path);
        }
        g_free(path);
        if (failed) {
            return false;
        }
    }
    return true;
}

static bool generate(const char *folder, int size, uint64_t seed, int per_class, nsk_error *error) {
    if (!make_folders(folder, error)) {
        return false;
    }
    bool good = true;
#pragma omp parallel for schedule(dynamic, 16)
    for (int i = 0; i < per_class * KILN_CLASSES; i++) {
        nsk_error fault;
        if (!write_picture(folder, size, seed, i % KILN_CLASSES, i / KILN_CLASSES, &fault)) {
#pragma omp critical
            {
                good = false;
                *error = fault;
            }
        }
    }
    return good;
}

int main(int argc, char **argv) {
    gint seed = 1;
    gint size = SCENE_SIZE;
    gint per_class = 200;
    const GOptionEntry entries[] = {
        {"seed", 0, 0, G_OPTION_ARG_INT, &seed, "The same seed gives the same bytes", "N"},
        {"size", 0, 0, G_OPTION_ARG_INT, &size, "Pixels each way; 48", "N"},
        {"per-class", 0, 0, G_OPTION_ARG_INT, &per_class, "Pictures of each class", "N"},
        G_OPTION_ENTRY_NULL};
    GOptionContext *context = g_option_context_new("DIR");
    g_option_context_set_summary(context, "Draws labelled images of the kiln line.");
    g_option_context_add_main_entries(context, entries, NULL);
    GError *reason = NULL;
    bool good = g_option_context_parse(context, &argc, &argv, &reason);
    g_option_context_free(context);
    if (!good || argc != 2 || per_class < 1 || per_class > 100000 || seed < 0 || size < 16 ||
        size > SCENE_LARGEST) {
        fprintf(
            stderr, "generate: %s\n",
            good ? "give one folder, a seed from 0, 1 to 100000 pictures a class, 16 to 256 pixels"
                 : reason->message);
        g_clear_error(&reason);
        return 2;
    }
    nsk_error error;
    if (!generate(argv[1], size, (uint64_t)seed, per_class, &error)) {
        fprintf(stderr, "generate: %s\n", error.text);
        return 2;
    }
    return 0;
}
