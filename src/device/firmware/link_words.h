/* link_words: the numbers in a link's messages, for both ends; docs/link.md says what they mean. */
#ifndef NSK_FIRMWARE_LINK_WORDS_H
#define NSK_FIRMWARE_LINK_WORDS_H

enum nsk_link_version { NSK_LINK_VERSION = 1 };

/* What is asked for. */
typedef enum nsk_link_what {
    NSK_LINK_WHO = 1, /* is there, and what can it do? */
    NSK_LINK_ROWS,    /* of a frame; with the last one it is run */
    NSK_LINK_SCORES,  /* of that frame */
    NSK_LINK_LAYERS,  /* what each of them took */
    NSK_LINK_MODEL,   /* bytes of a model, for the slot that does not start */
    NSK_LINK_TRY,     /* it runs from now on, until the board begins anew */
    NSK_LINK_KEEP,    /* it is the one that starts */
    NSK_LINK_BACK,    /* the one that starts runs again */
    NSK_LINK_RULE,    /* another rule for the camera's pictures */
    NSK_LINK_LOOK,    /* a picture of the camera: run, and decided on */
    NSK_LINK_PICTURE, /* bytes of that picture */
    NSK_LINK_WHATS    /* one past the last */
} nsk_link_what;

/* How that went. */
typedef enum nsk_link_answer {
    NSK_LINK_DONE,
    NSK_LINK_NOT_KNOWN, /* no such request */
    NSK_LINK_UNFIT,     /* a number or a length in it is impossible */
    NSK_LINK_NOT_THERE, /* that frame has not been run, or another since; of a model, the same */
    NSK_LINK_LACKS,     /* this build lacks a kind of layer that the model has */
    NSK_LINK_NO_ROOM,   /* the model is larger than a slot, or needs more memory */
    NSK_LINK_FLASH,     /* it would not be erased or written */
    NSK_LINK_UNSOUND    /* what was written is no sound model */
} nsk_link_answer;

/* Keys of the messages' maps; those of requests stand below NSK_WIRE_FIELDS. */
typedef enum nsk_link_key {
    NSK_KEY_WHAT = 0,
    NSK_KEY_NUMBER = 1, /* of a request, and of the answer to it */
    NSK_KEY_ANSWER = 2,
    NSK_KEY_FRAME = 3,
    NSK_KEY_ROW = 4,
    NSK_KEY_DATA = 5, /* pixels, a model's bytes, a rule */
    NSK_KEY_SUMS = 6,
    NSK_KEY_FROM = 7,
    NSK_KEY_MOST = 8,
    NSK_KEY_SIZE = 9, /* of a model: bytes, checksum, kinds of layer, memory */
    NSK_KEY_SUM = 10,
    NSK_KEY_NEEDS = 11,
    NSK_KEY_ROOM = 12,
    NSK_KEY_SCORES = 16,
    NSK_KEY_LAYERS = 17,
    NSK_KEY_VERSION = 18,
    NSK_KEY_CORE = 19,
    NSK_KEY_CLOCK = 20,
    NSK_KEY_TICK = 21,
    NSK_KEY_KINDS = 22,
    NSK_KEY_MEMORY = 23,
    NSK_KEY_LONGEST = 24,
    NSK_KEY_MEASURES_STACK = 25,
    NSK_KEY_CHECKSUM = 26,
    NSK_KEY_MODEL_BYTES = 27,
    NSK_KEY_WORKSPACE = 28,
    NSK_KEY_PREPARE = 29,
    NSK_KEY_SLOT_BYTES = 30,
    NSK_KEY_STARTS = 31,
    NSK_KEY_RUNS = 32,
    NSK_KEY_LINK_MEMORY = 33,
    NSK_KEY_CAMERA_WIDTH = 34,
    NSK_KEY_CAMERA_HEIGHT = 35,
    NSK_KEY_KEEPS_PICTURE = 36,
    NSK_KEY_CAME = 37,
    NSK_KEY_LINE = 38,
    NSK_KEY_DECIDED = 39,
    NSK_KEY_STANDING = 40,
    NSK_KEY_TICKS = 41
} nsk_link_key;

#endif
