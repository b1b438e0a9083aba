#include "cycles.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MOST_CODE = 1 << 16 };

typedef struct instruction {
    uint8_t size;   /* bytes; 0: none here */
    uint8_t cycles; /* not taken, without pipelining */
    bool load, branch;
} instruction;

struct cycle_image {
    instruction at[MOST_CODE]; /* by address */
    const char *source[MOST_CODE];
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

static bool starts(const char *text, const char *with) {
    return strncmp(text, with, strlen(with)) == 0;
}

static instruction classify(const char *mnemonic, const char *operands, int size) {
    instruction i = {(uint8_t)size, 1, false, false};
    bool multiple = starts(mnemonic, "ldm") || starts(mnemonic, "stm") ||
                    starts(mnemonic, "push") || starts(mnemonic, "pop");
    if (multiple) {
        i.cycles = (uint8_t)(1 + registers_in(operands));
    } else if (starts(mnemonic, "ldrd") || starts(mnemonic, "strd")) {
        i.cycles = 3;
    } else if (starts(mnemonic, "ldr")) {
        i.cycles = 2;
        i.load = true;
    } else if (starts(mnemonic, "udiv") || starts(mnemonic, "sdiv")) {
        i.cycles = 7;
    }
    i.branch = (mnemonic[0] == 'b' && !starts(mnemonic, "bic") && !starts(mnemonic, "bfi") &&
                !starts(mnemonic, "bfc") && !starts(mnemonic, "bkpt")) ||
               starts(mnemonic, "cb") || starts(mnemonic, "tb");
    return i;
}

static char **run_tool(const char *prefix, const char *tool, const char *flags, const char *elf,
                       nsk_error *error) {
    char *program = g_strconcat(prefix, tool, NULL);
    char *arguments[] = {program, (char *)flags, (char *)elf, NULL};
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

static void read_instruction(cycle_image *image, char *line) {
    char *end;
    unsigned long address = strtoul(line, &end, 16);
    if (end == line || *end != ':' || address >= MOST_CODE) {
        return;
    }
    char **field = g_strsplit(end + 1, "\t", 4); /* blank, bytes, mnemonic, operands */
    if (g_strv_length(field) >= 3) {
        int digits = 0;
        for (const char *c = field[1]; *c != '\0'; c++) {
            digits += g_ascii_isxdigit(*c);
        }
        const char *operands = field[3] != NULL ? field[3] : "";
        image->at[address] = classify(field[2], operands, digits / 2);
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
    if (path == NULL || address + size > MOST_CODE) {
        return;
    }
    char *name = g_path_get_basename(path + 1);
    *strchrnul(name, ':') = '\0';
    const char *kept = g_string_chunk_insert_const(image->names, name);
    for (unsigned long a = address & ~1UL; a < address + size; a++) {
        image->source[a] = kept;
    }
    g_free(name);
}

cycle_image *cycle_image_read(const char *elf, const char *prefix, nsk_error *error) {
    char **code = run_tool(prefix, "objdump", "-d", elf, error);
    char **symbols = code != NULL ? run_tool(prefix, "nm", "-Sl", elf, error) : NULL;
    cycle_image *image = NULL;
    if (symbols != NULL) {
        image = g_new0(cycle_image, 1);
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

static void add_instruction(const cycle_image *image, unsigned long from, unsigned long next,
                            bool behind_load, cycle_mix *mix) {
    const instruction *i = &image->at[from];
    bool moved = next != from + i->size;
    mix->instructions += 1.0;
    mix->cycles += i->load && behind_load ? 1 : i->cycles;
    if (moved) {
        mix->cycles += 2.0;
        mix->taken_branches += 1.0;
    }
}

/* Whether a name is in a list parted by bars. */
static bool is_listed(const char *name, const char *list) {
    size_t length = strlen(name);
    for (const char *at = list; at != NULL; at = strchr(at, '|')) {
        at += *at == '|';
        if (strncmp(at, name, length) == 0 && (at[length] == '\0' || at[length] == '|')) {
            return true;
        }
    }
    return false;
}

bool cycle_mix_read(const cycle_image *image, const char *log, const char *sources, cycle_mix *mix,
                    nsk_error *error) {
    FILE *file = fopen(log, "r");
    char line[256];
    unsigned long last = MOST_CODE;
    bool behind_load = false;
    *mix = (cycle_mix){0};
    if (file == NULL) {
        return nsk_fail(error, "%s: cannot be read", log);
    }
    while (fgets(line, sizeof line, file) != NULL) {
        const char *bracket = strchr(line, '[');
        const char *slash = bracket != NULL ? strchr(bracket, '/') : NULL;
        unsigned long address = slash != NULL ? strtoul(slash + 1, NULL, 16) : MOST_CODE;
        if (last < MOST_CODE && image->source[last] != NULL &&
            is_listed(image->source[last], sources)) {
            add_instruction(image, last, address, behind_load, mix);
        }
        behind_load = last < MOST_CODE && image->at[last].load;
        last = address;
    }
    fclose(file);
    return mix->instructions > 0.0 ||
           nsk_fail(error, "the trace holds no instruction of %s", sources);
}
