/* The product around the model, and its camera. */
#include "brief/product.h"

#include <stdio.h>

/* What the loop sees of the camera, pixels. */
static void seen(const nsk_brief *brief, int *width, int *height) {
    const nsk_product *p = &brief->product;
    const bool own = p->camera_width == 0;
    *width =
        (int)nsk_sensor_width(&p->sensor, (unsigned)(own ? brief->input.width : p->camera_width));
    *height = (int)nsk_sensor_height(&p->sensor,
                                     (unsigned)(own ? brief->input.height : p->camera_height));
}

/* The part lies in the sensor's picture, and the format has that size. */
static bool sensor_suits(const nsk_brief *brief, nsk_error *error) {
    const nsk_product *p = &brief->product;
    const int width = p->camera_width > 0 ? p->camera_width : brief->input.width;
    const int height = p->camera_width > 0 ? p->camera_height : brief->input.height;
    const nsk_model model = {.channels = brief->input.colour == NSK_COLOUR_GREY ? 1 : 3,
                             .colour = brief->input.colour};
    nsk_sensor_reader reader;
    if (width == 0 || nsk_sensor_set(&reader, &p->sensor, &model, (unsigned)width, (unsigned)height,
                                     NULL) == NSK_STATUS_OK) {
        return true;
    }
    const char *key =
        nsk_settings_text(brief->settings, "camera", "window") != NULL ? "window" : "format";
    return nsk_fail(
        error,
        "%s:%d: [camera]: the sensor's picture is %d x %d ([firmware] camera): a window "
        "lies within that; YUYV, UYVY and NV12 have even widths, NV12 even heights",
        brief->path, nsk_settings_line(brief->settings, "camera", key), width, height);
}

bool nsk_brief_camera_suits(const nsk_brief *brief, nsk_error *error) {
    const nsk_product *p = &brief->product;
    const nsk_input *input = &brief->input;
    int width;
    int height;
    seen(brief, &width, &height);
    if (!sensor_suits(brief, error)) {
        return false;
    }
    if ((p->camera_width == 0 && p->sensor.width == 0) ||
        (width >= input->width && height >= input->height)) {
        return true;
    }
    return nsk_fail(
        error,
        "%s:%d: camera: %dx%d is smaller than the model's frames of %dx%d, and pictures "
        "are never enlarged; take a camera or a model of another size",
        brief->path,
        nsk_settings_line(brief->settings, p->sensor.width > 0 ? "camera" : "firmware",
                          p->sensor.width > 0 ? "window" : "camera"),
        width, height, input->width, input->height);
}

bool nsk_product_read(const nsk_settings *settings, nsk_product *product, nsk_error *error) {
    static const char *const answers[] = {"no", "yes", NULL};
    const nsk_settings *s = settings;
    nsk_product *p = product;
    int looks = 0;
    int twice = 0;
    nsk_product_init(p);
    if (!nsk_settings_size(s, "firmware", "camera", &p->camera_width, &p->camera_height, error) ||
        !nsk_settings_choice(s, "firmware", "look", answers, &looks, error) ||
        !nsk_settings_choice(s, "firmware", "twice", answers, &twice, error) ||
        !nsk_settings_whole(s, "firmware", "check-every", 0, 65535, &p->check_every, error) ||
        !nsk_settings_number(s, "battery", "holds", NSK_UNIT_JOULES, 0, 1e12, &p->battery, error) ||
        !nsk_settings_number(s, "battery", "awake", NSK_UNIT_SHARE, 0, 1, &p->awake, error)) {
        return false;
    }
    p->check_frames = looks == 1;
    p->twice = twice == 1;
    return true;
}

bool nsk_product_hold_frames(const nsk_settings *settings, nsk_brief *brief, nsk_error *error) {
    nsk_streaming_wish *wish = &brief->recipe.streaming;
    if (brief->product.twice && *wish == NSK_STREAMING_ALWAYS) {
        return nsk_settings_fail(settings, "firmware", "twice", error,
                                 "a streamed model holds no frame to run a second time; say "
                                 "'streamed = never' under [schedule], or leave this out");
    }
    *wish = brief->product.twice ? NSK_STREAMING_NEVER : *wish;
    return true;
}

/* "96x96+32+12". */
static bool read_window(const nsk_settings *s, nsk_sensor *to, nsk_error *error) {
    const char *text = nsk_settings_text(s, "camera", "window");
    unsigned v[4];
    char rest;
    if (text == NULL) {
        return true;
    }
    if (sscanf(text, "%4ux%4u+%4u+%4u%c", &v[0], &v[1], &v[2], &v[3], &rest) != 4 || v[0] < 1 ||
        v[1] < 1) {
        return nsk_settings_fail(s, "camera", "window", error,
                                 "width x height + left + top in pixels is needed, as in "
                                 "'96x96+32+12'");
    }
    to->width = (uint16_t)v[0];
    to->height = (uint16_t)v[1];
    to->left = (uint16_t)v[2];
    to->top = (uint16_t)v[3];
    return true;
}

bool nsk_sensor_read(const nsk_settings *settings, nsk_brief *brief, nsk_error *error) {
    static const char *const formats[] = {"pixels", "rgb565", "rgb565-high-first",
                                          "yuyv",   "uyvy",   "nv12",
                                          "rggb",   "grbg",   "gbrg",
                                          "bggr",   "grey10", NULL};
    static const char *const levels[] = {"studio", "all", NULL};
    static const char *const answers[] = {"no", "yes", NULL};
    const nsk_settings *s = settings;
    nsk_sensor *to = &brief->product.sensor;
    int format = 0;
    int full = 0;
    int mirrored = 0;
    int upside_down = 0;
    if (!nsk_settings_choice(s, "camera", "format", formats, &format, error) ||
        !nsk_settings_choice(s, "camera", "levels", levels, &full, error) ||
        !nsk_settings_choice(s, "camera", "mirrored", answers, &mirrored, error) ||
        !nsk_settings_choice(s, "camera", "upside-down", answers, &upside_down, error) ||
        !read_window(s, to, error)) {
        return false;
    }
    to->format = (uint8_t)format;
    to->full = full == 1;
    to->mirrored = mirrored == 1;
    to->upside_down = upside_down == 1;
    brief->input.sensor = *to;
    brief->input.sensor_width = brief->product.camera_width;
    brief->input.sensor_height = brief->product.camera_height;
    return true;
}
