/* How sure shares of images are. */
#include <math.h>

#include <glib.h>

#include "netsuke/compare.h"

void nsk_paired_interval(double lost, double won, double images, double *low, double *high) {
    const double Z = 1.959963984540054; /* 97.5 % of the normal distribution */
    double a = (lost + 1.0) / (images + 2.0);
    double b = (won + 1.0) / (images + 2.0);
    double spread = Z * sqrt((a + b - (a - b) * (a - b)) / (images + 2.0));
    *low = fmax(a - b - spread, -1.0);
    *high = fmin(a - b + spread, 1.0);
}

double nsk_paired_chance(int lost, int won) {
    int differ = lost + won;
    double tail = 0.0;
    for (int k = 0; k <= MIN(lost, won); k++) {
        tail += exp(lgamma(differ + 1.0) - lgamma(k + 1.0) - lgamma(differ - k + 1.0) -
                    differ * log(2.0));
    }
    return fmin(2.0 * tail, 1.0);
}

void nsk_share_interval(int part, int whole, double *low, double *high) {
    const double z = 1.959963984540054; /* 95 %, two-sided */
    double n = whole;
    double share = n > 0.0 ? part / n : 0.0;
    double middle = (share + z * z / (2.0 * n)) / (1.0 + z * z / n);
    double half = z / (1.0 + z * z / n) * sqrt(share * (1.0 - share) / n + z * z / (4.0 * n * n));
    *low = n > 0.0 ? fmax(middle - half, 0.0) : 0.0;
    *high = n > 0.0 ? fmin(middle + half, 1.0) : 1.0;
}
