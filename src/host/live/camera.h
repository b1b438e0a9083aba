/* live/camera: where pictures come from: a kind each, behind one interface. */
#ifndef NSK_LIVE_CAMERA_H
#define NSK_LIVE_CAMERA_H

#include "images/picture.h"
#include "netsuke/live.h"

/* A picture as it came; the camera's own until the next one. */
typedef struct nsk_shot {
    nsk_picture picture;
    const char *name;
    int truth;
    long number, dropped;
    /* of a board that has looked at it already, else NULL */
    const int32_t *scores;
    nsk_look look;
} nsk_shot;

typedef struct nsk_camera_kind {
    nsk_live_state (*next)(void *of, nsk_shot *shot, nsk_error *error);
    void (*close)(void *of);
    void (*stop)(void *of); /* by another thread: `next` waits no longer; NULL: it never does */
} nsk_camera_kind;

typedef struct nsk_camera {
    const nsk_camera_kind *kind; /* NULL: closed */
    void *of;
    double rate;    /* pictures a second; 0: not said */
    int count;      /* in all; 0: not known */
    bool sensed;    /* they have gone through the sensor already */
    bool same_size; /* for certain: rows can be held against those of the picture before */
} nsk_camera;

/* Each opens one; false where it cannot. */
bool nsk_camera_y4m(nsk_camera *camera, const char *path, nsk_error *error);
bool nsk_camera_folder(nsk_camera *camera, const nsk_live_setup *setup, nsk_error *error);
bool nsk_camera_scene(nsk_camera *camera, const nsk_live_setup *setup, nsk_error *error);
bool nsk_camera_board(nsk_camera *camera, const nsk_live_setup *setup, nsk_error *error);

#endif
