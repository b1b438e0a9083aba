/* stream: what the camera over the running belt sees, frame by frame, and what is truly there.
 *
 *     kiln-stream --seed 5 plain demo/scenes/plain
 *
 * writes plain.npy (N x H x W x 3 bytes) and plain.csv (picture,truth: a label, or '-' where nobody
 * can say, as when a tile moves or a hand is in the way).
 *
 *     kiln-stream --rate 30 plain - | netsuke watch demo/kiln.ini --camera -
 *
 * is the camera itself: a Y4M stream, so many pictures a second.
 */
#include <glib.h>
#include <math.h>
#include <stdio.h>
#include <string.h>

#include "base/base.h"
#include "scene.h"

enum { NOBODY_CAN_SAY = -1, MOST_FRAMES = 100000, MOST_TILES = 10000 };

/* One frame before it is drawn. */
typedef struct shot {
    int thing; /* index of what is on the belt */
    int truth;
    scene_view view;
} shot;

typedef struct stream {
    random_state random;
    scene_batch batch;
    GPtrArray *things; /* of scene */
    GArray *shots;
    double belt; /* how far it has run */
    double light;
} stream;

static int put(stream *s, kiln_class class) {
    random_state r = {random_bits(&s->random)};
    g_ptr_array_add(s->things, scene_new(class, &s->batch, &r));
    return (int)s->things->len - 1;
}

/* A frame of a thing that lies `down` from its place. The belt shakes a little. */
static void shoot(stream *s, int thing, int truth, double down) {
    shot one = {.thing = thing, .truth = truth};
    one.view.right = random_normal(&s->random) * 0.25;
    one.view.down = down + random_normal(&s->random) * 0.25;
    one.view.belt = s->belt;
    one.view.light = s->light * (1.0 + 0.01 * random_normal(&s->random));
    g_array_append_val(s->shots, one);
}

/* The belt alone. */
static void show_belt(stream *s, int frames) {
    int belt = frames > 0 ? put(s, BELT) : 0;
    for (int i = 0; i < frames; i++) {
        s->belt += 2.7;
        shoot(s, belt, BELT, 0.0);
    }
}

/* A tile comes, lies in its place for so many frames, and goes. */
static void show_tile(stream *s, kiln_class class, int frames) {
    static const double coming[] = {-36.0, -15.0};
    static const double going[] = {15.0, 36.0};
    int tile = put(s, class);
    for (size_t i = 0; i < G_N_ELEMENTS(coming); i++) {
        s->belt += 18.0;
        shoot(s, tile, NOBODY_CAN_SAY, coming[i]);
    }
    for (int i = 0; i < frames; i++) {
        shoot(s, tile, (int)class, 0.0);
    }
    for (size_t i = 0; i < G_N_ELEMENTS(going); i++) {
        s->belt += 18.0;
        shoot(s, tile, NOBODY_CAN_SAY, going[i]);
    }
}

static kiln_class draw_fault(stream *s) {
    static const kiln_class faults[] = {CRACK, CHIP, PINHOLE, DRIP};
    return faults[random_below(&s->random, (int)G_N_ELEMENTS(faults))];
}

static void show_some_tile(stream *s) {
    kiln_class class = random_chance(&s->random, 0.4) ? draw_fault(s) : SOUND;
    show_tile(s, class, 6 + random_below(&s->random, 4));
    show_belt(s, 2 + random_below(&s->random, 3));
}

static void show_until(stream *s, guint frames) {
    while (s->shots->len < frames) {
        show_some_tile(s);
    }
}

/* ---- the scenes ---- */

static void plain(stream *s) {
    show_belt(s, 5);
    show_until(s, 400);
}

/* Ten minutes at three frames a second. */
static void belt(stream *s) {
    while (s->shots->len < 1800) {
        s->light = 1.0 + 0.06 * sin(s->shots->len / 150.0);
        show_belt(s, 60);
    }
}

static void stop(stream *s) {
    show_until(s, 120);
    show_tile(s, CHIP, 60);
    show_belt(s, 40);
    show_until(s, 300);
    show_tile(s, SOUND, 60);
    show_until(s, 420);
}

/* The lamp fails and comes back. */
static void dark(stream *s) {
    show_until(s, 130);
    guint from = s->shots->len;
    show_until(s, from + 90);
    for (guint i = from; i < s->shots->len; i++) {
        double into = (double)(i - from) / 10.0;
        double back = (double)(s->shots->len - i) / 10.0;
        double light = fmax(1.0 - into, 1.0 - back);
        shot *one = &g_array_index(s->shots, shot, i);
        one->view.light *= fmax(light, 0.12);
        one->truth = light < 0.5 && one->truth != BELT ? NOBODY_CAN_SAY : one->truth;
    }
    show_until(s, 400);
}

