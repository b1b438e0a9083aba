/* trace: a plugin of QEMU that counts, for each address of the code, how often its instruction ran,
 * how often it was come to otherwise than from the one before it in memory, and how often another
 * than the next one followed. At the end it writes a line for each that ran:
 *
 *     ADDRESS RAN COME-TO-BY-A-JUMP LEFT-BY-A-JUMP BUS FAST SLOW
 *
 * the address in hexadecimal. BUS: accesses of the bus that words and half words at odd places took
 * besides the first. FAST and SLOW: cycles from the instruction before, by the two ends of the
 * core's pipeline model. Use: qemu-system-... -plugin trace.so,out=FILE[,steps=FILE][,bus=1]
 *
 * `steps` holds the core's name and a line for each instruction: ADDRESS READS WRITES MOVES UNIT
 * COUNT NARROW, in hexadecimal (pipeline.h); FAST and SLOW are 0 without it, BUS without `bus`.
 *
 * QEMU's headers are seldom installed; these are the parts of its plugin interface, version 1, that
 * are used here, as its manual ("QEMU TCG Plugins") has them. */
#include <inttypes.h>
#include <stddef.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "pipeline.h"

typedef uint64_t qemu_plugin_id_t;
typedef uint32_t qemu_plugin_meminfo_t;
typedef struct qemu_info_t qemu_info_t;
struct qemu_plugin_tb;
struct qemu_plugin_insn;
enum qemu_plugin_cb_flags { QEMU_PLUGIN_CB_NO_REGS };
enum qemu_plugin_mem_rw { QEMU_PLUGIN_MEM_RW = 3 };

void qemu_plugin_register_vcpu_tb_trans_cb(qemu_plugin_id_t id,
                                           void (*cb)(qemu_plugin_id_t, struct qemu_plugin_tb *));
void qemu_plugin_register_vcpu_insn_exec_cb(struct qemu_plugin_insn *insn,
                                            void (*cb)(unsigned int, void *),
                                            enum qemu_plugin_cb_flags flags, void *context);
void qemu_plugin_register_vcpu_mem_cb(struct qemu_plugin_insn *insn,
                                      void (*cb)(unsigned int, qemu_plugin_meminfo_t, uint64_t,
                                                 void *),
                                      enum qemu_plugin_cb_flags flags, enum qemu_plugin_mem_rw rw,
                                      void *context);
unsigned int qemu_plugin_mem_size_shift(qemu_plugin_meminfo_t info);
void qemu_plugin_register_atexit_cb(qemu_plugin_id_t id, void (*cb)(qemu_plugin_id_t, void *),
                                    void *context);
size_t qemu_plugin_tb_n_insns(const struct qemu_plugin_tb *tb);
struct qemu_plugin_insn *qemu_plugin_tb_get_insn(const struct qemu_plugin_tb *tb, size_t index);
uint64_t qemu_plugin_insn_vaddr(const struct qemu_plugin_insn *insn);
size_t qemu_plugin_insn_size(const struct qemu_plugin_insn *insn);

__attribute__((visibility("default"))) int qemu_plugin_version = 1;
__attribute__((visibility("default"))) int
qemu_plugin_install(qemu_plugin_id_t id, const qemu_info_t *info, int argc, char **argv);

/* Code lies together: its addresses differ in the bits that make an index. */
enum { MOST_CODE = 1 << 17 };

typedef struct spot {
    uint64_t address, ran, come_to, left;
    uint64_t next; /* address behind it */
    uint64_t bus, cycles[2];
    pipeline_step step;
    bool known;            /* it has a step */
    bool before, was_left; /* it ran before, and was left by a jump then */
} spot;

static spot spots[MOST_CODE];
static spot *last;
static char path[4096];
static bool counts_bus;
static pipeline_run runs[2]; /* by fast and slow numbers; without any where there is no model */

static void pass_through(spot *here, bool jumped) {
    const bool turned = last != NULL && last->before && last->was_left != jumped;
    const pipeline_way way = {jumped, turned};
    for (int i = 0; i < 2; i++) {
        here->cycles[i] += pipeline_begin(&runs[i], &here->step, way);
    }
    if (last != NULL) {
        last->before = true;
        last->was_left = jumped;
    }
}

static void executed(unsigned int cpu, void *context) {
    spot *here = context;
    const bool jumped = last != NULL && last->next != here->address;
    (void)cpu;
    here->ran++;
    if (jumped) {
        last->left++;
        here->come_to++;
    }
    if (runs[0].numbers != NULL && here->known) {
        pass_through(here, jumped);
    }
    last = here;
}

