/* frame-bytes PICTURE: a 48 x 48 picture as the camera's raw RGB bytes on standard output. */
#include <stdio.h>

#include "netsuke/images.h"

int main(int argc, char **argv) {
    const nsk_input input = {.width = 48, .height = 48, .deviation = {1, 1, 1}, .top = 1};
    uint8_t frame[48 * 48 * 3];
    nsk_error error;
    if (argc != 2 || !nsk_picture_frame(argv[1], &input, frame, &error)) {
        return 2;
    }
    return fwrite(frame, sizeof frame, 1, stdout) == 1 ? 0 : 2;
}