static void glaze(stream *s) {
    show_until(s, 130);
    s->batch.fresh_glaze = 1;
    show_until(s, 270);
    s->batch.fresh_glaze = 0;
    show_until(s, 400);
}

/* It reaches in, stays a while and goes, whatever lies there. */
static void hand(stream *s) {
    show_until(s, 400);
    for (guint from = 40; from + 20 < s->shots->len; from += 45) {
        int frames = 8 + random_below(&s->random, 8);
        double reach = random_between(&s->random, 18.0, 38.0);
        for (int i = 0; i < frames; i++) {
            shot *one = &g_array_index(s->shots, shot, from + (guint)i);
            double part = sin(3.14159 * (i + 1.0) / (frames + 1.0));
            one->view.hand = reach * fmin(1.4 * part, 1.0);
            one->truth = NOBODY_CAN_SAY;
        }
    }
}

static void burst(stream *s) {
    while (s->shots->len < 400) {
        for (int i = 3 + random_below(&s->random, 4); i > 0; i--) {
            show_tile(s, draw_fault(s), 6 + random_below(&s->random, 4));
            show_belt(s, 1 + random_below(&s->random, 2));
        }
        for (int i = 2; i > 0; i--) {
            show_tile(s, SOUND, 7);
            show_belt(s, 3);
        }
    }
}

static const struct script {
    const char *name, *about;
    void (*play)(stream *s);
} scripts[] = {
    {"plain", "tiles come and go, two in five at fault", plain},
    {"belt", "ten minutes of nothing but belt", belt},
    {"stop", "the belt stops, with a chip and with a sound tile in view", stop},
    {"dark", "the lamp fails and comes back", dark},
    {"glaze", "a batch with a glaze that training has not seen", glaze},
    {"hand", "a hand reaches in now and then", hand},
    {"burst", "faults come in bursts", burst},
};

/* ---- files ---- */

static uint8_t *draw(const stream *s, int size) {
    size_t each = (size_t)3 * (size_t)size * (size_t)size;
    uint8_t *all = g_malloc(each * s->shots->len);
#pragma omp parallel for schedule(dynamic, 8)
    for (guint i = 0; i < s->shots->len; i++) {
        const shot *one = &g_array_index(s->shots, shot, i);
        random_state noise = {s->batch.seed * UINT64_C(0x9e3779b97f4a7c15) + i};
        random_bits(&noise);
        scene_frame(g_ptr_array_index(s->things, (guint)one->thing), &one->view, size, &noise,
                    all + each * i);
    }
    return all;
}

static bool write_npy(const char *path, const uint8_t *bytes, guint count, int size,
                      nsk_error *error) {
    enum { HEADER = 128, MAGIC = 10 };
    static const guint8 magic[MAGIC] = {0x93, 'N', 'U', 'M', 'P', 'Y', 1, 0, HEADER - MAGIC, 0};
    size_t all = (size_t)3 * (size_t)size * (size_t)size * count;
    GString *header = g_string_new(NULL);
    g_string_printf(header, "{'descr': '|u1', 'fortran_order': False, 'shape': (%u, %d, %d, 3), }",
                    count, size, size);
    while (header->len < HEADER - MAGIC - 1) {
        g_string_append_c(header, ' ');
    }
    g_string_append_c(header, '\n');
    GByteArray *file = g_byte_array_sized_new((guint)(HEADER + all));
    g_byte_array_append(file, magic, MAGIC);
    g_byte_array_append(file, (const guint8 *)header->str, (guint)header->len);
    g_string_free(header, TRUE);
    g_byte_array_append(file, bytes, (guint)all);
    bool good = nsk_file_write(path, file->data, file->len, error);
    g_byte_array_free(file, TRUE);
    return good;
}

/* To luma from 0 to 255 and both colours: ITU-R BT.601. */
static void write_planes(const uint8_t *rgb, size_t pixels, uint8_t *planes) {
    for (size_t i = 0; i < pixels; i++, rgb += 3) {
        planes[i] = (uint8_t)((77 * rgb[0] + 150 * rgb[1] + 29 * rgb[2] + 128) / 256);
        planes[pixels + i] = (uint8_t)(128 + (-43 * rgb[0] - 85 * rgb[1] + 128 * rgb[2]) / 256);
        planes[2 * pixels + i] = (uint8_t)(128 + (128 * rgb[0] - 107 * rgb[1] - 21 * rgb[2]) / 256);
    }
}

