/* work: what a layer costs, counted from its shapes: for estimates, and not handed over. */
#ifndef NSK_DEVICE_WORK_H
#define NSK_DEVICE_WORK_H

#include "layer.h"

/* What a layer costs, counted from its shapes; a streamed one, or one written over its input, is
 * the sum of its pieces. */
typedef struct nsk_work {
    uint64_t calls;   /* one, or a piece each; each channel of a depthwise convolution by itself */
    uint64_t macs;    /* multiply-accumulates that touch the picture: taps in the padding are left
                       * out; a move has its runs of evenly spaced elements here */
    uint64_t outputs; /* written */
    uint64_t inputs;  /* bytes read from at least once */
    uint64_t rows;    /* that are run through, in each channel of a depthwise convolution; outputs
                       * of one that meets pixels as they stand; else words and single bytes that
                       * windows at the picture's edge are gathered from */
    uint64_t moved;   /* bytes gathered or widened: a convolution's windows, else the input */
    /* The same as kernels see it; 0 for kinds of layer that have no such thing. */
    uint64_t products; /* multiplications, with the padding and what fills a row up to words */
    uint64_t pixels;   /* rows of inputs that meet all outputs of a group; blocks normalised */
    uint64_t runs; /* of bytes that windows are gathered from, or blocks are made of; of an average,
                    * rows of windows in each channel */
    uint64_t edges;  /* rows of windows that stand partly outside of the picture; of a depthwise
                      * convolution, channels, sixteen at a time */
    uint64_t copies; /* words and single bytes of the others; of a depthwise convolution that moves
                      * by  more than one pixel, outputs */
    uint64_t alone;  /* products of a pixel that is left where two are taken at a time */
    uint64_t single; /* the same where four are taken: some kernels take one pixel another way;
                      * of a depthwise convolution, windows above or below the picture, sixteen
                      * channels at a time */
    uint64_t fill;   /* products that are missing where two or three are left; of a depthwise
                      * convolution, rows of outputs with taps above or below the picture, in each
                      * channel */
    uint64_t blocks; /* products in blocks of sixteen inputs by four outputs, two pixels at a
                      * time; of weights in blocks, four pixels by sixteen outputs; of a depthwise
                      * convolution, sixteen channels by two taps; of a fine  one, four by one; of a
                      * pool, taps of sixteen channels */
    uint64_t quads;  /* outputs, four of two pixels at a time, or sixteen channels; of products of
                      * tensors, two pixels by two; of fine ones, four channels, or two outputs */
    uint64_t fours;  /* outputs, four of a row at a time; of a convolution, those of `copies` in
                      * runs of more than sixteen bytes, of weights in blocks 128 */
    uint64_t odd;    /* products of channels that are left where four are taken at a time */
    uint64_t twice;  /* products of an output that is left where two are taken, with which it is
                      * done twice; of a depthwise convolution that moves by more than one
                      * pixel, all */
    uint64_t pads;   /* bytes of windows that are outside of the picture */
    uint64_t over;   /* pieces of a layer that is written over its input */
    uint64_t unpacked; /* weights that had fewer than 8 bits */
    uint64_t upper;    /* those of them that had more than 4 */
} nsk_work;
nsk_work nsk_layer_work(const nsk_model *model, unsigned layer);
/* The same of one layer, as a whole. */
nsk_work nsk_work_of(const nsk_layer *layer);
/* What streaming costs besides: how often a layer is looked at (rows), and bytes moved up in their
 * tensors. */
nsk_work nsk_stream_work(const nsk_model *model);

/* The tensors that a layer has: its input, its second input (past the last where it has none), its
 * output. */
void nsk_layer_tensors(const nsk_model *model, unsigned layer, unsigned tensors[3]);

#endif
