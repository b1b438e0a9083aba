/* trace: a plugin of QEMU that counts, for each address of the code, how often its instruction ran,
 * how often it was come to otherwise than from the one before it in memory, and how often another
 * than the next one followed. At the end it writes a line for each that ran:
 *
 *     ADDRESS RAN COME-TO-BY-A-JUMP LEFT-BY-A-JUMP
 *
 * the address in hexadecimal. Use: qemu-system-... -plugin trace.so,out=FILE
 *
 * QEMU's headers are seldom installed; these are the parts of its plugin interface, version 1, that
 * are used here, as its manual ("QEMU TCG Plugins") has them. */
#include <inttypes.h>
#include <stddef.h>
#include <stdio.h>
#include <string.h>

typedef uint64_t qemu_plugin_id_t;
typedef struct qemu_info_t qemu_info_t;
struct qemu_plugin_tb;
struct qemu_plugin_insn;
enum qemu_plugin_cb_flags { QEMU_PLUGIN_CB_NO_REGS };

void qemu_plugin_register_vcpu_tb_trans_cb(qemu_plugin_id_t id,
                                           void (*cb)(qemu_plugin_id_t, struct qemu_plugin_tb *));
void qemu_plugin_register_vcpu_insn_exec_cb(struct qemu_plugin_insn *insn,
                                            void (*cb)(unsigned int, void *),
                                            enum qemu_plugin_cb_flags flags, void *context);
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
} spot;

static spot spots[MOST_CODE];
static spot *last;
static char path[4096];

static void executed(unsigned int cpu, void *context) {
    spot *here = context;
    (void)cpu;
    here->ran++;
    if (last != NULL && last->next != here->address) {
        last->left++;
        here->come_to++;
    }
    last = here;
}

static void translated(qemu_plugin_id_t id, struct qemu_plugin_tb *tb) {
    (void)id;
    for (size_t i = 0; i < qemu_plugin_tb_n_insns(tb); i++) {
        struct qemu_plugin_insn *insn = qemu_plugin_tb_get_insn(tb, i);
        uint64_t address = qemu_plugin_insn_vaddr(insn);
        spot *here = &spots[address / 2 % MOST_CODE];
        here->address = address;
        here->next = address + qemu_plugin_insn_size(insn);
        qemu_plugin_register_vcpu_insn_exec_cb(insn, executed, QEMU_PLUGIN_CB_NO_REGS, here);
    }
}

static void write_counts(qemu_plugin_id_t id, void *context) {
    FILE *file = fopen(path, "w");
    (void)id;
    (void)context;
    for (size_t i = 0; file != NULL && i < MOST_CODE; i++) {
        const spot *s = &spots[i];
        if (s->ran > 0) {
            fprintf(file, "%" PRIx64 " %" PRIu64 " %" PRIu64 " %" PRIu64 "\n", s->address, s->ran,
                    s->come_to, s->left);
        }
    }
    if (file != NULL) {
        fclose(file);
    }
}

int qemu_plugin_install(qemu_plugin_id_t id, const qemu_info_t *info, int argc, char **argv) {
    (void)info;
    if (argc != 1 || strncmp(argv[0], "out=", 4) != 0 || strlen(argv[0]) >= sizeof path) {
        fputs("trace: give out=FILE\n", stderr);
        return -1;
    }
    strcpy(path, argv[0] + 4); /* NOLINT(clang-analyzer-security.insecureAPI.strcpy): it fits */
    qemu_plugin_register_vcpu_tb_trans_cb(id, translated);
    qemu_plugin_register_atexit_cb(id, write_counts, NULL);
    return 0;
}
