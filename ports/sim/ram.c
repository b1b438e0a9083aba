#include "sim/ram.h"

#include <setjmp.h>
#include <signal.h>
#include <string.h>
#include <sys/mman.h>
#include <unistd.h>

struct nsk_ram {
    uint8_t *mapping; /* a guard, the RAM up to the last byte of its last page, a guard */
    size_t mapped, guard;
    uint8_t *start;
    size_t bytes, taken;
    sigjmp_buf escape;
    uintptr_t fault;
};

/* A signal handler has no other way to learn which board is running; set only inside the guard. */
static _Thread_local nsk_ram *running;

static const size_t GUARD = (size_t)16 << 20;

nsk_ram *nsk_ram_new(size_t bytes, nsk_error *error) {
    size_t page = (size_t)sysconf(_SC_PAGESIZE);
    size_t pages = (bytes + page - 1) / page * page;
    nsk_ram *ram = g_new0(nsk_ram, 1);
    ram->guard = GUARD;
    ram->mapped = pages + 2 * GUARD;
    ram->bytes = bytes;
    void *mapping = mmap(NULL, ram->mapped, PROT_NONE, MAP_PRIVATE | MAP_ANONYMOUS, -1, 0);
    if (mapping == MAP_FAILED ||
        mprotect((uint8_t *)mapping + GUARD, pages, PROT_READ | PROT_WRITE) != 0) {
        nsk_fail(error, "no memory to simulate a RAM of %zu bytes", bytes);
        g_free(ram);
        return NULL;
    }
    ram->mapping = mapping;
    ram->start = ram->mapping + GUARD + (pages - bytes);
    ram->start += (4 - (uintptr_t)ram->start % 4) % 4; /* a size that is no multiple of four */
    return ram;
}

void nsk_ram_free(nsk_ram *ram) {
    if (ram != NULL) {
        munmap(ram->mapping, ram->mapped);
        g_free(ram);
    }
}

void *nsk_ram_take(nsk_ram *ram, size_t bytes) {
    uint8_t *at = ram->start + ram->taken;
    ram->taken += (bytes + 3) / 4 * 4;
    return at;
}

void nsk_ram_lose(nsk_ram *ram, unsigned seed) {
    uint32_t state = seed;
    for (size_t i = 0; i < ram->bytes; i++) {
        state = state * 1664525U + 1013904223U;
        ram->start[i] = (uint8_t)(state >> 24);
    }
    ram->taken = 0;
}

static void on_fault(int number, siginfo_t *info, void *machine) {
    (void)machine;
    nsk_ram *ram = running;
    uintptr_t address = (uintptr_t)info->si_addr;
    bool ours = ram != NULL && address >= (uintptr_t)ram->mapping &&
                address < (uintptr_t)ram->mapping + ram->mapped;
    if (!ours) {
        signal(number, SIG_DFL); /* a fault of the program's own: let it happen again */
        return;
    }
    ram->fault = address;
    siglongjmp(ram->escape, 1);
}

bool nsk_ram_guard(nsk_ram *ram, void (*body)(void *context), void *context, nsk_error *error) {
    struct sigaction action;
    struct sigaction before[2];
    memset(&action, 0, sizeof action);
    action.sa_sigaction = on_fault;
    action.sa_flags = SA_SIGINFO | SA_NODEFER;
    sigaction(SIGSEGV, &action, &before[0]);
    sigaction(SIGBUS, &action, &before[1]);
    running = ram;
    bool good = sigsetjmp(ram->escape, 1) == 0;
    if (good) {
        body(context);
    }
    running = NULL;
    sigaction(SIGSEGV, &before[0], NULL);
    sigaction(SIGBUS, &before[1], NULL);
    if (good) {
        return true;
    }
    size_t at = (size_t)(ram->fault - (uintptr_t)ram->start);
    return nsk_fail(error,
                    "memory fault: byte %zu of a RAM of %zu bytes was touched, by buffers of %zu "
                    "bytes in all; 'netsuke budget' shows what needs how much",
                    at, ram->bytes, ram->taken);
}
