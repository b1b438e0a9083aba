/* The rehearsal's signals as a value change dump: IEEE 1364-2005, clause 18. */
#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/base.h"
#include "netsuke/rehearse.h"

/* A change of a signal: its identifier character and value. */
typedef struct change {
    guint64 at; /* microseconds */
    int order;  /* of writing: changes at one time stay in it */
    char text[40];
} change;

enum { CAMERA = '!', BUSY = '"', ANSWER = '#', FAULT = '$', FIRST_LINE = '%', MOST_LINES = 80 };

typedef struct dump {
    GArray *changes;
} dump;

static void put(dump *d, double seconds, const char *format, ...) G_GNUC_PRINTF(3, 4);
static void put(dump *d, double seconds, const char *format, ...) {
    change one = {.at = (guint64)(seconds * 1e6 + 0.5), .order = (int)d->changes->len};
    va_list arguments;
    va_start(arguments, format);
    g_vsnprintf(one.text, sizeof one.text, format, arguments);
    va_end(arguments);
    g_array_append_val(d->changes, one);
}

static int by_time(const void *a, const void *b) {
    const change *x = a;
    const change *y = b;
    return x->at != y->at ? (x->at > y->at) - (x->at < y->at) : x->order - y->order;
}

static const char *binary(int number, char *text) {
    for (int i = 0; i < 8; i++) {
        text[i] = (char)('0' + (number >> (7 - i) & 1));
    }
    text[8] = '\0';
    return text;
}

/* Names in the dump have no blanks. */
static void declare(GString *text, const char *kind, int width, char id, const char *prefix,
                    const char *name) {
    char *clean = g_strdelimit(g_strdup(name), " \t$", '_');
    g_string_append_printf(text, "$var %s %d %c %s%s $end\n", kind, width, id, prefix, clean);
    g_free(clean);
}

static int lines_of(const nsk_stage *stage, const nsk_labels *labels) {
    int lines = stage->decision->lines > 0 ? stage->decision->lines : labels->count;
    return MIN(lines, MOST_LINES);
}

static void write_head(GString *text, const nsk_stage *stage, const nsk_labels *labels) {
    int lines = lines_of(stage, labels);
    g_string_append(text, "$comment answer, by number:");
    for (int i = 0; i < lines; i++) {
        g_string_append_printf(text, " %d %s,", i, nsk_line_name(stage->decision, labels, i));
    }
    if (stage->decision->lines > 0) {
        g_string_append_printf(text, " %d at rest,", lines);
    }
    g_string_append(text, " 255 unsure; fault: 0 none, 1 camera late, 2 picture cut, 3 picture "
                          "frozen, 4 pixels stuck, 5 rows repeated, 6 model damaged, "
                          "7 runs differ, 8 memory damaged $end\n$timescale 1 us $end\n"
                          "$scope module product $end\n");
    declare(text, "wire", 1, CAMERA, "", "camera");
    declare(text, "wire", 1, BUSY, "", "busy");
    declare(text, "reg", 8, ANSWER, "", "answer");
    declare(text, "reg", 8, FAULT, "", "fault");
    for (int i = 0; i < lines; i++) {
        declare(text, "wire", 1, (char)(FIRST_LINE + i), "line_",
                nsk_line_name(stage->decision, labels, i));
    }
    g_string_append(text, "$upscope $end\n$enddefinitions $end\n");
}

static void put_answer(dump *d, const nsk_rehearsed *a, double period, int lines) {
    char bits[9];
    if (a->fault != NSK_FAULT_CAMERA_LATE) {
        put(d, a->arrived, "1%c", BUSY);
        put(d, a->answered, "0%c", BUSY);
    }
    put(d, a->answered, "b%s %c", binary((int)a->fault, bits), FAULT);
    if (a->fault == NSK_FAULT_NONE) {
        put(d, a->answered, "b%s %c", binary(a->line & 255, bits), ANSWER);
    }
    if (a->decided >= 0 && a->decided < lines) { /* up for a period of the camera */
        put(d, a->answered, "1%c", FIRST_LINE + a->decided);
        put(d, a->answered + period, "0%c", FIRST_LINE + a->decided);
    }
}

bool nsk_rehearsal_write_signals(const nsk_rehearsal *r, const nsk_stage *stage,
                                 const nsk_labels *labels, const char *path, nsk_error *error) {
    dump d = {g_array_new(FALSE, FALSE, sizeof(change))};
    double period = 1.0 / stage->board->frame_rate;
    int lines = lines_of(stage, labels);
    char bits[9];
    for (int id = CAMERA; id < FIRST_LINE + lines; id++) {
        if (id == ANSWER || id == FAULT) {
            put(&d, 0.0, "b%s %c", binary(id == ANSWER ? 255 : 0, bits), id);
        } else {
            put(&d, 0.0, "0%c", id);
        }
    }
    for (int f = 0; f < r->frames; f++) {
        put(&d, f * period, "1%c", CAMERA);
        put(&d, (f + 0.25) * period, "0%c", CAMERA);
    }
    for (int i = 0; i < r->taken; i++) {
        put_answer(&d, &r->answers[i], period, lines);
    }
    g_array_sort(d.changes, by_time);
    GString *text = g_string_new(NULL);
    write_head(text, stage, labels);
    guint64 last = G_MAXUINT64;
    for (guint i = 0; i < d.changes->len; i++) {
        const change *one = &g_array_index(d.changes, change, i);
        if (one->at != last) {
            g_string_append_printf(text, "#%" G_GUINT64_FORMAT "\n", one->at);
            last = one->at;
        }
        g_string_append_printf(text, "%s\n", one->text);
    }
    bool good = nsk_file_write(path, text->str, text->len, error);
    g_string_free(text, TRUE);
    g_array_free(d.changes, TRUE);
    return good;
}
