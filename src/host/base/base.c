#include "base/base.h"

#include "netsuke/version.h"

#include <errno.h>
#include <stdarg.h>
#include <stdio.h>
#include <string.h>
#include <sys/stat.h>

const char *nsk_version(void) {
    return NSK_PROGRAM_VERSION;
}

void nsk_free(void *numbers) {
    g_free(numbers);
}

void nsk_string_free(char *string) {
    g_free(string);
}

void nsk_strings_free(char **strings) {
    g_strfreev(strings);
}

void nsk_make_visible(char *text) {
    for (unsigned char *c = (unsigned char *)text; *c != '\0'; c++) {
        bool second_set = c[0] == 0xc2 && c[1] >= 0x80 && c[1] < 0xa0; /* U+0080 to U+009F */
        if (*c < 0x20 || *c == 0x7f || second_set) {
            *c = '?';
            c[second_set ? 1 : 0] = '?';
        }
    }
}

static void put_line(nsk_error *error, const char *prefix, const char *text) {
    char line[sizeof error->text];
    snprintf(line, sizeof line, "%s%s%s", prefix, *prefix != '\0' ? ": " : "", text);
    g_strdelimit(line, "\n\r", ' ');
    nsk_make_visible(line);
    memcpy(error->text, line, sizeof line);
}

static bool fail(nsk_error *error, nsk_error_code code, const char *format, va_list arguments) {
    if (error != NULL) {
        char *text = g_strdup_vprintf(format, arguments);
        put_line(error, "", text);
        error->code = code;
        g_free(text);
    }
    return false;
}

bool nsk_fail(nsk_error *error, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    fail(error, NSK_ERROR_CODE_INPUT, format, arguments);
    va_end(arguments);
    return false;
}

bool nsk_unsupported(nsk_error *error, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    fail(error, NSK_ERROR_CODE_UNSUPPORTED, format, arguments);
    va_end(arguments);
    return false;
}

bool nsk_fail_system(nsk_error *error, const char *format, ...) {
    va_list arguments;
    va_start(arguments, format);
    fail(error, NSK_ERROR_CODE_SYSTEM, format, arguments);
    va_end(arguments);
    return false;
}

bool nsk_fail_in(nsk_error *error, const char *format, ...) {
    if (error == NULL) {
        return false;
    }
    va_list arguments;
    va_start(arguments, format);
    char *where = g_strdup_vprintf(format, arguments);
    va_end(arguments);
    put_line(error, where, error->text);
    g_free(where);
    return false;
}

bool nsk_error_copy(nsk_error *to, const nsk_error *from) {
    if (to != NULL) {
        *to = *from;
    }
    return false;
}

uint8_t *nsk_file_read(const char *path, size_t limit, size_t *size, nsk_error *error) {
    struct stat facts;
    if (stat(path, &facts) != 0) {
        nsk_fail_system(error, "%s: %s; check the path", path, g_strerror(errno));
        return NULL;
    }
    if (!S_ISREG(facts.st_mode)) {
        nsk_fail(error, "%s: this is a %s; a file is needed here", path,
                 S_ISDIR(facts.st_mode) ? "folder" : "device or a pipe");
        return NULL;
    }
    if (facts.st_size < 0 || (uintmax_t)facts.st_size > limit) {
        nsk_fail(error, "%s: larger than the %zu MiB that are read here; check the path", path,
                 limit >> 20);
        return NULL;
    }
    char *bytes = NULL;
    GError *reason = NULL;
    if (!g_file_get_contents(path, &bytes, size, &reason)) {
        nsk_fail_system(error, "%s: %s", path, reason->message);
        g_error_free(reason);
        return NULL;
    }
    return (uint8_t *)bytes;
}

const char *nsk_past_mark(const char *text) {
    static const char mark[] = "\xEF\xBB\xBF";
    return g_str_has_prefix(text, mark) ? text + strlen(mark) : text;
}

bool nsk_file_write(const char *path, const void *bytes, size_t size, nsk_error *error) {
    GError *reason = NULL;
    if (g_file_set_contents_full(path, bytes, (gssize)size, G_FILE_SET_CONTENTS_CONSISTENT, 0666,
                                 &reason)) {
        return true;
    }
    nsk_fail_system(error, "%s: cannot be written: %s", path, reason->message);
    g_error_free(reason);
    return false;
}

char *nsk_path_beside(const char *base, const char *path) {
    if (g_path_is_absolute(path)) {
        return g_strdup(path);
    }
    char *folder = g_path_get_dirname(base);
    char *joined = strcmp(folder, ".") == 0 ? g_strdup(path) : g_build_filename(folder, path, NULL);
    g_free(folder);
    return joined;
}

char *nsk_stem(const char *path) {
    char *name = g_path_get_basename(path);
    char *dot = strrchr(name, '.');
    if (dot != NULL && dot != name) {
        *dot = '\0';
    }
    return name;
}
