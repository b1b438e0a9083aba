#include "decode.h"

#include <stdlib.h>
#include <string.h>

enum { MOST_OPERANDS = 6, OPERAND = 96 };

/* Operands, parted at commas outside of brackets. */
typedef struct operands {
    char text[MOST_OPERANDS][OPERAND];
    int count;
} operands;

/* What mnemonics that begin so do; the first that fits counts. `writes`: of so many operands, from
 * the first on; LIST: of the one in braces. */
enum { LIST = -1 };
typedef struct form {
    const char *begins; /* with a blank at its end: the whole */
    uint8_t unit;
    int8_t writes;
    bool keeps; /* reads what it writes, too */
} form;

static const form forms[] = {
    {"vpush", PIPELINE_STORES, 0, false},
    {"vstm", PIPELINE_STORES, 0, false},
    {"vpop", PIPELINE_LOADS, LIST, false},
    {"vldm", PIPELINE_LOADS, LIST, false},
    {"vld", PIPELINE_VECTOR_LOAD, 1, false},
    {"vst", PIPELINE_VECTOR_STORE, 0, false},
    {"vml", PIPELINE_VECTOR_MULTIPLY, 1, true},
    {"vmul", PIPELINE_VECTOR_MULTIPLY, 1, false},
    {"vqdml", PIPELINE_VECTOR_MULTIPLY, 1, true},
    {"vqdmul", PIPELINE_VECTOR_MULTIPLY, 1, false},
    {"vqrdmul", PIPELINE_VECTOR_MULTIPLY, 1, false},
    {"vaddva", PIPELINE_VECTOR_MULTIPLY, 1, true},
    {"vaddv", PIPELINE_VECTOR_MULTIPLY, 1, false},
    {"vqmovn", PIPELINE_VECTOR, 1, true},
    {"vqmovun", PIPELINE_VECTOR, 1, true},
    {"vmovn", PIPELINE_VECTOR, 1, true},
    {"vmov", PIPELINE_VECTOR, 1, false},
    {"vsli", PIPELINE_VECTOR, 1, true},
    {"vsri", PIPELINE_VECTOR, 1, true},
    {"vidup", PIPELINE_VECTOR, 2, false},
    {"vctp", PIPELINE_ALU, 0, false},
    {"vp", PIPELINE_ALU, 0, false},
    {"vmsr", PIPELINE_ALU, 1, false},
    {"vmrs", PIPELINE_ALU, 1, false},
    {"v", PIPELINE_VECTOR, 1, false},
    {"ldrd", PIPELINE_LOADS, 2, false},
    {"ldm", PIPELINE_LOADS, LIST, false},
    {"pop", PIPELINE_LOADS, LIST, false},
    {"ldr", PIPELINE_LOAD, 1, false},
    {"strd", PIPELINE_STORES, 0, false},
    {"stm", PIPELINE_STORES, 0, false},
    {"push", PIPELINE_STORES, 0, false},
    {"str", PIPELINE_STORE, 0, false},
    {"pld", PIPELINE_ALU, 0, false},
    {"cmp", PIPELINE_ALU, 0, false},
    {"cmn", PIPELINE_ALU, 0, false},
    {"tst", PIPELINE_ALU, 0, false},
    {"teq", PIPELINE_ALU, 0, false},
    {"smlal", PIPELINE_MULTIPLY, 2, true},
    {"umlal", PIPELINE_MULTIPLY, 2, true},
    {"umaal", PIPELINE_MULTIPLY, 2, true},
    {"smull", PIPELINE_MULTIPLY, 2, false},
    {"umull", PIPELINE_MULTIPLY, 2, false},
    {"smul", PIPELINE_MULTIPLY, 1, false},
    {"smla", PIPELINE_MULTIPLY, 1, false},
    {"smm", PIPELINE_MULTIPLY, 1, false},
    {"smu", PIPELINE_MULTIPLY, 1, false},
    {"mul", PIPELINE_MULTIPLY, 1, false},
    {"mla", PIPELINE_MULTIPLY, 1, false},
    {"mls", PIPELINE_MULTIPLY, 1, false},
    {"udiv", PIPELINE_DIVIDE, 1, false},
    {"sdiv", PIPELINE_DIVIDE, 1, false},
    {"le ", PIPELINE_LOOP, 0, true},
    {"letp ", PIPELINE_LOOP, 0, true},
    {"dls", PIPELINE_ALU, 1, false},
    {"wls", PIPELINE_BRANCH, 1, false},
    {"bfi ", PIPELINE_ALU, 1, true},
    {"bf", PIPELINE_ALU, 1, true},
    {"bic", PIPELINE_ALU, 1, false},
    {"bkpt", PIPELINE_ALU, 0, false},
    {"b", PIPELINE_BRANCH, 0, false},
    {"cb", PIPELINE_BRANCH, 0, false},
    {"tb", PIPELINE_BRANCH, 0, false},
    {"it", PIPELINE_ALU, 0, false},
    {"nop", PIPELINE_ALU, 0, false},
    {"dsb", PIPELINE_ALU, 0, false},
    {"isb", PIPELINE_ALU, 0, false},
    {"movt", PIPELINE_ALU, 1, true},
    {"", PIPELINE_ALU, 1, false},
};

