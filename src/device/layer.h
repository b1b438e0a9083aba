/* layer: one layer's record, decoded, and what each kind of layer can do. */
#ifndef NSK_DEVICE_LAYER_H
#define NSK_DEVICE_LAYER_H

#include "format.h"
#include "netsuke/device.h"

/* Numbers are wider than their fields so that nothing computed from them can overflow. */
typedef struct nsk_layer {
    nsk_kind kind;
    uint32_t flags, count;
    nsk_tensor in, second, out; /* `second` only where the kind has two inputs */
    bool has_second;
    int32_t kernel_height, kernel_width;
    int32_t stride_down, stride_across;
    int32_t dilate_down, dilate_across;
    int32_t pad_top, pad_left;
    int32_t low, high; /* of the output; where it is int16, all that it holds */
    /* into the file, by kind; requantise: a word an output, see arithmetic.h */
    union {
        const uint8_t *weights; /* of a kind that has any */
        const uint8_t *table;   /* lut, softmax; copy, where its flag says so */
        const uint8_t *blends;  /* resize */
        const uint8_t *values;  /* constant */
    };
    union {
        const uint8_t *multipliers;
        const uint8_t *loops; /* copy */
    };
    const uint8_t *requantise, *shifts;
    uint32_t scratch; /* of a layer that has one: its place in the workspace */
} nsk_layer;

void nsk_layer_decode(const nsk_model *model, unsigned index, nsk_layer *layer);
void nsk_tensor_decode(const nsk_model *model, unsigned tensor, nsk_tensor *t);

/* A function that runs seldom, beside loops that matter: made for size. Whole files: small.h. */
#if defined(__GNUC__) && !defined(__clang__) && defined(__OPTIMIZE__)
#define NSK_SELDOM __attribute__((noinline, optimize("Os")))
#else
#define NSK_SELDOM
#endif

/* Keeps an inner loop a function of its own: inlined into the loops around it, compilers run out of
 * registers for both and spill those of the inner one. NSK_ALWAYS_INLINE does the opposite: what is
 * a constant at the call becomes one inside; NSK_INLINE_UNLESS_SMALL, too, but not with -Os. */
#if defined(__GNUC__)
#define NSK_NOINLINE      __attribute__((noinline))
#define NSK_ALWAYS_INLINE static inline __attribute__((always_inline))
#else
#define NSK_NOINLINE
#define NSK_ALWAYS_INLINE static inline
#endif
#if defined(__OPTIMIZE_SIZE__)
#define NSK_INLINE_UNLESS_SMALL static NSK_NOINLINE
#else
#define NSK_INLINE_UNLESS_SMALL NSK_ALWAYS_INLINE
#endif

/* Unsigned numbers run over in it, on purpose: for sanitizers that would stop there. */
#if defined(__clang__)
#define NSK_WRAPS __attribute__((no_sanitize("unsigned-integer-overflow", "unsigned-shift-base")))
#else
#define NSK_WRAPS
#endif

/* What a kind of layer can do. */
typedef struct nsk_operation {
    /* All that it will read lies in the file, and no number in it can make it overflow. */
    bool (*check)(const nsk_model *model, const nsk_layer *layer);
    /* Reads and writes the tensors' places in the workspace. */
    void (*run)(const nsk_layer *layer, int8_t *workspace);
} nsk_operation;

/* Runs a layer, or a piece of one, between the observer's calls; `observer` may be NULL. */
void nsk_layer_run(const nsk_model *model, unsigned index, const nsk_layer *layer,
                   int8_t *workspace, const nsk_observer *observer);

#define NSK_KIND_ROW(number, NAME, name, text, form, files)                                        \
    extern const nsk_operation nsk_operation_##name;
#include "kinds.def"

/* By nsk_kind; NULL where this build leaves one out. Whoever links the runtime gives the table:
 * operations.c has them all, an emitted folder those that its networks use. */
extern const nsk_operation *const nsk_operations[NSK_KINDS];

/* What runs the first layers while the frame comes in: stream.h. Given beside the table; NULL where
 * a build leaves it out. */
