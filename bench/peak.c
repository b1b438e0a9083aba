#include "peak.h"

#include <omp.h>
#include <stdint.h>
#include <stdlib.h>

#include "device/arch.h"

enum { ROUNDS = 5, TURNS = 4000000, CHAINS = 10 /* more than an instruction's latency needs */ };

#if defined(__x86_64__)
#include <immintrin.h>

#include "device/x86-64/ways.h"

#define CHAIN(step)                                                                                \
    step(0);                                                                                       \
    step(1);                                                                                       \
    step(2);                                                                                       \
    step(3);                                                                                       \
    step(4);                                                                                       \
    step(5);                                                                                       \
    step(6);                                                                                       \
    step(7);                                                                                       \
    step(8);                                                                                       \
    step(9)

__attribute__((target("avx512f,avx512vnni"))) static void spin_vnni(void) {
    __m512i sum[CHAINS];
    __m512i a = _mm512_set1_epi8(1);
    for (int k = 0; k < CHAINS; k++) {
        sum[k] = _mm512_setzero_si512();
    }
    for (int i = 0; i < TURNS; i++) {
#define STEP(k) __asm__ volatile("vpdpbusd %1, %1, %0" : "+v"(sum[k]) : "v"(a))
        CHAIN(STEP);
#undef STEP
    }
}

/* As the kernels have it: bytes widened before; a product of pairs and a sum are two instructions.
 */
__attribute__((target("avx2"))) static void spin_avx2(void) {
    __m256i sum[CHAINS];
    __m256i a = _mm256_set1_epi16(1);
    __m256i product;
    for (int k = 0; k < CHAINS; k++) {
        sum[k] = _mm256_setzero_si256();
    }
    for (int i = 0; i < TURNS; i++) {
#define STEP(k)                                                                                    \
    __asm__ volatile("vpmaddwd %2, %2, %1\n\tvpaddd %1, %0, %0"                                    \
                     : "+x"(sum[k]), "=&x"(product)                                                \
                     : "x"(a))
        CHAIN(STEP);
#undef STEP
    }
}

static double rate(void (*spin)(void), double macs_each) {
    double best = 0.0;
    for (int round = 0; round < ROUNDS; round++) {
        const double start = omp_get_wtime();
#pragma omp parallel
        spin();
        const double seconds = omp_get_wtime() - start;
        const double all = macs_each * CHAINS * (double)TURNS * omp_get_max_threads();
        best = all / seconds > best ? all / seconds : best;
    }
    return best;
}

double bench_peak(const char **what) {
    *what = nsk_has_vnni() ? "AVX-512 VNNI" : nsk_has_avx2() ? "AVX2" : "no vectors";
    return nsk_has_vnni() ? rate(spin_vnni, 64.0) : nsk_has_avx2() ? rate(spin_avx2, 16.0) : 0.0;
}

#else

double bench_peak(const char **what) {
    *what = "not measured on this architecture";
    return 0.0;
}

#endif
