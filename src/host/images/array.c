#include "images/array.h"

#include <errno.h>
#include <math.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

#include <glib/gstdio.h>
#include <zlib.h>

static const size_t MOST_UNPACKED = (size_t)16 << 30;

/* ---- headers ---- */

/* The size of a whole file, whose elements begin at `start`. */
static bool add_up(const nsk_array *a, size_t start, size_t *whole, nsk_error *error) {
    size_t need = a->width;
    for (int i = 0; i < a->rank; i++) {
        if (a->dims[i] == 0 || need > SIZE_MAX / a->dims[i]) {
            return nsk_fail(error, "its header gives an impossible shape");
        }
        need *= a->dims[i];
    }
    *whole = need <= SIZE_MAX - start ? start + need : SIZE_MAX;
    return true;
}

/* 0, 0, type, rank, then one big-endian u32 an axis. */
static bool read_idx(const uint8_t *bytes, size_t size, nsk_array *a, size_t *start,
                     nsk_error *error) {
    static const struct {
        uint8_t code;
        nsk_element element;
        uint8_t width;
    } types[] = {{8, NSK_ELEMENT_UNSIGNED, 1}, {9, NSK_ELEMENT_SIGNED, 1},
                 {11, NSK_ELEMENT_SIGNED, 2},  {12, NSK_ELEMENT_SIGNED, 4},
                 {13, NSK_ELEMENT_REAL, 4},    {14, NSK_ELEMENT_REAL, 8}};
    a->big_endian = true;
    a->rank = bytes[3];
    for (size_t i = 0; i < G_N_ELEMENTS(types); i++) {
        if (types[i].code == bytes[2]) {
            a->element = types[i].element;
            a->width = types[i].width;
        }
    }
    if (a->width == 0 || a->rank < 1 || a->rank > NSK_ARRAY_RANK ||
        size < 4 + 4 * (size_t)a->rank) {
        return nsk_fail(error, "not an IDX file of one to four axes");
    }
    for (int i = 0; i < a->rank; i++) {
        const uint8_t *at = bytes + 4 + 4 * i;
        a->dims[i] = (size_t)at[0] << 24 | (size_t)at[1] << 16 | (size_t)at[2] << 8 | at[3];
    }
    *start = 4 + 4 * (size_t)a->rank;
    return true;
}

/* The text behind 'key': in the dictionary, or NULL. */
static const char *behind_key(const char *header, const char *key) {
    const char *at = strstr(header, key);
    at = at != NULL ? strchr(at, ':') : NULL;
    return at != NULL ? at + 1 + strspn(at + 1, " ") : NULL;
}

static bool read_npy_type(const char *descr, nsk_array *a) {
    static const char kinds[] = "uifb";
    static const nsk_element elements[] = {NSK_ELEMENT_UNSIGNED, NSK_ELEMENT_SIGNED,
                                           NSK_ELEMENT_REAL, NSK_ELEMENT_UNSIGNED};
    const char *kind = descr[0] == '\'' && descr[1] != '\0' ? strchr(kinds, descr[2]) : NULL;
    if (kind == NULL || *kind == '\0') {
        return false;
    }
    a->big_endian = descr[1] == '>';
    a->element = elements[kind - kinds];
    a->width = (unsigned)g_ascii_strtoull(descr + 3, NULL, 10);
    return a->width == 1 || a->width == 2 || a->width == 4 || a->width == 8;
}

static bool read_npy_shape(const char *shape, nsk_array *a) {
    if (*shape != '(') {
        return false;
    }
    const char *at = shape + 1;
    while (*at != ')') {
        char *end;
        uint64_t size = g_ascii_strtoull(at, &end, 10);
        if (end == at || a->rank == NSK_ARRAY_RANK) {
            return false;
        }
        a->dims[a->rank++] = (size_t)size;
        at = end + strspn(end, ", ");
    }
    return a->rank >= 1;
}

