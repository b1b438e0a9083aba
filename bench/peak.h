/* peak: multiply-accumulates of bytes that this processor's vectors can do. */
#ifndef NSK_BENCH_PEAK_H
#define NSK_BENCH_PEAK_H

/* A second, on all threads, with everything in registers; 0 where no way is known. `what`: the
 * instructions. */
double bench_peak(const char **what);

#endif
