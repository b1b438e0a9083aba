/* sim/ram: memory of exactly a board's size. Touching a byte behind its end is caught. */
#ifndef NSK_PORTS_SIM_RAM_H
#define NSK_PORTS_SIM_RAM_H

#include "base/base.h"

typedef struct nsk_ram nsk_ram;

nsk_ram *nsk_ram_new(size_t bytes, nsk_error *error);
void nsk_ram_free(nsk_ram *ram);

/* Hands out the next `bytes`, aligned to four. It does not look whether they are there, no more
 * than a linker script without an assertion would: using them tells. */
void *nsk_ram_take(nsk_ram *ram, size_t bytes);

/* What a failing supply leaves: noise, and nothing handed out. */
void nsk_ram_lose(nsk_ram *ram, unsigned seed);

/* Runs `body`. False and an error where it touched memory outside; the body is then left where it
 * stood, so what it has allocated elsewhere must be reachable from `context`. */
bool nsk_ram_guard(nsk_ram *ram, void (*body)(void *context), void *context, nsk_error *error);

#endif
