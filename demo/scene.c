#include "scene.h"

#include <stdlib.h>
#include <string.h>

/* The scene is painted at OVER times the camera's resolution and averaged down by the lens. All
 * lengths are in pixels of a camera of SCENE_SIZE of them; the lens blurs in the camera's own. */
enum { OVER = 3 };

const char *const kiln_class_names[KILN_CLASSES] = {"belt", "sound",   "crack",
                                                    "chip", "pinhole", "drip"};

typedef struct colour {
    double red, green, blue;
} colour;

typedef struct point {
    double x, y;
} point;

enum { MOST_MARKS = 24 };

/* A soft-edged stroke between two points: a crack's piece, a pinhole, a drip's run, a scratch. */
typedef struct mark {
    point from, to;
    double radius, softness;
    double strength; /* how much of `paint` covers what is below */
    double rim;      /* light on the upper left, dark on the lower right: a raised or sunken form */
    colour paint;
} mark;

struct scene {
    random_state *random;
    uint32_t texture; /* seed of the textures */
    /* belt */
    colour rubber;
    double rib_step, rib_phase, rib_depth;
    /* tile */
    int has_tile;
    point centre;
    double half, corner, cosine, sine;
    colour glaze, clay;
    double mottle, mottle_scale, speckle, gloss;
    point gloss_at;
    /* chips: circles bitten out of the tile */
    int bites;
    point bite[4];
    double bite_radius[4];
    int marks;
    mark mark[MOST_MARKS];
    /* light */
    double level, slope_x, slope_y, vignette;
    double shadow_depth, shadow_place, shadow_soft;
    double shadow_cosine, shadow_sine;
    colour cast;
    double blur, noise;
    double hand; /* how far it reaches in; 0: none */
};

static colour mix(colour a, colour b, double t) {
    return (colour){a.red + (b.red - a.red) * t, a.green + (b.green - a.green) * t,
                    a.blue + (b.blue - a.blue) * t};
}

static colour scaled(colour a, double t) {
    return (colour){a.red * t, a.green * t, a.blue * t};
}

static double clamp01(double x) {
    return x < 0.0 ? 0.0 : x > 1.0 ? 1.0 : x;
}

static double smooth(double edge0, double edge1, double x) {
    double t = clamp01((x - edge0) / (edge1 - edge0));
    return t * t * (3.0 - 2.0 * t);
}

static double lattice(uint32_t seed, int x, int y) {
    uint32_t h = seed ^ ((uint32_t)x * 0x8da6b343U) ^ ((uint32_t)y * 0xd8163841U);
    h = (h ^ (h >> 15)) * 0x2c1b3c6dU;
    h = (h ^ (h >> 12)) * 0x297a2d39U;
    return (double)((h ^ (h >> 15)) & 0xffffU) / 65535.0;
}

/* Value noise in 0..1, one cell a unit. */
static double texture(uint32_t seed, double x, double y) {
    double fx = floor(x);
    double fy = floor(y);
    double u = smooth(0.0, 1.0, x - fx);
    double v = smooth(0.0, 1.0, y - fy);
    int ix = (int)fx;
    int iy = (int)fy;
    double top = lattice(seed, ix, iy) * (1.0 - u) + lattice(seed, ix + 1, iy) * u;
    double low = lattice(seed, ix, iy + 1) * (1.0 - u) + lattice(seed, ix + 1, iy + 1) * u;
    return top * (1.0 - v) + low * v;
}

/* ---- What is in the scene ---- */

static void choose_belt(scene *s) {
    random_state *r = s->random;
    double grey = random_between(r, 0.10, 0.30);
    s->rubber =
        (colour){grey * random_between(r, 0.9, 1.1), grey, grey * random_between(r, 0.9, 1.15)};
    s->rib_step = random_between(r, 3.5, 7.0);
    s->rib_phase = random_between(r, 0.0, 7.0);
    s->rib_depth = random_between(r, 0.05, 0.35);
}

