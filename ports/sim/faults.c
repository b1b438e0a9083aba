#include "sim/faults.h"
#include "base/base.h"

#include <stdlib.h>
#include <string.h>

static const char *const names[NSK_FAULT_KINDS] = {
    [NSK_FAULT_FLASH] = "flash",   [NSK_FAULT_CAMERA] = "camera",
    [NSK_FAULT_CUT] = "cut",       [NSK_FAULT_FROZEN] = "frozen",
    [NSK_FAULT_COLUMN] = "column", [NSK_FAULT_BROWNOUT] = "brown-out",
    [NSK_FAULT_CLOCK] = "clock",   [NSK_FAULT_ROWS] = "rows",
    [NSK_FAULT_TORN] = "torn"};

const char *nsk_fault_name(nsk_fault_kind kind) {
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

bool nsk_fault_parse(const char *text, nsk_fault *fault, nsk_error *error) {
    size_t length = strcspn(text, "@");
    double first = -1.0;
    double frames = 1.0;
    int kind = 0;
    while (kind < NSK_FAULT_KINDS &&
           (strlen(names[kind]) != length || strncmp(names[kind], text, length) != 0)) {
        kind++;
    }
    char *at = (char *)text + length;
    *fault = (nsk_fault){.amount = 10.0};
    bool good = kind < NSK_FAULT_KINDS && take(&at, '@', &first) && take(&at, '+', &frames) &&
                take(&at, '=', &fault->amount) && *at == '\0' && first >= 0.0 && frames >= 1.0 &&
                fault->amount < 100.0;
    if (!good) {
        return nsk_fail(
            error,
            "--fault %s: a kind (flash, camera, cut, frozen, column, rows, torn, brown-out, "
            "clock), "
            "'@' and the first frame are needed; '+' and how many, and for the clock '=' "
            "and percent below 100, may follow",
            text);
    }
    fault->kind = (nsk_fault_kind)kind;
    fault->first = (int)first;
    fault->frames = (int)frames;
    return true;
}

const nsk_fault *nsk_fault_at(const nsk_fault *faults, int count, nsk_fault_kind kind, int frame) {
    for (int i = 0; i < count; i++) {
        const nsk_fault *f = &faults[i];
        if (f->kind == kind && frame >= f->first && frame - f->first < f->frames) {
            return f;
        }
    }
    return NULL;
}
