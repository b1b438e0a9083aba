/* small: what runs once a frame, once a layer, or at the start is made for size, whatever the rest
 * is made for. Included first, by files without a loop that matters. */
#ifndef NSK_DEVICE_SMALL_H
#define NSK_DEVICE_SMALL_H

/* All is made for size. */
#if defined(__OPTIMIZE_SIZE__)
#define NSK_SMALLEST 1
#endif

#if defined(__GNUC__) && !defined(__clang__) && defined(__OPTIMIZE__)
#pragma GCC optimize("Os")
#endif

#endif