static void choose_glaze(scene *s) {
    static const colour glazes[] = {
        {0.88, 0.87, 0.83}, {0.78, 0.83, 0.86}, {0.35, 0.52, 0.62}, {0.24, 0.42, 0.34},
        {0.66, 0.42, 0.28}, {0.80, 0.69, 0.45}, {0.52, 0.56, 0.60}, {0.60, 0.33, 0.36},
    };
    random_state *r = s->random;
    colour base = glazes[random_below(r, (int)(sizeof glazes / sizeof *glazes))];
    s->glaze = scaled(base, random_between(r, 0.85, 1.08));
    s->glaze.red *= random_between(r, 0.94, 1.06);
    s->glaze.blue *= random_between(r, 0.94, 1.06);
    s->clay = mix((colour){0.72, 0.45, 0.33}, (colour){0.85, 0.80, 0.72}, random_between(r, 0, 1));
    s->mottle = random_between(r, 0.0, 0.09);
    s->mottle_scale = random_between(r, 2.0, 9.0);
    s->speckle = random_chance(r, 0.3) ? random_between(r, 0.02, 0.08) : 0.0;
    s->gloss = random_between(r, 0.0, 0.28);
    s->gloss_at = (point){random_between(r, -14, 14), random_between(r, -14, 14)};
}

static void choose_tile(scene *s) {
    random_state *r = s->random;
    s->has_tile = 1;
    s->half = random_between(r, 16.0, 19.0);
    s->corner = random_between(r, 0.6, 2.2);
    s->centre = (point){SCENE_SIZE / 2.0 + random_between(r, -3.2, 3.2),
                        SCENE_SIZE / 2.0 + random_between(r, -3.2, 3.2)};
    double angle = random_normal(r) * 0.09;
    s->cosine = cos(angle);
    s->sine = sin(angle);
    choose_glaze(s);
}

static mark *add_mark(scene *s, point from, point to, double radius, colour paint,
                      double strength) {
    if (s->marks == MOST_MARKS) {
        return &s->mark[MOST_MARKS - 1];
    }
    mark *m = &s->mark[s->marks++];
    *m = (mark){from, to, radius, 0.45, strength, 0.0, paint};
    return m;
}

/* A walk of short strokes over the glaze, from the rim inwards or anywhere. */
static void add_crack(scene *s) {
    random_state *r = s->random;
    double heading = random_between(r, 0.0, 6.2832);
    point at = {random_between(r, -0.6, 0.6) * s->half, random_between(r, -0.6, 0.6) * s->half};
    if (random_chance(r, 0.6)) {
        at = (point){-cos(heading) * s->half * 0.98, -sin(heading) * s->half * 0.98};
        heading += random_between(r, -0.5, 0.5);
    }
    double faint = random_between(r, 0.0, 1.0);
    double strength = 0.60 + 0.38 * faint;
    double radius = random_between(r, 0.32, 0.68);
    colour dark = scaled(s->glaze, random_between(r, 0.10, 0.40));
    int pieces = 5 + random_below(r, 9);
    for (int i = 0; i < pieces; i++) {
        double length = random_between(r, 1.6, 3.6);
        point next = {at.x + cos(heading) * length, at.y + sin(heading) * length};
        if (fabs(next.x) > s->half || fabs(next.y) > s->half) {
            break;
        }
        add_mark(s, at, next, radius, dark, strength);
        if (random_chance(r, 0.12)) {
            double side = heading + (random_chance(r, 0.5) ? 0.9 : -0.9);
            point tip = {at.x + cos(side) * 3.0, at.y + sin(side) * 3.0};
            add_mark(s, at, tip, radius * 0.8, dark, strength * 0.9);
        }
        at = next;
        heading += random_normal(r) * 0.42;
    }
}

static void add_bite(scene *s, point at, double radius) {
    if (s->bites < 4) {
        s->bite[s->bites] = at;
        s->bite_radius[s->bites++] = radius;
    }
}

static void add_chip(scene *s) {
    random_state *r = s->random;
    double side = random_chance(r, 0.4) ? s->half : random_between(r, -0.85, 0.85) * s->half;
    double edge = random_chance(r, 0.5) ? s->half : -s->half;
    point at = random_chance(r, 0.5) ? (point){edge, side} : (point){side, edge};
    double radius = random_between(r, 1.9, 4.4);
    add_bite(s, at, radius);
    for (int i = random_below(r, 3); i > 0; i--) {
        point near = {at.x + random_between(r, -0.8, 0.8) * radius,
                      at.y + random_between(r, -0.8, 0.8) * radius};
        add_bite(s, near, radius * random_between(r, 0.4, 0.8));
    }
}