/* Magic, version, length of the header, a Python dictionary: the NPY format's own page. */
static bool read_npy(const uint8_t *bytes, size_t size, nsk_array *a, size_t *start,
                     nsk_error *error) {
    size_t lead = bytes[6] == 1 ? 10 : 12;
    if (size < lead) {
        return nsk_fail(error, "an NPY file that is cut short");
    }
    size_t length = bytes[8] | (size_t)bytes[9] << 8;
    length |= lead == 12 ? (size_t)bytes[10] << 16 | (size_t)bytes[11] << 24 : 0;
    if (length > size - lead || length > 65536) {
        return nsk_fail(error, "an NPY file that is cut short");
    }
    char *header = g_strndup((const char *)bytes + lead, length);
    const char *descr = behind_key(header, "'descr'");
    const char *order = behind_key(header, "'fortran_order'");
    const char *shape = behind_key(header, "'shape'");
    bool good = descr != NULL && order != NULL && shape != NULL;
    if (!good) {
        nsk_fail(error, "an NPY file whose header is not one");
    } else if (g_str_has_prefix(order, "True")) {
        good = nsk_fail(error, "an NPY array in Fortran order; save it in C order");
    } else if (!read_npy_type(descr, a) || !read_npy_shape(shape, a)) {
        good = nsk_fail(error, "an NPY array of other elements, or more axes, than are read here; "
                               "save unsigned bytes of three or four axes, labels as integers");
    }
    g_free(header);
    *start = lead + length;
    return good;
}

/* Of the header alone: shape and elements, where these begin, and the size of the whole file. */
static bool read_header(const uint8_t *bytes, size_t size, nsk_array *array, size_t *start,
                        size_t *whole, nsk_error *error) {
    *array = (nsk_array){0};
    bool npy = size >= 8 && memcmp(bytes, "\x93NUMPY", 6) == 0;
    bool idx = size >= 4 && bytes[0] == 0 && bytes[1] == 0;
    bool good = npy   ? read_npy(bytes, size, array, start, error)
                : idx ? read_idx(bytes, size, array, start, error)
                      : nsk_fail(error, "neither an IDX nor an NPY file");
    return good && add_up(array, *start, whole, error);
}

bool nsk_array_of(const uint8_t *bytes, size_t size, nsk_array *array, nsk_error *error) {
    size_t start = 0;
    size_t whole = 0;
    if (!read_header(bytes, size, array, &start, &whole, error)) {
        return false;
    }
    if (size != whole) {
        return nsk_fail(error,
                        "its header asks for %zu bytes of elements, the file has %zu; it is cut "
                        "short or not what it says",
                        whole - start, size - MIN(start, size));
    }
    array->data = bytes + start;
    return true;
}

/* ---- files ---- */

static bool is_gzip(const uint8_t *bytes, size_t size) {
    return size >= 2 && bytes[0] == 0x1f && bytes[1] == 0x8b;
}

static bool starts_as_array(const uint8_t *bytes, size_t size) {
    return (size >= 6 && memcmp(bytes, "\x93NUMPY", 6) == 0) ||
           (size >= 4 && bytes[0] == 0 && bytes[1] == 0 && bytes[2] >= 8 && bytes[2] <= 14);
}

bool nsk_array_is_one(const char *path) {
    static const char *const endings[] = {".npy", ".npy.gz", ".idx", ".idx.gz"};
    char *lower = g_ascii_strdown(path, -1);
    bool found = g_strrstr(lower, "-idx") != NULL || g_strrstr(lower, ".idx") != NULL;
    for (size_t i = 0; i < G_N_ELEMENTS(endings); i++) {
        found = found || g_str_has_suffix(lower, endings[i]);
    }
    g_free(lower);
    uint8_t start[8] = {0};
    bool regular = g_file_test(path, G_FILE_TEST_IS_REGULAR); /* nobody waits for a pipe */
    FILE *file = found || !regular ? NULL : fopen(path, "rb");
    if (file != NULL) {
        size_t size = fread(start, 1, sizeof start, file);
        found = starts_as_array(start, size);
        fclose(file);
    }
    return found;
}

/* A file that has no name any more; -1 and an error where there can be none. */
static int open_nameless(nsk_error *error) {
    GError *reason = NULL;
    char *name = NULL;
    int file = g_file_open_tmp("netsuke-XXXXXX", &name, &reason);
    if (file < 0) {
        nsk_fail(error, "no temporary file to unpack into: %s", reason->message);
        g_error_free(reason);
        return -1;
    }
    g_unlink(name);
    g_free(name);
    return file;
}