static bool begins(const char *text, const char *with) {
    return strncmp(text, with, strlen(with)) == 0;
}

static const form *form_of(const char *mnemonic) {
    const form *f = forms;
    for (;; f++) { /* the last one fits all */
        const size_t length = strlen(f->begins);
        const bool whole = length > 0 && f->begins[length - 1] == ' ';
        if (whole ? strlen(mnemonic) == length - 1 && strncmp(mnemonic, f->begins, length - 1) == 0
                  : begins(mnemonic, f->begins)) {
            return f;
        }
    }
}

static void split(const char *text, operands *to) {
    int depth = 0;
    int length = 0;
    to->count = 0;
    memset(to->text, 0, sizeof to->text);
    for (; *text != '\0' && *text != '@' && *text != ';' && to->count < MOST_OPERANDS; text++) {
        depth += (*text == '[' || *text == '{') - (*text == ']' || *text == '}');
        if (*text == ',' && depth == 0) {
            to->count++;
            length = 0;
        } else if (*text != ' ' && *text != '\t' && length < OPERAND - 1) {
            to->text[to->count][length++] = *text;
        }
    }
    to->count += length > 0 && to->count < MOST_OPERANDS;
}

/* One register's bit by its name; none where it is no such name. */
static uint32_t register_of(const char *name, size_t length) {
    static const struct {
        const char *name;
        uint32_t number;
    } other[] = {{"sb", 9},  {"sl", 10}, {"fp", 11}, {"ip", 12},
                 {"sp", 13}, {"lr", 14}, {"pc", 15}, {"p0", PIPELINE_PREDICATE}};
    for (size_t i = 0; i < sizeof other / sizeof other[0]; i++) {
        if (length == 2 && strncmp(name, other[i].name, 2) == 0) {
            return UINT32_C(1) << other[i].number;
        }
    }
    char *end;
    const unsigned long number = length >= 2 ? strtoul(name + 1, &end, 10) : 64;
    if (length < 2 || end != name + length || number > 31) {
        return 0;
    }
    switch (name[0]) { /* two d or four s to a q */
    case 'r':
        return number < 16 ? UINT32_C(1) << number : 0;
    case 'q':
        return number < 8 ? UINT32_C(1) << (PIPELINE_Q0 + number) : 0;
    case 'd':
        return number < 16 ? UINT32_C(1) << (PIPELINE_Q0 + number / 2) : 0;
    case 's':
        return UINT32_C(1) << (PIPELINE_Q0 + number / 4);
    default:
        return 0;
    }
}