static void add_pinholes(scene *s) {
    random_state *r = s->random;
    double strength = random_between(r, 0.68, 1.0);
    point group = {random_between(r, -0.7, 0.7) * s->half, random_between(r, -0.7, 0.7) * s->half};
    for (int i = 1 + random_below(r, 4); i > 0; i--) {
        point at = {group.x + random_normal(r) * 3.5, group.y + random_normal(r) * 3.5};
        double limit = s->half - 2.0;
        at.x = fmin(fmax(at.x, -limit), limit);
        at.y = fmin(fmax(at.y, -limit), limit);
        double radius = random_between(r, 0.70, 1.30);
        colour pale = mix(s->glaze, (colour){1, 1, 1}, 0.35);
        add_mark(s, at, at, radius + 0.6, pale, strength * 0.45);
        add_mark(s, at, at, radius, scaled(s->clay, random_between(r, 0.12, 0.35)), strength);
    }
}

/* A run of glaze down the tile: a raised, slightly deeper-coloured band that ends in a bead. */
static void add_drip(scene *s) {
    random_state *r = s->random;
    double x = random_between(r, -0.8, 0.8) * s->half;
    double top = random_between(r, -0.95, 0.1) * s->half;
    double length = random_between(r, 7.0, 17.0);
    point from = {x, top};
    point to = {x + random_between(r, -1.2, 1.2), fmin(top + length, s->half - 1.0)};
    double radius = random_between(r, 1.1, 2.1);
    double strength = random_between(r, 0.45, 0.95);
    colour deep = scaled(s->glaze, random_between(r, 0.60, 0.85));
    mark *run = add_mark(s, from, to, radius, deep, strength);
    run->rim = random_between(r, 0.16, 0.40);
    run->softness = 0.9;
    mark *bead = add_mark(s, to, to, radius * random_between(r, 1.25, 1.8), deep, strength);
    bead->rim = run->rim * 1.1;
    bead->softness = 0.9;
}

/* What a sound tile may carry without being at fault: dust, a reflection, a faint scuff. */
static void add_distractions(scene *s) {
    random_state *r = s->random;
    double reach = s->has_tile ? s->half : SCENE_SIZE / 2.0;
    if (random_chance(r, 0.35)) {
        for (int i = 1 + random_below(r, 3); i > 0; i--) {
            point at = {random_between(r, -1, 1) * reach, random_between(r, -1, 1) * reach};
            colour dust = {0.85, 0.82, 0.78};
            add_mark(s, at, at, random_between(r, 0.25, 0.6), dust, random_between(r, 0.15, 0.5));
        }
    }
    if (random_chance(r, 0.22)) {
        point at = {random_between(r, -0.8, 0.8) * reach, random_between(r, -0.8, 0.8) * reach};
        double angle = random_between(r, 0.0, 6.2832);
        double length = random_between(r, 3.0, 9.0);
        point to = {at.x + cos(angle) * length, at.y + sin(angle) * length};
        colour pale = mix(s->glaze, (colour){1, 1, 1}, 0.6);
        add_mark(s, at, to, random_between(r, 0.2, 0.45), pale, random_between(r, 0.12, 0.4));
    }
}

static void choose_light(scene *s) {
    random_state *r = s->random;
    s->level = random_between(r, 0.62, 1.15);
    s->slope_x = random_normal(r) * 0.11;
    s->slope_y = random_normal(r) * 0.11;
    s->vignette = random_between(r, 0.0, 0.22);
    s->shadow_depth = random_chance(r, 0.35) ? random_between(r, 0.08, 0.42) : 0.0;
    s->shadow_place = random_between(r, -20.0, 20.0);
    double angle = random_between(r, 0.0, 6.2832);
    s->shadow_cosine = cos(angle);
    s->shadow_sine = sin(angle);
    s->shadow_soft = random_between(r, 1.0, 7.0);
    s->cast = (colour){random_between(r, 0.93, 1.07), 1.0, random_between(r, 0.91, 1.09)};
    s->blur = random_between(r, 0.15, 0.50);
    s->noise = random_between(r, 0.004, 0.015);
}

