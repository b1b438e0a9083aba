#include "cycles.h"

#include <inttypes.h>
#include <limits.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "decode.h"

enum { MOST_CODE = 1 << 16 };

typedef struct instruction {
    uint8_t size;   /* bytes; 0: none here */
    uint8_t cycles; /* not taken, without pipelining */
    bool piped;     /* one cycle, behind another such */
    pipeline_step step;
} instruction;

struct cycle_image {
    unsigned long base;        /* address of the first */
    instruction at[MOST_CODE]; /* by address from there */
    const char *source[MOST_CODE];
    const core_timings *timings;
    const pipeline_core *pipeline; /* or NULL */
    decode_block block;            /* while it is read */
    GStringChunk *names;
};

static int registers_in(const char *operands) {
    const char *open = strchr(operands, '{');
    int count = 1;
    for (const char *c = open; c != NULL && *c != '\0'; c++) {
        count += *c == ',';
    }
    return count;
}

static instruction classify(cycle_image *image, const char *mnemonic, const char *operands,
                            int size) {
    const core_timings *timings = image->timings;
    timing_rule rule = timing_of(timings, mnemonic);
    int cycles = rule.cycles + (rule.each ? registers_in(operands) : 0);
    const pipeline_step step = decode_step(mnemonic, operands, size, &image->block);
    const bool late = timings->phases && step.unit == PIPELINE_STORE && step.indexed;
    return (instruction){(uint8_t)size, (uint8_t)(late ? 2 : cycles), rule.piped || late, step};
}

static char **run_tool(const core_timings *timings, const char *tool, const char *flags,
                       const char *more, const char *elf, nsk_error *error) {
    char *program = g_strconcat(timings->tools, tool, NULL);
    char *arguments[] = {program, (char *)flags, (char *)elf, (char *)more, NULL};
    char *out = NULL;
    int status = 0;
    GError *reason = NULL;
    char **lines = NULL;
    if (!g_spawn_sync(NULL, arguments, NULL, G_SPAWN_SEARCH_PATH | G_SPAWN_STDERR_TO_DEV_NULL, NULL,
                      NULL, &out, NULL, &status, &reason)) {
        nsk_fail(error, "%s cannot be started: %s", program, reason->message);
        g_error_free(reason);
    } else if (status != 0) {
        nsk_fail(error, "%s cannot read %s", program, elf);
    } else {
        lines = g_strsplit(out, "\n", -1);
    }
    g_free(out);
    g_free(program);
    return lines;
}

/* Addresses from the image's first on; MOST_CODE where it is none of its own. */
static unsigned long offset_of(const cycle_image *image, unsigned long address) {
    unsigned long offset = address - image->base;
    return address >= image->base && offset < MOST_CODE ? offset : MOST_CODE;
}

static void read_instruction(cycle_image *image, char *line) {
    char *end;
    unsigned long address = strtoul(line, &end, 16);
    if (end == line || *end != ':') {
        return;
    }
    if (image->base == ULONG_MAX) {
        image->base = address;
    }
    address = offset_of(image, address);
    if (address == MOST_CODE) {
        return;
    }
    char **field = g_strsplit(end + 1, "\t", 4); /* blank, bytes, mnemonic, operands */
    if (g_strv_length(field) >= 3) {
        int digits = 0;
        for (const char *c = field[1]; *c != '\0'; c++) {
            digits += g_ascii_isxdigit(*c);
        }
        const char *operands = field[3] != NULL ? field[3] : "";
        char *mnemonic = g_strstrip(field[2]);
        image->at[address] = classify(image, mnemonic, operands, digits / 2);
    }
    g_strfreev(field);
}

static void read_symbol(cycle_image *image, const char *line) {
    unsigned long address;
    unsigned long size;
    int used = 0;
    if (sscanf(line, "%lx %lx %*c %*s%n", &address, &size, &used) < 2 || used == 0) {
        return;
    }
    const char *path = strchr(line + used, '\t');
    address = offset_of(image, address & ~1UL);
    if (path == NULL || address + size > MOST_CODE) {
        return;
    }
    char *name = g_path_get_basename(path + 1);
    *strchrnul(name, ':') = '\0';
    const char *kept = g_string_chunk_insert_const(image->names, name);
    for (unsigned long a = address; a < address + size; a++) {
        image->source[a] = kept;
    }
    g_free(name);
}

