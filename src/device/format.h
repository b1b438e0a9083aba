/* format: where everything stands in a model file; docs/model-file.md is the text to this. Numbers
 * are little-endian on every machine. */
#ifndef NSK_DEVICE_FORMAT_H
#define NSK_DEVICE_FORMAT_H

#include <stdint.h>

#define NSK_MAGIC           UINT32_C(0x6b75736e) /* "nsuk" */
#define NSK_VERSION         11U
#define NSK_VERSION_ORDERED 12U /* the same, but for weights in a core's own order: in pairs */
#define NSK_VERSION_BLOCKED 13U /* or in blocks */

enum nsk_header_field {
    NSK_H_MAGIC = 0,        /* u32 */
    NSK_H_VERSION = 4,      /* u16 */
    NSK_H_HEADER_BYTES = 6, /* u16 */
    NSK_H_SIZE = 8,         /* u32: of the file */
    NSK_H_CRC = 12,         /* u32: of all bytes but these four */
    NSK_H_WORKSPACE = 16,   /* u32: bytes */
    NSK_H_LAYERS = 20,      /* u16: count */
    NSK_H_TENSORS = 22,     /* u16: count */
    NSK_H_CLASSES = 24,     /* u16: count */
    NSK_H_INPUT = 26,       /* u16: tensor */
    NSK_H_OUTPUT = 28,      /* u16: tensor */
    NSK_H_WIDTH = 30,       /* u16: of a frame */
    NSK_H_HEIGHT = 32,      /* u16: of a frame */
    NSK_H_CHANNELS = 34,    /* u8: of a frame, 1 or 3 */
    NSK_H_COLOUR = 35,      /* u8: nsk_colour */
    NSK_H_FIT = 36,         /* u8: nsk_fit */
    NSK_H_TABLES = 37,      /* u8: preparation tables, 1 or as many as channels; 0: lines */
    NSK_H_RESAMPLE = 38,    /* u8: nsk_resample */
    NSK_H_STREAMED = 39,    /* u8: layers that run while the frame comes in, from the first */
    NSK_H_TENSORS_AT = 40,  /* u32: offset of the tensor records */
    NSK_H_LAYERS_AT = 44,   /* u32: offset of the layer records */
    NSK_H_PREPARE_AT = 48,  /* u32: offset of tables of 256 int8, or of a line for each channel */
    NSK_H_LABELS_AT = 52,   /* u32: offset of one u32 a class, the offset of its name */
    NSK_H_FACTS_AT = 56,    /* u32: offset of one u32 a nsk_fact, the offset of its text */
    NSK_H_LEAST = 60,       /* u32: lower bound of the workspace, a fact for people */
    NSK_H_BAND = 64,        /* u16: rows of the frame that make a step of them */
    NSK_H_RESERVED = 66,    /* u16: 0 */
    NSK_HEADER_BYTES = 68
};

enum nsk_tensor_field {
    NSK_T_PLACE = 0,    /* u32: bytes into the workspace; of a slice: its first channel */
    NSK_T_HEIGHT = 4,   /* u16 */
    NSK_T_WIDTH = 6,    /* u16 */
    NSK_T_CHANNELS = 8, /* u16 */
    NSK_T_ZERO = 10,    /* i8 */
    NSK_T_ROWS = 11,    /* u8: rows that it holds at a time; 0: all; or one of those below */
    NSK_T_SCALE = 12,   /* u32: the bits of a binary32; of a slice: the tensor that it is part of */
    NSK_TENSOR_BYTES = 16
};

/* What stands in the place of rows. Fine elements are int16, whose levels have 256 parts: NSK_FINE
 * is added to the rows. A slice is some of the channels of another tensor of int8, which is none;
 * wide elements are int16 or int32, not int8, of a tensor that holds all of its rows. */
enum nsk_rows_said {
    NSK_MOST_ROWS = 124,
    NSK_FINE = 128,
    NSK_WIDE_16 = 253, /* bytes of an element: 2 to the power of the lowest two bits */
    NSK_WIDE_32 = 254,
    NSK_SLICE = 255
};