/* ---- A belt that runs: what stays from tile to tile, and what changes from frame to frame ---- */

/* One lamp, one belt, and a glaze that a whole batch has. */
static void settle(scene *s, const scene_batch *batch) {
    random_state r = {batch->seed};
    random_state *kept = s->random;
    s->random = &r;
    choose_belt(s);
    s->random = kept;
    if (s->has_tile && batch->fresh_glaze) {
        /* none of the colours that training has seen */
        s->glaze = (colour){0.16, 0.17, 0.20};
        s->gloss = 0.40;
        s->mottle = 0.05;
    }
}

static void look(scene *s, const scene_view *view) {
    s->centre.x += view->right;
    s->centre.y += view->down;
    s->rib_phase -= view->belt;
    s->level *= view->light;
    s->hand = view->hand;
}

/* A hand that reaches in from the right to `reach` units: a palm, four fingers, skin. */
static colour hand_over(double reach, double x, double y, colour below) {
    const colour skin = {0.80, 0.56, 0.44};
    double cover = 0.0;
    double tip = SCENE_SIZE - reach;
    for (int finger = 0; finger < 4; finger++) {
        double middle = 17.0 + 5.0 * finger;
        double end = tip + 2.5 * fabs(finger - 1.4);
        double far = hypot(fmax(end - x, 0.0), y - middle);
        cover = fmax(cover, 1.0 - smooth(1.8, 2.4, far));
    }
    double palm = hypot(fmax(tip + 13.0 - x, 0.0), 0.8 * fmax(fabs(y - 24.5) - 6.0, 0.0));
    cover = fmax(cover, 1.0 - smooth(3.4, 4.2, palm));
    double fold = 0.88 + 0.12 * cos((y - 14.5) * 6.2832 / 5.0);
    return mix(below, scaled(skin, fold), cover);
}

/* ---- Painting ---- */

static colour belt_at(const scene *s, double x, double y) {
    double rib = 0.5 + 0.5 * sin((y + s->rib_phase) * 6.2832 / s->rib_step);
    double grain = texture(s->texture, x * 1.3, y * 1.3) - 0.5;
    double wear = texture(s->texture + 1, x * 0.15, y * 0.15) - 0.5;
    return scaled(s->rubber, 1.0 + s->rib_depth * (rib - 0.5) + 0.25 * grain + 0.35 * wear);
}

/* Distance to the tile's rounded outline, negative inside. Source: the box distance field. */
static double tile_distance(const scene *s, double u, double v) {
    double dx = fabs(u) - s->half + s->corner;
    double dy = fabs(v) - s->half + s->corner;
    double outside = hypot(fmax(dx, 0.0), fmax(dy, 0.0));
    return outside + fmin(fmax(dx, dy), 0.0) - s->corner;
}

static colour glaze_at(const scene *s, double u, double v, double depth) {
    double mottle = texture(s->texture + 2, u / s->mottle_scale, v / s->mottle_scale) - 0.5;
    double fine = texture(s->texture + 3, u * 0.9, v * 0.9);
    double speckle = s->speckle * smooth(0.72, 0.92, fine);
    colour c = scaled(s->glaze, 1.0 + 2.0 * s->mottle * mottle - speckle);
    double bevel = 1.0 - smooth(0.0, 1.6, depth);
    c = scaled(c, 1.0 + bevel * (u + v < 0.0 ? 0.14 : -0.16));
    double far = hypot(u - s->gloss_at.x, v - s->gloss_at.y);
    return mix(c, (colour){1, 1, 1}, s->gloss * exp(-far * far / 60.0));
}

static colour mark_over(const mark *m, double u, double v, colour below) {
    double dx = m->to.x - m->from.x;
    double dy = m->to.y - m->from.y;
    double length2 = dx * dx + dy * dy;
    double t = length2 > 0.0 ? ((u - m->from.x) * dx + (v - m->from.y) * dy) / length2 : 0.0;
    t = clamp01(t);
    double ox = u - m->from.x - t * dx;
    double oy = v - m->from.y - t * dy;
    if (fmax(fabs(ox), fabs(oy)) >= m->radius + m->softness) {
        return below; /* so is what follows, at more work */
    }
    double far = hypot(ox, oy);
    double cover = 1.0 - smooth(m->radius - m->softness * 0.5, m->radius + m->softness, far);
    if (cover <= 0.0) {
        return below;
    }
    double light = m->rim * -(ox + oy) / (m->radius + 0.5);
    return scaled(mix(below, m->paint, m->strength * cover), 1.0 + light * cover);
}