/* No more than the header asks for: a small file can be packed from a huge one. */
static bool unpack_to(int file, gzFile packed, nsk_error *error) {
    enum { CHUNK = 1 << 17 }; /* more than any header */
    uint8_t *chunk = g_malloc(CHUNK);
    nsk_array array;
    size_t start = 0;
    size_t whole = 0;
    size_t total = 0;
    int count = gzread(packed, chunk, CHUNK);
    bool good = count < 0 || read_header(chunk, (size_t)count, &array, &start, &whole, error);
    bool fits = whole <= MOST_UNPACKED;
    while (good && fits && count > 0) {
        total += (size_t)count;
        fits = total <= whole;
        count =
            fits && write(file, chunk, (size_t)count) == count ? gzread(packed, chunk, CHUNK) : -1;
    }
    g_free(chunk);
    if (good && !fits) {
        return nsk_fail(error, "holds more than its header asks for, or asks for more than %zu GiB",
                        MOST_UNPACKED >> 30);
    }
    return good && (count == 0 || nsk_fail(error, "cannot be unpacked: damaged, cut short, or "
                                                  "larger than the room for temporary files"));
}

/* A file without a name; -1 and an error where that fails. */
static int unpack(const char *path, nsk_error *error) {
    gzFile packed = gzopen(path, "rb");
    int file = packed != NULL ? open_nameless(error) : -1;
    if (packed == NULL) {
        nsk_fail(error, "cannot be opened: %s", g_strerror(errno));
        return -1;
    }
    bool good = file >= 0 && unpack_to(file, packed, error);
    if (gzclose(packed) != Z_OK && good) {
        good = nsk_fail(error, "cannot be unpacked: damaged or cut short");
    }
    if (!good && file >= 0) {
        g_close(file, NULL);
    }
    return good ? file : -1;
}

static GMappedFile *map(const char *path, nsk_error *error) {
    GError *reason = NULL;
    if (g_file_test(path, G_FILE_TEST_EXISTS) && !g_file_test(path, G_FILE_TEST_IS_REGULAR)) {
        nsk_fail(error, "this is no file that can be read as an array; check the path");
        return NULL;
    }
    GMappedFile *file = g_mapped_file_new(path, FALSE, &reason);
    if (file == NULL) {
        nsk_fail(error, "%s; check the path", reason->message);
        g_error_free(reason);
        return NULL;
    }
    if (!is_gzip((const uint8_t *)g_mapped_file_get_contents(file),
                 g_mapped_file_get_length(file))) {
        return file;
    }
    g_mapped_file_unref(file);
    int unpacked = unpack(path, error);
    if (unpacked < 0) {
        return NULL;
    }
    file = g_mapped_file_new_from_fd(unpacked, FALSE, NULL);
    g_close(unpacked, NULL);
    if (file == NULL) {
        nsk_fail(error, "cannot be mapped");
    }
    return file;
}

bool nsk_array_open(const char *path, nsk_array *array, nsk_error *error) {
    *array = (nsk_array){0};
    GMappedFile *file = map(path, error);
    if (file == NULL) {
        return nsk_fail_in(error, "%s", path);
    }
    const uint8_t *bytes = (const uint8_t *)g_mapped_file_get_contents(file);
    if (!nsk_array_of(bytes, g_mapped_file_get_length(file), array, error)) {
        g_mapped_file_unref(file);
        return nsk_fail_in(error, "%s", path);
    }
    array->file = file;
    return true;
}

void nsk_array_close(nsk_array *array) {
    if (array->file != NULL) {
        g_mapped_file_unref(array->file);
    }
    *array = (nsk_array){0};
}

/* ---- what is in them ---- */

static bool is_channels(size_t count) {
    return count == 1 || count == 3;
}

bool nsk_array_is_pictures(const nsk_array *a, nsk_error *error) {
    if (a->element != NSK_ELEMENT_UNSIGNED || a->width != 1) {
        return nsk_fail(error, "images must be unsigned bytes, 0 to 255; save them so");
    }
    bool good =
        (a->rank == 3 || (a->rank == 4 && (is_channels(a->dims[3]) || is_channels(a->dims[1])))) &&
        a->dims[0] <= INT32_MAX;
    for (int i = 1; i < a->rank; i++) {
        good = good && a->dims[i] <= 65535;
    }
    return good || nsk_fail(error, "not images: N x H x W, N x H x W x C or N x C x H x W is "
                                   "needed, C being 1 or 3");
}