enum nsk_layer_field {
    NSK_L_KIND = 0,            /* u8: nsk_kind */
    NSK_L_FLAGS = 1,           /* u8: NSK_FLAG_... */
    NSK_L_INPUT = 2,           /* u16: tensor */
    NSK_L_SECOND = 4,          /* u16: tensor, or NSK_NO_TENSOR */
    NSK_L_OUTPUT = 6,          /* u16: tensor */
    NSK_L_KERNEL_HEIGHT = 8,   /* u8 */
    NSK_L_KERNEL_WIDTH = 9,    /* u8 */
    NSK_L_STRIDE_DOWN = 10,    /* u8 */
    NSK_L_STRIDE_ACROSS = 11,  /* u8 */
    NSK_L_DILATE_DOWN = 12,    /* u8 */
    NSK_L_DILATE_ACROSS = 13,  /* u8 */
    NSK_L_PAD_TOP = 14,        /* u8 */
    NSK_L_PAD_LEFT = 15,       /* u8 */
    NSK_L_LOW = 16,            /* i8: the output's clamp */
    NSK_L_HIGH = 17,           /* i8 */
    NSK_L_COUNT = 18,          /* u16: conv, normalise: groups; move: loops */
    NSK_L_WEIGHTS_AT = 20,     /* u32: offset */
    NSK_L_SHIFTS_AT = 20,      /* u32: of layers with multipliers: offset of u8 */
    NSK_L_REQUANTISE_AT = 24,  /* u32: offset of int32, one an output channel */
    NSK_L_MULTIPLIERS_AT = 28, /* u32: offset of int32 */
    NSK_L_SCRATCH_AT = 28,     /* u32: of a convolution: place of its scratch in the workspace */
    NSK_L_NAME_AT = 32,        /* u32: offset */
    NSK_LAYER_BYTES = 36
};

#define NSK_NO_TENSOR 0xffffU

enum nsk_flag {
    NSK_FLAG_BITS = 7,     /* packed weights: how many bits each has, 4 to 6 */
    NSK_FLAG_COUNTED = 1,  /* average: one multiplier for each count of pixels, count - 1 first */
    NSK_FLAG_FILL = 2,     /* move: the whole output is filled first */
    NSK_FLAG_TABLE = 4,    /* move: bytes pass through a table of 256 */
    NSK_FLAG_LEAST = 8,    /* maximum: the minimum instead */
    NSK_FLAG_SHARES = 16,  /* scores: a softmax of all */
    NSK_FLAG_EACH = 32,    /* scores: a sigmoid of each; neither: as they are */
    NSK_FLAG_CENTRED = 64, /* normalise: less the mean, of which the deviation is */
    NSK_FLAG_BLOCKED = 64, /* convolution: sixteen outputs' weights in turns, blocked.h */
    NSK_FLAG_PAIRED = 128  /* convolution: two outputs' weights in a half word, paired.h */
};

/* A line, two int32: camera byte b becomes level (b x slope + start) / 2^16. */
enum nsk_line_field { NSK_P_SLOPE = 0, NSK_P_START = 1, NSK_LINE_BYTES = 8, NSK_LINE_BITS = 16 };

/* Each of a softmax's two tables; those of scores. */
enum nsk_softmax_sizes { NSK_SOFTMAX_ENTRIES = 16, NSK_SCORES_ENTRIES = 8, NSK_SCORES_TABLES = 5 };

/* A move's numbers, int32, stand where other layers have multipliers. */
enum nsk_move_field {
    NSK_M_FILL = 0,       /* what to fill with */
    NSK_M_IN_ORIGIN = 1,  /* element of the input, of the output: where to start */
    NSK_M_OUT_ORIGIN = 2, /* then for each loop, the innermost first: */
    NSK_M_LOOPS = 3,      /* count, step in the input, step in the output */
    NSK_MOST_LOOPS = 6
};

/* A normalisation's numbers, int32, where other layers have multipliers: what is added to the
 * variance, as 64 bits, the lower ones first, and the shift of its gains and offsets. */
enum nsk_normalise_field { NSK_N_LEAST = 0, NSK_N_SHIFT = 2, NSK_N_WORDS = 3 };

/* A deviation is so many bits; what any channel may have, so that nothing overflows behind the
 * deviation: see normalise.c. */
enum nsk_gain_bits { NSK_GAIN_BITS = 10 };
#define NSK_MOST_GAIN   (INT32_C(1) << 14)
#define NSK_MOST_OFFSET (INT32_C(1) << 30)

/* A resize's table: for each row, then each column, of the output three u16. */
enum nsk_blend_field {
    NSK_B_FIRST = 0,  /* row or column of the input */
    NSK_B_SECOND = 2, /* another one */
    NSK_B_PART = 4,   /* how much of the second, in 2^-11 */
    NSK_BLEND_BYTES = 6
};

static inline uint32_t nsk_load16(const uint8_t *at) {
    return (uint32_t)at[0] | (uint32_t)at[1] << 8;
}

/* `at` is aligned to four bytes. */
static inline uint32_t nsk_load32(const uint8_t *at) {
#if defined(__GNUC__) && __BYTE_ORDER__ == __ORDER_LITTLE_ENDIAN__
    uint32_t word;
    __builtin_memcpy(&word, __builtin_assume_aligned(at, 4), sizeof word);
    return word;
#else
    return nsk_load16(at) | nsk_load16(at + 2) << 16;
#endif
}

/* The index-th of an array of int32. */
static inline int32_t nsk_word(const uint8_t *words, uint32_t index) {
    return (int32_t)nsk_load32(words + 4U * index);
}

#endif