static bool is_letter_or_digit(char c) {
    return (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9');
}

/* Bits of all registers that are named, those between two with a dash among them. */
static uint32_t registers_in(const char *text) {
    uint32_t all = 0;
    uint32_t first = 0;
    while (*text != '\0') {
        size_t length = 0;
        while (is_letter_or_digit(text[length])) {
            length++;
        }
        const uint32_t one = register_of(text, length);
        all |= one;
        for (; first != 0 && first < one; first <<= 1) {
            all |= first;
        }
        text += length;
        first = *text == '-' ? one : 0;
        text += *text != '\0';
    }
    return all;
}

static int count_bits(uint32_t bits) {
    int count = 0;
    for (; bits != 0; bits &= bits - 1) {
        count++;
    }
    return count;
}

/* The operand that holds an address, or NULL. */
static const char *address_in(const operands *o) {
    for (int i = 0; i < o->count; i++) {
        if (o->text[i][0] == '[') {
            return o->text[i];
        }
    }
    return NULL;
}

static bool has_flags(const char *mnemonic) {
    size_t length = strcspn(mnemonic, ".");
    return length > 2 && mnemonic[length - 1] == 's' && !begins(mnemonic, "mls") &&
           !begins(mnemonic, "dls") && !begins(mnemonic, "mrs");
}

static bool is_conditional(const pipeline_step *s, const char *mnemonic) {
    return s->unit == PIPELINE_BRANCH && mnemonic[0] == 'b' && strcspn(mnemonic, ".") == 3 &&
           !begins(mnemonic, "blx");
}

/* The flags, or what else decides. */
static void add_flags(const char *mnemonic, pipeline_step *s) {
    static const char *const readers[] = {"adc", "sbc", "it", "cs", "cinc", "cinv", "cneg", "sel"};
    const uint32_t flags = UINT32_C(1) << PIPELINE_FLAGS;
    bool reads = is_conditional(s, mnemonic);
    for (size_t i = 0; i < sizeof readers / sizeof readers[0]; i++) {
        reads = reads || begins(mnemonic, readers[i]);
    }
    s->reads |= reads ? flags : 0;
    const bool compares = begins(mnemonic, "cmp") || begins(mnemonic, "cmn") ||
                          begins(mnemonic, "tst") || begins(mnemonic, "teq");
    const bool of_bytes = begins(mnemonic, "uadd") || begins(mnemonic, "usub");
    const bool sets = s->unit <= PIPELINE_MULTIPLY && has_flags(mnemonic);
    s->writes |= compares || of_bytes || sets ? flags : 0;
    if (begins(mnemonic, "vctp") || begins(mnemonic, "vcmp") || begins(mnemonic, "vpt")) {
        s->writes |= UINT32_C(1) << PIPELINE_PREDICATE;
    }
}

/* Sums whose first operand is the result and a part of it: "add r0, r1". */
static bool is_short_sum(const char *mnemonic, const operands *o) {
    static const char *const sums[] = {"add", "adc", "sub", "sbc", "and", "orr", "orn",
                                       "eor", "bic", "lsl", "lsr", "asr", "ror", "mul"};
    for (size_t i = 0; i < sizeof sums / sizeof sums[0]; i++) {
        if (o->count == 2 && begins(mnemonic, sums[i])) {
            return true;
        }
    }
    return false;
}

/* Loads and stores by vectors: of single registers, and with an address for each element. */
static void refine_vector(const char *mnemonic, const operands *o, pipeline_step *s) {
    const char *address = address_in(o);
    const uint32_t q = ~UINT32_C(0) << PIPELINE_Q0 & ~(UINT32_C(1) << PIPELINE_PREDICATE);
    const bool loads = s->unit == PIPELINE_VECTOR_LOAD;
    if (o->text[0][0] == 's' || o->text[0][0] == 'd') {
        s->unit = loads ? PIPELINE_LOAD : PIPELINE_STORE;
    } else if (address != NULL && (registers_in(address) & q) != 0) {
        const char *bits = strchr(mnemonic, '.');
        const long wide = bits != NULL ? strtol(bits + strcspn(bits, "0123456789"), NULL, 10) : 32;
        s->unit = PIPELINE_VECTOR_SCATTERED;
        s->count = (uint8_t)(wide > 0 ? 128 / wide : 4);
    }
}

/* A lane or two of a vector are set, or two registers read out of one. */
static int moved_operands(const operands *o) {
    return o->count == 4 ? 2 : 1;
}

static void add_address(const operands *o, pipeline_step *s) {
    const char *address = address_in(o);
    const int last = o->count - 1;
    if (address != NULL) {
        const uint32_t used = registers_in(address);
        s->indexed = count_bits(used) == 2;
        const bool behind = o->text[last][0] != '[' && strchr(address, ',') == NULL;
        s->moves |= behind || strchr(address, '!') != NULL ? used & 0xFFFFU : 0;
    } else if (strchr(o->text[0], '!') != NULL) {
        s->moves |= registers_in(o->text[0]);
    }
}

/* Registers of all operands but those that are only written. */
static void add_operands(const operands *o, const form *f, int writes, bool keeps,
                         pipeline_step *s) {
    for (int i = 0; i < o->count; i++) {
        const uint32_t used = registers_in(o->text[i]);
        const bool written = writes == LIST ? o->text[i][0] == '{' : i < writes;
        s->writes |= written ? used : 0;
        s->reads |= !written || keeps ? used : 0;
        if (o->text[i][0] == '{') {
            s->count = (uint8_t)count_bits(used);
        }
    }
    if (f->unit == PIPELINE_LOOP) {
        s->moves |= UINT32_C(1) << 14;
    }
}

static void begin_block(const char *mnemonic, decode_block *block) {
    if (begins(mnemonic, "it")) {
        *block = (decode_block){(int)strlen(mnemonic) - 1, UINT32_C(1) << PIPELINE_FLAGS};
    } else if (begins(mnemonic, "vpst") || begins(mnemonic, "vpt")) {
        const int more = (int)strcspn(mnemonic, ".") - (begins(mnemonic, "vpst") ? 4 : 3);
        *block = (decode_block){more + 1, UINT32_C(1) << PIPELINE_PREDICATE};
    }
}

pipeline_step decode_step(const char *mnemonic, const char *text, int size, decode_block *block) {
    pipeline_step s = {0};
    operands o;
    split(text, &o);
    const form *f = form_of(mnemonic);
    const bool decided = block->left > 0;
    int writes = f->writes;
    bool keeps = f->keeps || decided || is_short_sum(mnemonic, &o);
    s.unit = f->unit;
    s.narrow = size == 2;
    s.count = begins(mnemonic, "ldrd") || begins(mnemonic, "strd") ? 2 : 0;
    if (begins(mnemonic, "vmov")) {
        writes = moved_operands(&o);
        keeps = keeps || strchr(o.text[0], '[') != NULL;
    }
    if (s.unit == PIPELINE_VECTOR_LOAD || s.unit == PIPELINE_VECTOR_STORE) {
        refine_vector(mnemonic, &o, &s);
    }
    const bool scattered = s.unit == PIPELINE_VECTOR_SCATTERED;
    const uint8_t count = s.count;
    add_operands(&o, f, writes, keeps, &s);
    s.count = scattered ? count : s.count;
    add_address(&o, &s);
    s.reads |= decided ? block->decision : 0;
    block->left -= decided;
    if (!decided) {
        add_flags(mnemonic, &s);
        begin_block(mnemonic, block);
    }
    return s;
}