/* On standard output; `rate` 0: as fast as somebody reads. */
static bool write_y4m(const uint8_t *bytes, guint count, int size, int rate, nsk_error *error) {
    const size_t pixels = (size_t)size * (size_t)size;
    uint8_t *planes = g_malloc(3 * pixels);
    const gint64 start = g_get_monotonic_time();
    printf("YUV4MPEG2 W%d H%d F%d:1 Ip A1:1 C444 XCOLORRANGE=FULL\n", size, size,
           rate > 0 ? rate : 30);
    bool good = true;
    for (guint i = 0; i < count && good; i++) {
        const gint64 due = rate > 0 ? start + (gint64)i * 1000000 / rate : 0;
        const gint64 now = g_get_monotonic_time();
        g_usleep(due > now ? (gulong)(due - now) : 0);
        write_planes(bytes + 3 * pixels * i, pixels, planes);
        good = fputs("FRAME\n", stdout) >= 0 && fwrite(planes, 3, pixels, stdout) == pixels &&
               fflush(stdout) == 0;
    }
    g_free(planes);
    return good || nsk_fail(error, "standard output takes no more");
}

static bool write_truth(const char *path, const char *name, const stream *s, nsk_error *error) {
    GString *text = g_string_new("picture,truth\n");
    for (guint i = 0; i < s->shots->len; i++) {
        int truth = g_array_index(s->shots, shot, i).truth;
        g_string_append_printf(text, "%s[%u],%s\n", name, i,
                               truth == NOBODY_CAN_SAY ? "-" : kiln_class_names[truth]);
    }
    bool good = nsk_file_write(path, text->str, text->len, error);
    g_string_free(text, TRUE);
    return good;
}

/* As files, an array and what is truly there. */
static bool write_files(const stream *s, const uint8_t *bytes, int size, const char *to,
                        nsk_error *error) {
    char *pictures = g_strconcat(to, ".npy", NULL);
    char *truth = g_strconcat(to, ".csv", NULL);
    char *name = g_path_get_basename(pictures);
    char *folder = g_path_get_dirname(to);
    const bool good = (g_mkdir_with_parents(folder, 0777) == 0 ||
                       nsk_fail(error, "%s: the folder cannot be made; check the path", folder)) &&
                      write_npy(pictures, bytes, s->shots->len, size, error) &&
                      write_truth(truth, name, s, error);
    g_free(folder);
    g_free(name);
    g_free(truth);
    g_free(pictures);
    return good;
}

static bool run(const struct script *script, uint64_t seed, int size, int rate, const char *to,
                nsk_error *error) {
    stream s = {.random = {seed * UINT64_C(1000003) + 77},
                .batch = {.seed = seed},
                .things = g_ptr_array_new_with_free_func((GDestroyNotify)scene_free),
                .shots = g_array_new(FALSE, FALSE, sizeof(shot)),
                .light = 1.0};
    random_bits(&s.random);
    script->play(&s);
    uint8_t *bytes = draw(&s, size);
    const bool good = strcmp(to, "-") == 0 ? write_y4m(bytes, s.shots->len, size, rate, error)
                                           : write_files(&s, bytes, size, to, error);
    g_free(bytes);
    g_array_free(s.shots, TRUE);
    g_ptr_array_free(s.things, TRUE);
    return good;
}

static const struct script *script_named(const char *name) {
    for (size_t i = 0; i < G_N_ELEMENTS(scripts); i++) {
        if (strcmp(scripts[i].name, name) == 0) {
            return &scripts[i];
        }
    }
    return NULL;
}

int main(int argc, char **argv) {
    gint seed = 5;
    gint size = 64;
    gint rate = 30;
    const GOptionEntry entries[] = {
        {"seed", 0, 0, G_OPTION_ARG_INT, &seed, "The same seed gives the same bytes", "N"},
        {"size", 0, 0, G_OPTION_ARG_INT, &size, "Pixels each way; 64", "N"},
        {"rate", 0, 0, G_OPTION_ARG_INT, &rate,
         "Of a stream, pictures a second; 0: as fast as it is read; 30", "N"},
        G_OPTION_ENTRY_NULL};
    GString *summary = g_string_new("Draws what the camera over the running belt sees. Scenes:");
    for (size_t i = 0; i < G_N_ELEMENTS(scripts); i++) {
        g_string_append_printf(summary, "\n  %-6s %s", scripts[i].name, scripts[i].about);
    }
    GOptionContext *context = g_option_context_new("SCENE FILE");
    g_option_context_set_summary(context, summary->str);
    g_option_context_add_main_entries(context, entries, NULL);
    GError *reason = NULL;
    bool good = g_option_context_parse(context, &argc, &argv, &reason);
    const struct script *script = argc > 1 ? script_named(argv[1]) : NULL;
    g_option_context_free(context);
    g_string_free(summary, TRUE);
    if (!good || argc != 3 || script == NULL || seed < 0 || rate < 0 || size < 16 ||
        size > SCENE_LARGEST) {
        fprintf(
            stderr, "stream: %s\n",
            good
                ? "give a scene, and a file's name without its ending or -; --help lists the scenes"
                : reason->message);
        g_clear_error(&reason);
        return 2;
    }
    nsk_error error;
    if (!run(script, (uint64_t)seed, size, rate, argv[2], &error)) {
        fprintf(stderr, "stream: %s\n", error.text);
        return 2;
    }
    return 0;
}
