/* arch: which core the runtime is compiled for, and so which folder's kernels stand in for the
 * portable ones. Every set computes the same bits; docs/arithmetic.md is what they compute. */
#ifndef NSK_DEVICE_ARCH_H
#define NSK_DEVICE_ARCH_H

/* -DNSK_PORTABLE leaves all of them out: the plain C everywhere. A host's own, which is not handed
 * over, is asked for by -DNSK_HOST_VECTORS. */
#if defined(NSK_PORTABLE)
#define NSK_ARCH_PORTABLE 1
#elif defined(__ARM_FEATURE_MVE)
#define NSK_ARCH_ARM_MVE 1
#elif defined(__ARM_FEATURE_DSP) && __ARM_FEATURE_DSP && __ARM_ARCH_PROFILE == 'M'
#define NSK_ARCH_ARM_DSP 1
#elif defined(__ARM_ARCH_6M__) || defined(__ARM_ARCH_8M_BASE__)
#define NSK_ARCH_ARM_SMALL 1
#elif defined(NSK_RISCV_VECTOR) || defined(__riscv_vector)
#define NSK_ARCH_RISCV_VECTOR                                                                      \
    1 /* Zve32x or more; -DNSK_RISCV_VECTOR where compilers know no vectors */
#elif defined(NSK_HOST_VECTORS) && defined(__x86_64__) && defined(__GNUC__)
#define NSK_ARCH_X86_64 1 /* chosen when run: the processor may have no vectors of 256 bits */
#elif defined(NSK_HOST_VECTORS) && defined(__AARCH64EL__) && defined(__GNUC__)
#define NSK_ARCH_AARCH64 1
#else
#define NSK_ARCH_PORTABLE 1
#endif

/* Cores with vectors, which have kernels of nearly everything. */
#if defined(NSK_ARCH_ARM_MVE) || defined(NSK_ARCH_RISCV_VECTOR)
#define NSK_HAS_VECTORS 1
#endif

/* Making levels of a frame's bytes. */
#if defined(NSK_HAS_VECTORS) || defined(NSK_ARCH_X86_64)
#define NSK_OWN_FEED 1
#endif

/* A portable kernel's name where the core has its own, which may still fall back on it. */
#if defined(NSK_ARCH_PORTABLE)
#define NSK_PLAIN(name) name
#else
#define NSK_PLAIN(name) name##_plain
#endif

/* The same of kernels that only a core with vectors has its own of. */
#if defined(NSK_HAS_VECTORS)
#define NSK_PLAIN_BESIDE_VECTORS(name) name##_plain
#else
#define NSK_PLAIN_BESIDE_VECTORS(name) name
#endif

/* Which portable product there is: for a processor of sixteen registers, and for an analyser, which
 * follows plain sums; or of more. Cores with the DSP extension, small ones and
 * those with vectors of RISC-V need none. */
#if !defined(NSK_ARCH_ARM_DSP) && !defined(NSK_ARCH_ARM_SMALL) && !defined(NSK_ARCH_RISCV_VECTOR)
#if defined(__arm__) || defined(__FRAMAC__)
#define NSK_PLAIN_PAIRS 1
#else
#define NSK_PLAIN_HALVES 1
#endif
#endif

/* Which depthwise convolution stands before the plain one: a core's own, or the direct one, which
 * is portable. With -Os none does, vectors aside: that is up to two kilobytes smaller. */
#if defined(NSK_ARCH_X86_64) || defined(NSK_ARCH_AARCH64) ||                                       \
    (defined(NSK_ARCH_ARM_SMALL) && !defined(__OPTIMIZE_SIZE__))
#define NSK_OWN_DEPTHWISE    1 /* before the direct one, by another name */
#define NSK_DIRECT_DEPTHWISE nsk_depthwise_run_direct
#elif defined(NSK_HAS_VECTORS) || (defined(NSK_ARCH_ARM_DSP) && !defined(__OPTIMIZE_SIZE__))
#define NSK_OWN_DEPTHWISE 1
#elif !defined(NSK_ARCH_ARM_DSP) && !defined(__OPTIMIZE_SIZE__)
#define NSK_OWN_DEPTHWISE    1
#define NSK_DIRECT_DEPTHWISE nsk_depthwise_run
#endif

/* Weights in blocks of sixteen outputs (blocked.h) are read by builds for vectors of RISC-V,
 * quickly, and by portable ones. The others refuse a file that has any, as of another version. */
#if defined(NSK_ARCH_RISCV_VECTOR) || defined(NSK_ARCH_PORTABLE) || defined(NSK_ARCH_X86_64) ||    \
    defined(NSK_ARCH_AARCH64)
#define NSK_READS_BLOCKS 1
#endif

/* Words may be loaded from any address, and are where that is quicker than it is large. */
#if (defined(__ARM_FEATURE_UNALIGNED) && !defined(__OPTIMIZE_SIZE__)) ||                           \
    defined(NSK_ARCH_X86_64) || defined(NSK_ARCH_AARCH64)
#define NSK_WORDS_ANYWHERE 1
#endif

/* Windows are gathered by rows, several at once, where that is quicker than it is large. */
#if !defined(__OPTIMIZE_SIZE__) || defined(NSK_HAS_VECTORS)
#define NSK_GATHERS_ROWS 1
#endif

/* On hosts, bytes of stack for gathered windows: many at a time; else the workspace's scratch. */
#if defined(NSK_ARCH_X86_64) || defined(NSK_ARCH_AARCH64)
#define NSK_STACK_ROOM 32768
#endif

#endif
