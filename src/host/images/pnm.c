/* PBM, PGM and PPM, plain and raw, of any depth up to 16 bits. */
#include "images/decoders.h"

typedef struct cursor {
    const uint8_t *at, *end;
    bool cut;
} cursor;

static bool is_blank(uint8_t c) {
    return c == ' ' || (c >= '\t' && c <= '\r');
}

static void skip_blanks(cursor *c) {
    while (c->at < c->end && (is_blank(*c->at) || *c->at == '#')) {
        if (*c->at == '#') {
            while (c->at < c->end && *c->at != '\n') {
                c->at++;
            }
        } else {
            c->at++;
        }
    }
}

static unsigned number(cursor *c) {
    unsigned value = 0;
    skip_blanks(c);
    c->cut = c->cut || c->at == c->end || *c->at < '0' || *c->at > '9';
    while (c->at < c->end && *c->at >= '0' && *c->at <= '9') {
        value = value < 100000 ? 10 * value + (unsigned)(*c->at - '0') : value;
        c->at++;
    }
    return value;
}

/* A plain bitmap's digits need no blanks between them. */
static unsigned digit(cursor *c) {
    skip_blanks(c);
    c->cut = c->cut || c->at == c->end || (*c->at != '0' && *c->at != '1');
    return c->cut ? 0 : (unsigned)(*c->at++ - '0');
}

static unsigned raw(cursor *c, unsigned width) {
    unsigned value = 0;
    c->cut = c->cut || (size_t)(c->end - c->at) < width;
    for (; width > 0 && !c->cut; width--) {
        value = value << 8 | *c->at++;
    }
    return value;
}

/* Bits run from the top of each byte; rows start on a byte. */
static void read_bits(cursor *c, const nsk_picture *picture, bool plain) {
    uint8_t *to = picture->rgb;
    for (int y = 0; y < picture->height && !c->cut; y++) {
        unsigned byte = 0;
        for (int x = 0; x < picture->width; x++, to += 3) {
            byte = !plain && x % 8 == 0 ? raw(c, 1) : byte;
            bool black = plain ? digit(c) == 1 : (byte >> (7 - x % 8) & 1U) == 1;
            to[0] = to[1] = to[2] = black ? 0 : 255;
        }
    }
}

static bool read_samples(cursor *c, const nsk_picture *picture, bool plain, unsigned most) {
    int samples = picture->colour ? 3 : 1;
    size_t pixels = (size_t)picture->width * (size_t)picture->height;
    for (size_t i = 0; i < pixels && !c->cut; i++) {
        uint8_t *to = picture->rgb + 3 * i;
        for (int k = 0; k < samples; k++) {
            unsigned value = plain ? number(c) : raw(c, most > 255 ? 2 : 1);
            if (value > most) {
                return false;
            }
            to[k] = (uint8_t)((255 * value + most / 2) / most);
        }
        if (samples == 1) {
            to[1] = to[2] = to[0];
        }
    }
    return true;
}

bool nsk_decode_pnm(const uint8_t *bytes, size_t size, nsk_picture *picture, nsk_error *error) {
    cursor c = {bytes + 2, bytes + size, false};
    int kind = bytes[1] - '0'; /* 1 to 3: plain bits, grey, colour; 4 to 6: raw */
    bool plain = kind <= 3;
    bool bits = kind % 3 == 1;
    unsigned width = number(&c);
    unsigned height = number(&c);
    unsigned most = bits ? 1 : number(&c);
    if (!plain) {
        raw(&c, 1); /* the one blank behind the header */
    }
    if (c.cut || most < 1 || most > 65535) {
        return nsk_picture_refuse(picture, "PNM", "its header is not one", error);
    }
    if (!nsk_picture_start(picture, width, height, error)) {
        return false;
    }
    picture->colour = kind % 3 == 0;
    bool in_range = true;
    if (bits) {
        read_bits(&c, picture, plain);
    } else {
        in_range = read_samples(&c, picture, plain, most);
    }
    if (!in_range) {
        return nsk_picture_refuse(picture, "PNM", "a sample is larger than its header allows",
                                  error);
    }
    return !c.cut || nsk_picture_refuse(picture, "PNM", "the file is cut short", error);
}