static colour tile_over(const scene *s, double x, double y, colour below) {
    double dx = x - s->centre.x;
    double dy = y - s->centre.y;
    double u = dx * s->cosine + dy * s->sine;
    double v = -dx * s->sine + dy * s->cosine;
    double distance = tile_distance(s, u, v);
    double shade = 1.0 - 0.35 * (1.0 - smooth(0.0, 2.5, tile_distance(s, u - 0.9, v - 0.9)));
    below = scaled(below, shade);
    double inside = 1.0 - smooth(-0.15, 0.15, distance);
    if (inside <= 0.0) {
        return below;
    }
    colour c = glaze_at(s, u, v, -distance);
    for (int i = 0; i < s->marks; i++) {
        c = mark_over(&s->mark[i], u, v, c);
    }
    double ragged = s->bites > 0 ? 0.55 * (texture(s->texture + 5, u * 1.1, v * 1.1) - 0.5) : 0.0;
    double grit = s->bites > 0 ? 0.82 + 0.3 * texture(s->texture + 6, u * 1.7, v * 1.7) : 0.0;
    for (int i = 0; i < s->bites; i++) {
        double far = hypot(u - s->bite[i].x, v - s->bite[i].y) + ragged;
        double body = 1.0 - smooth(s->bite_radius[i] - 0.2, s->bite_radius[i] + 0.2, far);
        c = mix(c, scaled(s->clay, grit), body);
        double gone =
            1.0 - smooth(s->bite_radius[i] * 0.55 - 0.2, s->bite_radius[i] * 0.55 + 0.2, far);
        c = mix(c, scaled(below, 0.8), gone);
    }
    return mix(below, c, inside);
}

static double light_at(const scene *s, double x, double y) {
    double u = (x - SCENE_SIZE / 2.0) / (SCENE_SIZE / 2.0);
    double v = (y - SCENE_SIZE / 2.0) / (SCENE_SIZE / 2.0);
    double light = s->level * (1.0 + s->slope_x * u + s->slope_y * v);
    light *= 1.0 - s->vignette * 0.5 * (u * u + v * v);
    double along = (x - SCENE_SIZE / 2.0) * s->shadow_cosine +
                   (y - SCENE_SIZE / 2.0) * s->shadow_sine - s->shadow_place;
    return light * (1.0 - s->shadow_depth * smooth(-s->shadow_soft, s->shadow_soft, along));
}

static colour things_at(const scene *s, double x, double y) {
    colour c = belt_at(s, x, y);
    if (s->has_tile) {
        return tile_over(s, x, y, c);
    }
    for (int k = 0; k < s->marks; k++) {
        c = mark_over(&s->mark[k], x - SCENE_SIZE / 2.0, y - SCENE_SIZE / 2.0, c);
    }
    return c;
}

static colour scene_at(const scene *s, double x, double y) {
    colour c = things_at(s, x, y);
    return s->hand > 0.0 ? hand_over(s->hand, x, y, c) : c;
}

static void paint(const scene *s, int size, float *fine) {
    const int across = size * OVER;
    const double unit = (double)SCENE_SIZE / size;
    for (int j = 0; j < across; j++) {
        for (int i = 0; i < across; i++) {
            double x = (i + 0.5) / OVER * unit;
            double y = (j + 0.5) / OVER * unit;
            colour c = scene_at(s, x, y);
            double light = light_at(s, x, y);
            float *to = fine + 3 * (across * j + i);
            to[0] = (float)(c.red * s->cast.red * light);
            to[1] = (float)(c.green * s->cast.green * light);
            to[2] = (float)(c.blue * s->cast.blue * light);
        }
    }
}

/* ---- The camera ---- */

/* One axis of the lens: a Gaussian over the fine samples around each of `size` camera pixels'
 * centres. Steps are between samples, lines between rows or columns of them. */
