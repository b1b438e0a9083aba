/* generate: writes a labelled set of kiln-line pictures: DIR/CLASS/CLASS-0000.png ..., or, where a
 * tile may have several faults, DIR/crack+chip/crack+chip-0000.png ...
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

/* What a folder's pictures show. */
typedef struct drawn {
    char name[64];
    kiln_class classes[2]; /* of pictures, by turns */
    unsigned faults;       /* besides: a bit a class */
} drawn;

enum { MOST_DRAWN = 16 };

static int draw_classes(drawn *list) {
    for (int class = 0; class < KILN_CLASSES; class ++) {
        list[class] = (drawn){.classes = {(kiln_class) class, (kiln_class) class}};
        g_strlcpy(list[class].name, kiln_class_names[class], sizeof list->name);
    }
    return KILN_CLASSES;
}

/* Nothing wrong, one fault, or two. */
static int draw_faults(drawn *list) {
    int count = 1;
    list[0] = (drawn){.name = "none", .classes = {BELT, SOUND}};
    for (int one = CRACK; one < KILN_CLASSES; one++) {
        for (int other = one; other < KILN_CLASSES; other++) {
            drawn *d = &list[count++];
            *d = (drawn){.classes = {SOUND, SOUND}, .faults = 1U << one | 1U << other};
            g_snprintf(d->name, sizeof d->name, other > one ? "%s+%s" : "%s", kiln_class_names[one],
                       kiln_class_names[other]);
        }
    }
    return count;
}

static bool write_picture(const char *folder, const drawn *d, int size, uint64_t seed, int kind,
                          int index, nsk_error *error) {
    uint8_t *rgb = g_malloc(3 * (gsize)size * (gsize)size);
    random_state r = picture_state(seed, kind, index);
    scene_draw(d->classes[index % 2], d->faults, &r, size, rgb);
    const nsk_picture picture = {.width = size, .height = size, .rgb = rgb};
    char *path = g_strdup_printf("%s/%s/%s-%04d.png", folder, d->name, d->name, index);
    bool good = nsk_picture_write_png(&picture, path, error);
    g_free(path);
    g_free(rgb);
    return good;
}

static bool make_folders(const char *folder, const drawn *list, int count, nsk_error *error) {
    for (int i = 0; i < count; i++) {
        char *path = g_build_filename(folder, list[i].name, NULL);
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

static bool generate(const char *folder, bool several, int size, uint64_t seed, int per_class,
                     nsk_error *error) {
    drawn list[MOST_DRAWN];
    int kinds = (several ? draw_faults : draw_classes)(list);
    if (!make_folders(folder, list, kinds, error)) {
        return false;
    }
    bool good = true;
#pragma omp parallel for schedule(dynamic, 16)
    for (int i = 0; i < per_class * kinds; i++) {
        nsk_error fault;
        if (!write_picture(folder, &list[i % kinds], size, seed, i % kinds, i / kinds, &fault)) {
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
    gboolean several = FALSE;
    const GOptionEntry entries[] = {
        {"seed", 0, 0, G_OPTION_ARG_INT, &seed, "The same seed gives the same bytes", "N"},
        {"size", 0, 0, G_OPTION_ARG_INT, &size, "Pixels each way; 48", "N"},
        {"per-class", 0, 0, G_OPTION_ARG_INT, &per_class, "Pictures of each class", "N"},
        {"several", 0, 0, G_OPTION_ARG_NONE, &several,
         "Tiles with no fault, one or two; --per-class is of each such set", NULL},
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
    if (!generate(argv[1], several != FALSE, size, (uint64_t)seed, per_class, &error)) {
        fprintf(stderr, "generate: %s\n", error.text);
        return 2;
    }
    return 0;
}
