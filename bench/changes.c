/* changes MODEL.nsk [TRIALS]: how many random changes of a model's bytes nsk_intact would miss. In
 * each trial 2 to 16 bits change, within 2, 8, 64 or 512 words that follow each other, or anywhere.
 * The hash is made from the first word that changed to the last: it cannot meet what it was later,
 * as each step can be turned back. */
#include <glib.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "base/random.h"
#include "device/firmware/hash.h"
#include "netsuke/quantise.h"

enum { MOST_BITS = 16 };

/* The hash before each word, and behind the last. */
static uint32_t *states_of(const uint8_t *bytes, int words) {
    uint32_t *state = g_new(uint32_t, (gsize)words + 1);
    state[0] = 0;
    for (int i = 0; i < words; i++) {
        state[i + 1] = nsk_hash(state[i], bytes + 4 * i, 4);
    }
    return state;
}

/* Whether one change of `bytes`, which is undone, is missed. */
static bool is_missed(uint8_t *bytes, int words, const uint32_t *state, random_state *r) {
    static const int spans[] = {2, 8, 64, 512, 0};
    const int wanted = spans[random_below(r, (int)G_N_ELEMENTS(spans))];
    const int span = wanted > 0 && wanted < words ? wanted : words;
    const int from = random_below(r, words - span + 1);
    const int bits = 2 + random_below(r, MOST_BITS - 1);
    int at[MOST_BITS];
    int first = words;
    int last = 0;
    for (int b = 0; b < bits; b++) {
        bool again = true;
        while (again) { /* each another bit */
            at[b] = 32 * from + random_below(r, 32 * span);
            again = false;
            for (int a = 0; a < b; a++) {
                again = again || at[a] == at[b];
            }
        }
        first = MIN(first, at[b] / 32);
        last = MAX(last, at[b] / 32);
        bytes[at[b] / 8] ^= (uint8_t)(1U << at[b] % 8);
    }
    const uint32_t now = nsk_hash(state[first], bytes + 4 * first, 4 * (size_t)(last - first + 1));
    for (int b = 0; b < bits; b++) {
        bytes[at[b] / 8] ^= (uint8_t)(1U << at[b] % 8);
    }
    return now == state[last + 1];
}

int main(int argc, char **argv) {
    nsk_error error;
    const long trials = argc > 2 ? strtol(argv[2], NULL, 10) : 1000000;
    nsk_model_file *file = argc > 1 ? nsk_model_file_read(argv[1], &error) : NULL;
    if (file == NULL || trials < 1) {
        fprintf(stderr, "changes: %s\n",
                argc > 1 && file == NULL ? error.text : "give a model and trials");
        return EXIT_FAILURE;
    }
    const int words = (int)(file->size / 4);
    uint32_t *state = states_of(file->bytes, words);
    long missed = 0;
#pragma omp parallel reduction(+ : missed)
    {
        uint8_t *copy = g_memdup2(file->bytes, file->size);
#pragma omp for schedule(static)
        for (long k = 0; k < trials; k++) {
            random_state r = {(uint64_t)k};
            missed += is_missed(copy, words, state, &r);
        }
        g_free(copy);
    }
    printf("%ld of %ld random changes of %d words were missed; by chance %.3f would be\n", missed,
           trials, words, (double)trials / 4294967296.0);
    g_free(state);
    nsk_model_file_free(file);
    return EXIT_SUCCESS;
}
