#include "analysis/neighbours.h"

#include <glib.h>
#include <math.h>
#include <stdbool.h>

/* Steps, and those of them in which neighbours pull harder so that groups form. */
enum { STEPS = 500, GATHERING = 120, SEARCHES = 50 };
static const double PULL = 12.0;
static const double EFFECTIVE = 30.0;        /* neighbours */
static const double START = 1e-2;            /* deviation of the start, and no more of its own */
static const double CARRIED[2] = {0.5, 0.8}; /* of a step into the next: gathering, then */

typedef struct map {
    int points;
    float *chance; /* [points][points]: of being neighbours, all adding up to 1 */
    double *plane, *step, *gain, *force;
    double *near; /* by point: the sum of its nearness to all others */
} map;

static double squared_distance(const double *a, const double *b, int numbers) {
    double sum = 0.0;
    for (int k = 0; k < numbers; k++) {
        sum += (a[k] - b[k]) * (a[k] - b[k]);
    }
    return sum;
}

/* Chances fall with the distance like a normal density; its width is searched for at which their
 * entropy is that of so many equal neighbours. */
static void find_row(const double *distance, int points, int own, double wanted, float *chance) {
    double low = 0.0;
    double high = INFINITY;
    double sharp = 1.0;
    double nearest = INFINITY;
    for (int i = 0; i < points; i++) {
        nearest = i != own ? fmin(nearest, distance[i]) : nearest;
    }
    for (int n = 0; n < SEARCHES; n++) {
        double sum = 1e-300; /* more than nothing */
        double weighed = 0.0;
        for (int i = 0; i < points; i++) {
            double part = i == own ? 0.0 : exp(-(distance[i] - nearest) * sharp);
            chance[i] = (float)part;
            sum += part;
            weighed += part * (distance[i] - nearest);
        }
        double entropy = log(sum) + sharp * weighed / sum;
        for (int i = 0; i < points; i++) {
            chance[i] = (float)((double)chance[i] / sum);
        }
        if (entropy > wanted) {
            low = sharp;
            sharp = isinf(high) ? sharp * 2.0 : (low + high) / 2.0;
        } else {
            high = sharp;
            sharp = (low + high) / 2.0;
        }
    }
}

static void find_chances(const map *m, const double *x, int numbers) {
    size_t n = (size_t)m->points;
    double wanted = log(fmax(fmin(EFFECTIVE, (m->points - 1) / 3.0), 1.0));
#pragma omp parallel
    {
        double *distance = g_new0(double, n);
#pragma omp for schedule(static)
        for (int i = 0; i < m->points; i++) {
            for (size_t k = 0; k < n; k++) {
                distance[k] = squared_distance(x + (size_t)i * (size_t)numbers,
                                               x + k * (size_t)numbers, numbers);
            }
            find_row(distance, m->points, i, wanted, m->chance + (size_t)i * n);
        }
        g_free(distance);
    }
    for (size_t i = 0; i < n; i++) { /* the same both ways */
        for (size_t k = 0; k < i; k++) {
            float both = (m->chance[i * n + k] + m->chance[k * n + i]) / (2.0F * (float)n);
            m->chance[i * n + k] = m->chance[k * n + i] = both;
        }
    }
}

/* Neighbours pull, everything pushes; the pushes still lack their common divisor. */
static void find_forces(const map *m, double pull) {
    double all = 0.0;
#pragma omp parallel for schedule(static)
    for (int i = 0; i < m->points; i++) {
        double sum = 0.0;
        for (int k = 0; k < m->points; k++) {
            sum += i == k ? 0.0
                          : 1.0 / (1.0 + squared_distance(m->plane + 2 * i, m->plane + 2 * k, 2));
        }
        m->near[i] = sum;
    }
    for (int i = 0; i < m->points; i++) {
        all += m->near[i];
    }
#pragma omp parallel for schedule(static)
    for (int i = 0; i < m->points; i++) {
        const float *chance = m->chance + (size_t)i * (size_t)m->points;
        double force[2] = {0.0, 0.0};
        for (int k = 0; k < m->points; k++) {
            double dx = m->plane[2 * i] - m->plane[2 * k];
            double dy = m->plane[2 * i + 1] - m->plane[2 * k + 1];
            double near = 1.0 / (1.0 + dx * dx + dy * dy);
            double by = (pull * (double)chance[k] - near / all) * near;
            force[0] += by * dx;
            force[1] += by * dy;
        }
        m->force[2 * i] = 4.0 * force[0];
        m->force[2 * i + 1] = 4.0 * force[1];
    }
}

/* A step against the force, larger where it keeps its direction (R. A. Jacobs, Neural Networks 1,
 * 1988). */
static void move(const map *m, double rate, double carried) {
    for (int i = 0; i < 2 * m->points; i++) {
        bool turned = m->force[i] * m->step[i] > 0.0;
        m->gain[i] = fmax(turned ? m->gain[i] * 0.8 : m->gain[i] + 0.2, 0.01);
        m->step[i] = carried * m->step[i] - rate * m->gain[i] * m->force[i];
        m->plane[i] += m->step[i];
    }
}

/* The middle at the origin, and a deviation of START along the first axis. */
static void settle_start(const map *m) {
    double mean[2] = {0.0, 0.0};
    double spread = 0.0;
    for (int i = 0; i < 2 * m->points; i++) {
        mean[i % 2] += m->plane[i] / m->points;
    }
    for (int i = 0; i < 2 * m->points; i++) {
        m->plane[i] -= mean[i % 2];
        spread += i % 2 == 0 ? m->plane[i] * m->plane[i] / m->points : 0.0;
    }
    for (int i = 0; i < 2 * m->points; i++) {
        m->plane[i] *= START / fmax(sqrt(spread), 1e-12);
    }
}

void nsk_map_neighbours(const double *x, int points, int numbers, double *plane) {
    size_t n = (size_t)points;
    map m = {.points = points, .plane = plane};
    m.chance = g_new0(float, n *n);
    m.step = g_new0(double, 2 * n);
    m.force = g_new0(double, 2 * n);
    m.near = g_new0(double, n);
    m.gain = g_new0(double, 2 * n);
    for (size_t i = 0; i < 2 * n; i++) {
        m.gain[i] = 1.0;
    }
    find_chances(&m, x, numbers);
    settle_start(&m);
    double rate = fmax(points / PULL, 20.0);
    for (int step = 0; step < STEPS; step++) {
        bool gathering = step < GATHERING;
        find_forces(&m, gathering ? PULL : 1.0);
        move(&m, rate, CARRIED[gathering ? 0 : 1]);
    }
    g_free(m.chance);
    g_free(m.step);
    g_free(m.force);
    g_free(m.near);
    g_free(m.gain);
}