void nsk_array_picture(const nsk_array *a, size_t index, nsk_picture *picture) {
    bool first = a->rank == 4 && !is_channels(a->dims[3]); /* channels before rows */
    size_t channels = a->rank == 3 ? 1 : first ? a->dims[1] : a->dims[3];
    size_t height = first ? a->dims[2] : a->dims[1];
    size_t width = first ? a->dims[3] : a->dims[2];
    size_t pixels = height * width;
    const uint8_t *from = a->data + index * pixels * channels;
    *picture = (nsk_picture){.width = (int)width, .height = (int)height, .colour = channels == 3};
    picture->rgb = g_malloc(3 * pixels);
    for (size_t i = 0; i < 3 * pixels; i++) {
        size_t channel = channels == 3 ? i % 3 : 0;
        picture->rgb[i] = from[first ? channel * pixels + i / 3 : i / 3 * channels + channel];
    }
}

int nsk_array_cut_index(char *name) {
    char *open = strrchr(name, '[');
    char *end;
    if (open == NULL || name[strlen(name) - 1] != ']') {
        return -1;
    }
    long index = strtol(open + 1, &end, 10);
    if (*end != ']' || index < 0 || index > 100000000L) {
        return -1;
    }
    *open = '\0';
    return (int)index;
}

bool nsk_picture_named(const char *name, nsk_picture *picture, nsk_error *error) {
    char *path = g_strdup(name);
    nsk_array array;
    int index = g_file_test(name, G_FILE_TEST_EXISTS) ? -1 : nsk_array_cut_index(path);
    if (index < 0) {
        g_free(path);
        return nsk_picture_read(name, picture, error);
    }
    bool good = nsk_array_open(path, &array, error);
    if (good) {
        good = nsk_array_is_pictures(&array, error) || nsk_fail_in(error, "%s", path);
        good = good && ((size_t)index < array.dims[0] ||
                        nsk_fail(error, "%s: the array has %zu images, counted from 0", name,
                                 array.dims[0]));
        if (good) {
            nsk_array_picture(&array, (size_t)index, picture);
        }
        nsk_array_close(&array);
    }
    g_free(path);
    return good;
}

bool nsk_array_is_labels(const nsk_array *a, nsk_error *error) {
    bool line = a->rank == 1 || (a->rank == 2 && a->dims[1] == 1);
    return (line && a->element != NSK_ELEMENT_REAL) ||
           nsk_fail(error, "labels must be one whole number an image");
}

int64_t nsk_array_integer(const nsk_array *a, size_t index) {
    const uint8_t *at = a->data + index * a->width;
    uint64_t value = 0;
    for (unsigned i = 0; i < a->width; i++) {
        value = value << 8 | at[a->big_endian ? i : a->width - 1 - i];
    }
    unsigned unused = 64 - 8 * MAX(a->width, 1U);
    return a->element == NSK_ELEMENT_SIGNED ? (int64_t)(value << unused) >> unused : (int64_t)value;
}

double nsk_array_number(const nsk_array *a, size_t index) {
    const uint64_t bits = (uint64_t)nsk_array_integer(a, index);
    if (a->element != NSK_ELEMENT_REAL) {
        return (double)(int64_t)bits;
    }
    const uint32_t low = (uint32_t)bits;
    double wide = NAN;
    float narrow;
    if (a->width == sizeof wide) {
        memcpy(&wide, &bits, sizeof wide);
    } else if (a->width == sizeof narrow) {
        memcpy(&narrow, &low, sizeof narrow);
        wide = (double)narrow;
    }
    return wide;
}

static char *replaced(const char *text, const char *part, const char *by) {
    char **parts = g_strsplit(text, part, 2);
    char *joined = parts[1] != NULL ? g_strconcat(parts[0], by, parts[1], NULL) : g_strdup(text);
    g_strfreev(parts);
    return joined;
}

char *nsk_array_labels_beside(const char *path) {
    static const char *const changes[][2] = {
        {"images", "labels"}, {"idx3", "idx1"}, {"idx4", "idx1"}};
    char *folder = g_path_get_dirname(path);
    char *name = g_path_get_basename(path);
    char *wanted = g_strdup(name);
    for (size_t i = 0; i < G_N_ELEMENTS(changes); i++) {
        char *next = replaced(wanted, changes[i][0], changes[i][1]);
        g_free(wanted);
        wanted = next;
    }
    if (strcmp(wanted, name) == 0) {
        g_free(wanted);
        wanted = replaced(name, ".npy", "-labels.npy");
    }
    char *found = g_build_filename(folder, wanted, NULL);
    if (strcmp(wanted, name) == 0 || !g_file_test(found, G_FILE_TEST_EXISTS)) {
        g_free(found);
        found = NULL;
    }
    g_free(folder);
    g_free(name);
    g_free(wanted);
    return found;
}