/* Words take three accesses at an odd address and two at an even one, half words two at an odd
 * one. */
static void accessed(unsigned int cpu, qemu_plugin_meminfo_t info, uint64_t address,
                     void *context) {
    spot *here = context;
    const unsigned int shift = qemu_plugin_mem_size_shift(info);
    (void)cpu;
    if (shift > 0 && address % 2U == 1U) {
        here->bus += shift > 1 ? 2 : 1;
    } else if (shift > 1 && address % 4U == 2U) {
        here->bus++;
    }
}

static spot *spot_at(uint64_t address) {
    return &spots[address / 2 % MOST_CODE];
}

static void translated(qemu_plugin_id_t id, struct qemu_plugin_tb *tb) {
    (void)id;
    for (size_t i = 0; i < qemu_plugin_tb_n_insns(tb); i++) {
        struct qemu_plugin_insn *insn = qemu_plugin_tb_get_insn(tb, i);
        uint64_t address = qemu_plugin_insn_vaddr(insn);
        spot *here = spot_at(address);
        here->address = address;
        here->next = address + qemu_plugin_insn_size(insn);
        qemu_plugin_register_vcpu_insn_exec_cb(insn, executed, QEMU_PLUGIN_CB_NO_REGS, here);
        if (counts_bus) {
            qemu_plugin_register_vcpu_mem_cb(insn, accessed, QEMU_PLUGIN_CB_NO_REGS,
                                             QEMU_PLUGIN_MEM_RW, here);
        }
    }
}

static void write_counts(qemu_plugin_id_t id, void *context) {
    FILE *file = fopen(path, "w");
    (void)id;
    (void)context;
    for (size_t i = 0; file != NULL && i < MOST_CODE; i++) {
        const spot *s = &spots[i];
        if (s->ran > 0) {
            fprintf(file,
                    "%" PRIx64 " %" PRIu64 " %" PRIu64 " %" PRIu64 " %" PRIu64 " %" PRIu64
                    " %" PRIu64 "\n",
                    s->address, s->ran, s->come_to, s->left, s->bus, s->cycles[0], s->cycles[1]);
        }
    }
    if (file != NULL) {
        fclose(file);
    }
}

static void read_step(const char *line) {
    unsigned long long number[7];
    char *rest = (char *)line;
    for (size_t i = 0; i < sizeof number / sizeof number[0]; i++) {
        number[i] = strtoull(rest, &rest, 16);
    }
    spot *here = spot_at(number[0]);
    here->known = true;
    here->step = (pipeline_step){.reads = (uint32_t)number[1],
                                 .writes = (uint32_t)number[2],
                                 .moves = (uint32_t)number[3],
                                 .unit = (uint8_t)(number[4] % PIPELINE_UNITS),
                                 .count = (uint8_t)number[5],
                                 .narrow = number[6] != 0};
}

static bool read_steps(const char *from) {
    FILE *file = fopen(from, "r");
    char line[256];
    if (file == NULL || fgets(line, sizeof line, file) == NULL) {
        fprintf(stderr, "trace: %s cannot be read\n", from);
        return false;
    }
    line[strcspn(line, "\n")] = '\0';
    const pipeline_core *core = pipeline_core_of(line);
    runs[0].numbers = core != NULL ? &core->fast : NULL;
    runs[1].numbers = core != NULL ? &core->slow : NULL;
    while (fgets(line, sizeof line, file) != NULL) {
        read_step(line);
    }
    fclose(file);
    return true;
}

static bool take_argument(const char *text) {
    if (strncmp(text, "out=", 4) == 0 && strlen(text) < sizeof path) {
        strcpy(path, text + 4); /* NOLINT(clang-analyzer-security.insecureAPI.strcpy): it fits */
        return true;
    }
    counts_bus = counts_bus || strcmp(text, "bus=1") == 0;
    return strcmp(text, "bus=1") == 0 || (strncmp(text, "steps=", 6) == 0 && read_steps(text + 6));
}

int qemu_plugin_install(qemu_plugin_id_t id, const qemu_info_t *info, int argc, char **argv) {
    (void)info;
    for (int i = 0; i < argc; i++) {
        if (!take_argument(argv[i])) {
            fprintf(stderr, "trace: '%s'? Give out=FILE, steps=FILE, bus=1\n", argv[i]);
            return -1;
        }
    }
    if (path[0] == '\0') {
        fputs("trace: give out=FILE\n", stderr);
        return -1;
    }
    qemu_plugin_register_vcpu_tb_trans_cb(id, translated);
    qemu_plugin_register_atexit_cb(id, write_counts, NULL);
    return 0;
}