cycle_image *cycle_image_read(const char *elf, const core_timings *timings, nsk_error *error) {
    char **code = run_tool(timings, "objdump", "-d", timings->machine, elf, error);
    char **symbols = code != NULL ? run_tool(timings, "nm", "-Sl", NULL, elf, error) : NULL;
    cycle_image *image = NULL;
    if (symbols != NULL) {
        image = g_new0(cycle_image, 1);
        image->base = ULONG_MAX;
        image->timings = timings;
        image->pipeline = pipeline_core_of(timings->core);
        image->names = g_string_chunk_new(1024);
        for (char **line = code; *line != NULL; line++) {
            read_instruction(image, *line);
        }
        for (char **line = symbols; *line != NULL; line++) {
            read_symbol(image, *line);
        }
    }
    g_strfreev(code);
    g_strfreev(symbols);
    return image;
}

void cycle_image_free(cycle_image *image) {
    if (image != NULL) {
        g_string_chunk_free(image->names);
        g_free(image);
    }
}

/* Whether a source is in a list of names without suffix, parted by blanks. */
static bool is_listed(const char *source, const char *list) {
    size_t length = strcspn(source, ".");
    for (const char *at = list; at != NULL; at = strchr(at, ' ')) {
        at += *at == ' ';
        if (strncmp(at, source, length) == 0 && (at[length] == '\0' || at[length] == ' ')) {
            return true;
        }
    }
    return false;
}

/* What stands in memory before an instruction, and so ran before it where it was not come to by a
 * jump; NULL: nothing known. */
static const instruction *behind(const cycle_image *image, unsigned long at) {
    for (unsigned long size = 2; size <= 4 && size <= at; size += 2) {
        const instruction *i = &image->at[at - size];
        if (i->size == size) {
            return i;
        }
    }
    return NULL;
}

/* Whether an access hides behind the load before it, which does not load its address. */
static bool is_hidden(const cycle_image *image, unsigned long at) {
    const instruction *i = &image->at[at];
    const instruction *before = i->piped ? behind(image, at) : NULL;
    if (before == NULL || !before->piped || before->step.unit == PIPELINE_STORE) {
        return false;
    }
    const uint32_t awaited = before->step.writes & i->step.reads;
    return !image->timings->phases || i->step.unit == PIPELINE_STORE || awaited == 0;
}

/* Numbers of a line of trace.c, behind the address. */
enum { RAN, COME_TO, LEFT, BUS, FAST, SLOW, NUMBERS };

static void add_counts(const cycle_image *image, unsigned long at, const double *count,
                       cycle_mix *mix) {
    const instruction *i = &image->at[at];
    double ran = count[RAN];
    double hidden = is_hidden(image, at) ? ran - count[COME_TO] : 0.0;
    mix->instructions += ran;
    mix->cycles += ran * i->cycles - hidden * (i->cycles - 1) + count[BUS] +
                   count[LEFT] * image->timings->taken;
    mix->taken_branches += count[LEFT];
    mix->fast += count[FAST];
    mix->slow += count[SLOW];
}

static bool write_steps(const cycle_image *image, const char *to, nsk_error *error) {
    GString *text = g_string_new(image->timings->core);
    g_string_append_c(text, '\n');
    for (unsigned long i = 0; i < MOST_CODE; i++) {
        const pipeline_step *s = &image->at[i].step;
        if (image->at[i].size > 0) {
            g_string_append_printf(text, "%lx %" PRIx32 " %" PRIx32 " %" PRIx32 " %x %x %x\n",
                                   image->base + i, s->reads, s->writes, s->moves, s->unit,
                                   s->count, s->narrow);
        }
    }
    const bool good = nsk_file_write(to, text->str, text->len, error);
    g_string_free(text, TRUE);
    return good;
}

char *cycle_image_plugin(const cycle_image *image, const char *trace, const char *counts,
                         const char *steps, nsk_error *error) {
    if (image->pipeline != NULL && !write_steps(image, steps, error)) {
        return NULL;
    }
    return g_strconcat(trace, ",out=", counts, image->pipeline != NULL ? ",steps=" : "",
                       image->pipeline != NULL ? steps : "", image->timings->phases ? ",bus=1" : "",
                       NULL);
}

bool cycle_mix_add(const cycle_image *image, const char *counts, const char *sources,
                   cycle_mix *mix, nsk_error *error) {
    FILE *file = fopen(counts, "r");
    char line[256];
    if (file == NULL) {
        return nsk_fail(error, "%s: cannot be read", counts);
    }
    while (fgets(line, sizeof line, file) != NULL) {
        char *rest;
        unsigned long at = offset_of(image, strtoul(line, &rest, 16));
        double count[NUMBERS] = {0.0};
        for (int i = 0; i < NUMBERS; i++) {
            count[i] = strtod(rest, &rest);
        }
        if (at < MOST_CODE && image->source[at] != NULL && is_listed(image->source[at], sources)) {
            add_counts(image, at, count, mix);
        }
    }
    fclose(file);
    return true;
}
