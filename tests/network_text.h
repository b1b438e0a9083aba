/* network_text: small networks written as text, and what comes of them. */
#ifndef NSK_TESTS_NETWORK_TEXT_H
#define NSK_TESTS_NETWORK_TEXT_H

#include "netsuke/compare.h"
#include "support.h"

/* A network as text: nodes parted by ';', each "Op input... > output... attribute...". An input
 * that is called by a letter and a shape is a constant: "w_8_3_3_3" holds noise that depends on its
 * letter alone, "k_1_1_0.5" (k to n) the number behind its shape,
 * "i_2_-1" the integers 2, -1. Its input is "x", 3 x 9 x 9. g_free. */
uint8_t *network_of_text(const char *text, size_t *size);

/* The same, quantised on noise pictures, and compared on them. `classes` as it has. */
typedef struct noisy {
    char *folder;
    nsk_network *network;
    nsk_images *images;
    nsk_model_file *file;
    nsk_comparison *comparison;
} noisy;

void noisy_load(noisy *n, const char *text, int classes);
void noisy_free(noisy *n);

#endif