static void lens_axis(const float *from, int from_line, float *to, int to_line, int step, int lines,
                      int size, double blur) {
    enum { REACH = 2 * OVER };
    double kernel[2 * REACH + OVER];
    double sum = 0.0;
    double sigma = sqrt(blur * blur + 0.12) * OVER;
    for (int k = 0; k < 2 * REACH + OVER; k++) {
        double far = k - (2 * REACH + OVER - 1) / 2.0;
        kernel[k] = exp(-far * far / (2.0 * sigma * sigma));
        sum += kernel[k];
    }
    for (int line = 0; line < lines; line++) {
        for (int i = 0; i < size; i++) {
            double total[3] = {0, 0, 0};
            for (int k = 0; k < 2 * REACH + OVER; k++) {
                int at = i * OVER - REACH + k;
                at = at < 0 ? 0 : at >= size * OVER ? size * OVER - 1 : at;
                for (int c = 0; c < 3; c++) {
                    total[c] += kernel[k] * from[line * from_line + at * step + c];
                }
            }
            for (int c = 0; c < 3; c++) {
                to[line * to_line + i * step + c] = (float)(total[c] / sum);
            }
        }
    }
}

static uint8_t sensor(double light, double noise, random_state *r) {
    double level = clamp01(light);
    level += random_normal(r) * noise * sqrt(0.25 + 0.75 * level);
    double encoded = pow(clamp01(level), 1.0 / 1.25);
    return (uint8_t)floor(encoded * 255.0 + 0.5);
}

static void expose(const scene *s, int size, const float *fine, uint8_t *rgb) {
    const int across = size * OVER;
    const int row = 3 * size;
    float *rows = malloc(sizeof *rows * (size_t)(across * row));
    float *pixels = malloc(sizeof *pixels * (size_t)(size * row));
    if (rows == NULL || pixels == NULL) {
        abort();
    }
    lens_axis(fine, 3 * across, rows, row, 3, across, size, s->blur);
    lens_axis(rows, 3, pixels, 3, row, size, size, s->blur);
    for (int i = 0; i < size * row; i++) {
        rgb[i] = sensor(pixels[i], s->noise, s->random);
    }
    free(rows);
    free(pixels);
}

static void add_fault(scene *s, kiln_class class) {
    static void (*const faults[KILN_CLASSES])(scene *) = {
        [CRACK] = add_crack, [CHIP] = add_chip, [PINHOLE] = add_pinholes, [DRIP] = add_drip};
    if (faults[class] != NULL) {
        faults[class](s);
    }
}

/* A tile with all that `faults` has a bit for besides. */
static scene *scene_with(kiln_class class, unsigned faults, const scene_batch *batch,
                         random_state *r) {
    scene *s = calloc(1, sizeof *s);
    if (s == NULL) {
        abort();
    }
    s->random = r;
    s->texture = (uint32_t)random_bits(r);
    choose_belt(s);
    if (class != BELT) {
        choose_tile(s);
    }
    if (batch != NULL) {
        settle(s, batch);
    }
    add_distractions(s);
    add_fault(s, class);
    for (int also = CRACK; also < KILN_CLASSES; also++) {
        if ((faults >> also & 1U) != 0) {
            add_fault(s, (kiln_class)also);
        }
    }
    choose_light(s);
    return s;
}

scene *scene_new(kiln_class class, const scene_batch *batch, random_state *r) {
    return scene_with(class, 0, batch, r);
}

void scene_free(scene *s) {
    free(s);
}

void scene_frame(const scene *s, const scene_view *view, int size, random_state *r, uint8_t *rgb) {
    scene seen = *s;
    float *fine = malloc(sizeof *fine * 3 * (size_t)(size * OVER * size * OVER));
    if (fine == NULL) {
        abort();
    }
    seen.random = r;
    if (view != NULL) {
        look(&seen, view);
    }
    paint(&seen, size, fine);
    expose(&seen, size, fine, rgb);
    free(fine);
}

void scene_draw(kiln_class class, unsigned faults, random_state *r, int size, uint8_t *rgb) {
    scene *s = scene_with(class, faults, NULL, r);
    scene_frame(s, NULL, size, r, rgb);
    scene_free(s);
}
