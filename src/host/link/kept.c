#include "link/kept.h"

#include <errno.h>
#include <glib/gstdio.h>
#include <stdio.h>
#include <string.h>

#include "base/base.h"

/* A line a frame: its SHA-256, its scores, and, where layers were asked for, of each of them, and
 * of the preparation, ticks and stack: numbers parted by blanks. */
typedef struct said {
    int32_t *scores;
    nsk_link_layer *layers; /* or NULL */
} said;

struct nsk_kept {
    char *path;
    int classes, layers;
    size_t frame_bytes;
    GHashTable *of; /* digest to said */
    long found;
};

static void free_said(gpointer data) {
    said *s = data;
    g_free(s->scores);
    g_free(s->layers);
    g_free(s);
}

/* ---- reading ---- */

static bool read_number(const char *text, guint64 most, guint64 *number) {
    return g_ascii_string_to_unsigned(text, 10, 0, most, number, NULL);
}

static said *read_line(const nsk_kept *k, char **words) {
    const int count = (int)g_strv_length(words) - 1;
    const int with_layers = k->classes + 2 * (k->layers + 1);
    if (strlen(words[0]) != 64 || (count != k->classes && count != with_layers)) {
        return NULL;
    }
    said *s = g_new0(said, 1);
    s->scores = g_new0(int32_t, k->classes);
    s->layers = count == with_layers ? g_new0(nsk_link_layer, k->layers + 1) : NULL;
    bool good = true;
    guint64 number = 0;
    for (int i = 0; i < count && good; i++) {
        const int at = (i - k->classes) / 2;
        good = read_number(words[i + 1], i < k->classes ? NSK_CERTAIN : UINT32_MAX, &number);
        if (i < k->classes) {
            s->scores[i] = (int32_t)number;
        } else {
            *((i - k->classes) % 2 == 0 ? &s->layers[at].ticks : &s->layers[at].stack) =
                (uint32_t)number;
        }
    }
    if (!good) {
        free_said(s);
        return NULL;
    }
    return s;
}

static void read_text(nsk_kept *k, const char *text, size_t size) {
    const char *end;
    for (const char *line = text; (end = memchr(line, '\n', size - (size_t)(line - text))) != NULL;
         line = end + 1) { /* what stands behind the last end of a line was cut off */
        char *whole = g_strndup(line, (gsize)(end - line));
        char **words = g_strsplit(whole, " ", -1);
        said *s = words[0] != NULL ? read_line(k, words) : NULL;
        if (s != NULL) {
            g_hash_table_insert(k->of, g_strdup(words[0]), s);
        }
        g_strfreev(words);
        g_free(whole);
    }
}

static bool read_file(nsk_kept *k, nsk_error *error) {
    enum { MOST = 1 << 30 };
    size_t size = 0;
    if (!g_file_test(k->path, G_FILE_TEST_EXISTS)) {
        return true;
    }
    char *text = (char *)nsk_file_read(k->path, MOST, &size, error);
    if (text != NULL) {
        read_text(k, text, size);
    }
    g_free(text);
    return text != NULL;
}

static nsk_kept *new_kept(const nsk_model *model) {
    nsk_kept *k = g_new0(nsk_kept, 1);
    k->classes = model->classes;
    k->layers = model->layers;
    k->frame_bytes = (size_t)model->width * model->height * model->channels;
    k->of = g_hash_table_new_full(g_str_hash, g_str_equal, g_free, free_said);
    return k;
}

nsk_kept *nsk_kept_parse(const char *text, size_t size, const nsk_model *model) {
    nsk_kept *k = new_kept(model);
    read_text(k, text, size);
    return k;
}

nsk_kept *nsk_kept_open(const char *folder, const nsk_model *model, const char *core,
                        nsk_error *error) {
    if (g_mkdir_with_parents(folder, 0777) != 0) {
        nsk_fail_system(error, "%s: %s", folder, g_strerror(errno));
        return NULL;
    }
    nsk_kept *k = new_kept(model);
    char *name = g_strdup_printf("%08x-%s.said", model->checksum, core);
    k->path = g_build_filename(folder, g_strdelimit(name, "/", '_'), NULL);
    g_free(name);
    if (!read_file(k, error)) {
        nsk_kept_close(k);
        return NULL;
    }
    return k;
}

void nsk_kept_close(nsk_kept *kept) {
    if (kept != NULL) {
        g_hash_table_destroy(kept->of);
        g_free(kept->path);
        g_free(kept);
    }
}

long nsk_kept_found(const nsk_kept *kept) {
    return kept->found;
}

/* ---- frames ---- */

static char *digest_of(const nsk_kept *k, const uint8_t *frame) {
    return g_compute_checksum_for_data(G_CHECKSUM_SHA256, frame, k->frame_bytes);
}

bool nsk_kept_find(nsk_kept *kept, const uint8_t *frame, int32_t *scores, nsk_link_layer *layers) {
    char *digest = digest_of(kept, frame);
    const said *s = g_hash_table_lookup(kept->of, digest);
    const bool known = s != NULL && (layers == NULL || s->layers != NULL);
    g_free(digest);
    if (known) {
        memcpy(scores, s->scores, (size_t)kept->classes * sizeof *scores);
        kept->found++;
    }
    if (known && layers != NULL) {
        memcpy(layers, s->layers, ((size_t)kept->layers + 1) * sizeof *layers);
    }
    return known;
}

bool nsk_kept_add(nsk_kept *kept, const uint8_t *frame, const int32_t *scores,
                  const nsk_link_layer *layers, nsk_error *error) {
    GString *line = g_string_new(NULL);
    char *digest = digest_of(kept, frame);
    g_string_append(line, digest);
    for (int i = 0; i < kept->classes; i++) {
        g_string_append_printf(line, " %d", scores[i]);
    }
    for (int i = 0; layers != NULL && i <= kept->layers; i++) {
        g_string_append_printf(line, " %u %u", layers[i].ticks, layers[i].stack);
    }
    g_string_append_c(line, '\n');
    FILE *file = fopen(kept->path, "a");
    bool good = file != NULL && fputs(line->str, file) >= 0;
    good = file != NULL && fclose(file) == 0 && good;
    if (!good) {
        nsk_fail_system(error, "%s: %s", kept->path, g_strerror(errno));
    }
    g_free(digest);
    g_string_free(line, TRUE);
    return good;
}
