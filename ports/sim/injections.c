#include "sim/injections.h"
#include "base/base.h"

#include <stdlib.h>
#include <string.h>

static const char *const names[NSK_INJECTIONS] = {
    [NSK_INJECTION_FLASH] = "flash",   [NSK_INJECTION_CAMERA] = "camera",
    [NSK_INJECTION_CUT] = "cut",       [NSK_INJECTION_FROZEN] = "frozen",
    [NSK_INJECTION_COLUMN] = "column", [NSK_INJECTION_BROWNOUT] = "brown-out",
    [NSK_INJECTION_CLOCK] = "clock",   [NSK_INJECTION_ROWS] = "rows",
    [NSK_INJECTION_TORN] = "torn"};

const char *nsk_injection_name(nsk_injection_kind kind) {
    return names[kind];
}

/* A number behind `sign`, where that comes next. */
static bool take(char **at, char sign, double *value) {
    char *end;
    if (**at != sign) {
        return true;
    }
    *value = g_ascii_strtod(*at + 1, &end);
    bool good = end != *at + 1 && *value >= 0.0 && *value <= 1e6;
    *at = end;
    return good;
}

bool nsk_injection_parse(const char *text, nsk_injection *injection, nsk_error *error) {
    size_t length = strcspn(text, "@");
    double first = -1.0;
    double frames = 1.0;
    int kind = 0;
    while (kind < NSK_INJECTIONS &&
           (strlen(names[kind]) != length || strncmp(names[kind], text, length) != 0)) {
        kind++;
    }
    char *at = (char *)text + length;
    *injection = (nsk_injection){.amount = 10.0};
    bool good = kind < NSK_INJECTIONS && take(&at, '@', &first) && take(&at, '+', &frames) &&
                take(&at, '=', &injection->amount) && *at == '\0' && first >= 0.0 &&
                frames >= 1.0 && injection->amount < 100.0;
    if (!good) {
        return nsk_fail(
            error,
            "--fault %s: a kind (flash, camera, cut, frozen, column, rows, torn, brown-out, "
            "clock), "
            "'@' and the first frame are needed; '+' and how many, and for the clock '=' "
            "and percent below 100, may follow",
            text);
    }
    injection->kind = (nsk_injection_kind)kind;
    injection->first = (int)first;
    injection->frames = (int)frames;
    return true;
}

const nsk_injection *nsk_injection_at(const nsk_injection *injections, int count,
                                      nsk_injection_kind kind, int frame) {
    for (int i = 0; i < count; i++) {
        const nsk_injection *f = &injections[i];
        if (f->kind == kind && frame >= f->first && frame - f->first < f->frames) {
            return f;
        }
    }
    return NULL;
}