typedef struct nsk_streaming {
    /* Every step of a frame stays within the rows that the tensors hold. */
    bool (*check)(const nsk_model *model);
    /* Rows of the frame have come: runs the layers as far as they get. */
    void (*advance)(nsk_feed *feed);
} nsk_streaming;

extern const nsk_streaming nsk_streams;
extern const nsk_streaming *const nsk_streaming_of_build;

/* How a kind goes through the rows of its tensors: it needs its input whole; each row of the output
 * comes from a window of the input's rows; from the row in its place; or from that of two inputs.
 */
typedef enum nsk_form { NSK_FORM_WHOLE, NSK_FORM_WINDOWS, NSK_FORM_ROWS, NSK_FORM_PAIRS } nsk_form;

/* A bit a kind. NOLINTBEGIN(bugprone-macro-parentheses): the line is a term of a sum. */
enum nsk_kinds_of_a_form {
#define NSK_KIND_ROW(number, NAME, name, text, form, files)                                        \
    +(NSK_FORM_##form == NSK_FORM_WINDOWS ? 1 << (number) : 0)
    NSK_KINDS_WITH_WINDOWS =
#include "kinds.def"
        ,
#define NSK_KIND_ROW(number, NAME, name, text, form, files)                                        \
    +(NSK_FORM_##form == NSK_FORM_PAIRS ? 1 << (number) : 0)
    NSK_KINDS_OF_PAIRS =
#include "kinds.def"
        ,
#define NSK_KIND_ROW(number, NAME, name, text, form, files)                                        \
    +(NSK_FORM_##form == NSK_FORM_WHOLE ? 1 << (number) : 0)
    NSK_KINDS_OF_WHOLES =
#include "kinds.def"
};
/* NOLINTEND(bugprone-macro-parentheses) */

static inline bool nsk_kind_is_of(enum nsk_kinds_of_a_form kinds, nsk_kind kind) {
    return ((unsigned)kinds >> kind & 1U) != 0;
}

static inline bool nsk_kind_has_window(nsk_kind kind) {
    return nsk_kind_is_of(NSK_KINDS_WITH_WINDOWS, kind);
}

/* Whether its tensors may be fine: fine.h. */
static inline bool nsk_kind_is_fine(nsk_kind kind) {
    return kind >= NSK_KIND_CONV_FINE && kind <= NSK_KIND_NORMALISE_FINE;
}

/* Whether its kernel keeps to `out.pixel_stride` from pixel to pixel. Those that may write finer
 * numbers leave no gaps. */
static inline bool nsk_kind_writes_slices(nsk_kind kind) {
    return (nsk_kind_has_window(kind) && !nsk_kind_is_fine(kind)) ||
           kind == NSK_KIND_CONV_TRANSPOSE;
}

/* Whether a layer writes over its input. It runs in pieces then: of as many output rows from one on
 * as write over nothing that they read. */
bool nsk_writes_over_input(const nsk_layer *layer);
int32_t nsk_rows_at_once(const nsk_layer *layer, int32_t row);

/* Which rows of a tensor are there: [first, made), the first of them at its place. */
static inline void nsk_cut_rows(nsk_tensor *t, const nsk_held *held, int32_t from, int32_t to) {
    t->offset += (uint32_t)(from - held->first) * t->width * (uint32_t)t->pixel_stride;
    t->height = (uint16_t)(to - from);
}

/* The first row of a window's output row, which may lie above the picture. */
static inline int32_t nsk_window_top(const nsk_layer *l, int32_t row) {
    return row * l->stride_down - l->pad_top;
}

/* A layer with a window as if it made output rows [from, to) only, of what is there of its input
 * and output. */
static inline nsk_layer nsk_window_piece(const nsk_layer *l, const nsk_held *in,
                                         const nsk_held *out, int32_t from, int32_t to) {
    nsk_layer piece = *l;
    int32_t top = nsk_window_top(l, from);
    int32_t first = top < 0 ? 0 : top;
    int32_t end = nsk_window_top(l, to - 1) + (l->kernel_height - 1) * l->dilate_down + 1;
    piece.pad_top = first - top;
    nsk_cut_rows(&piece.in, in, first, end < in->made ? end : in->made);
    nsk_cut_rows(&piece.out, out, from, to);
    return piece;
}

static inline uint32_t nsk_tensor_elements(const nsk_tensor *t) {
    return (uint32_t)t->height * t->width * t->channels;
}

static inline uint32_t nsk_tensor_bytes(const nsk_tensor *t) {
    return nsk_tensor_elements(t) * t->element;
}

/* From the first byte of its first pixel to where one behind the last would begin. */
static inline uint32_t nsk_tensor_span(const nsk_tensor *t) {
    return (uint32_t)t->height * t->width * (uint32_t)t->pixel_stride;
}

/* Where an element, counted without gaps, stands from the tensor's place on. */
static inline uint32_t nsk_element_place(const nsk_tensor *t, uint32_t element) {
    return element / t->channels * (uint32_t)t->pixel_stride + element % t->channels * t->element;
}

static inline uint32_t nsk_kernel_area(const nsk_layer *l) {
    return (uint32_t)l->kernel_height * (uint32_t)l->kernel_width;
}

/* Taps of one output of a convolution, transposed or not; more than NSK_MOST_TAPS are refused. A
 * kernel's area times channels, of one byte and of two each, is within 32 bits. */
enum nsk_taps_limit { NSK_MOST_TAPS = 1 << 24 };
static inline int32_t nsk_conv_taps(const nsk_layer *l) {
    return l->kernel_height * l->kernel_width * (l->in.channels / (int32_t)l->count);
}

/* The weights of one output of a convolution or dense layer fill whole words, the last with zeroes:
 * so do the inputs that they meet, and no kernel has a rest of one to three to care for. */
static inline int32_t nsk_row_bytes(int32_t taps) {
    return (taps + 3) & ~3;
}

/* Whether two outputs' weights stand in a half word each: paired.h. */
static inline bool nsk_weights_are_paired(const nsk_layer *l) {
    return l->kind == NSK_KIND_CONV && (l->flags & NSK_FLAG_PAIRED) != 0;
}

/* Whether those of sixteen take turns: blocked.h. */
static inline bool nsk_weights_are_blocked(const nsk_layer *l) {
    return l->kind == NSK_KIND_CONV && (l->flags & NSK_FLAG_BLOCKED) != 0;
}

/* Whether a convolution meets whole pixels as they stand in the workspace, so that nothing needs
 * to be gathered. */
static inline bool nsk_conv_is_direct(const nsk_layer *l) {
    return l->kernel_height == 1 && l->kernel_width == 1 && l->stride_down == 1 &&
           l->stride_across == 1 && (l->in.channels / (int32_t)l->count) % 4 == 0 &&
           l->in.offset % 4 == 0;
}

/* Packed weights (packed.h) have so many bits; stand in groups of so many weights, the last filled
 * up; and are unpacked for so many outputs at a time. */
enum nsk_packed_sizes {
    NSK_LEAST_BITS = 4,
    NSK_MOST_BITS = 6,
    NSK_PACKED_GROUP = 32,
    NSK_UNPACKED = 16
};
static inline uint64_t nsk_packed_groups(uint64_t weights) {
    return (weights + NSK_PACKED_GROUP - 1U) / NSK_PACKED_GROUP;
}

/* The kind that a layer is besides. */
static inline nsk_kind nsk_kind_unpacked(nsk_kind kind) {
    return kind == NSK_KIND_CONV_PACKED    ? NSK_KIND_CONV
           : kind == NSK_KIND_DENSE_PACKED ? NSK_KIND_DENSE
                                           : kind;
}

static inline uint32_t nsk_dense_row(const nsk_layer *l) {
    return (uint32_t)nsk_row_bytes((int32_t)nsk_tensor_elements(&l->in));
}

/* Whether outputs are clamped to what an int8 holds: nearly always. */
static inline bool nsk_requantise_is_plain(const nsk_layer *l) {
    return l->low == -128 && l->high == 127;
}

#endif
