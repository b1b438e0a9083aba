#include "onnx/function_texts.h"

/* The axes from the attribute `axis` on, counted from the front or from the back. */
#define TAIL                                                                                       \
    "Constant > a value_ints=$axis; Constant > zero value_ints=l0; Constant > one value_ints=l1; " \
    "Shape x > s; Shape s > r; Less a zero > back; Where back zero r > end; Range a end one > "    \
    "tail; "
/* x less its mean over `axes`, over the deviation there: z. */
#define NORMALISE(x, axes)                                                                         \
    "ReduceMean " x " " axes " > m keepdims=i1; Sub " x " m > d; Mul d d > q; ReduceMean q " axes  \
    " > v keepdims=i1; Constant > e value_float=$epsilon; Add v e > w; Sqrt w > t; Div d t > z; "
/* One number a channel beside axes behind it, as one axis. */
#define BY_CHANNEL                                                                                 \
    "Constant > behind value_ints=l1; Unsqueeze scale behind > c; "                                \
    "Unsqueeze bias behind > b; "
#define FLAT "Constant > three value_ints=l0,0,-1; Constant > last value_ints=l-1; "
#define GROUPED                                                                                    \
    "Shape x > s; Constant > rest value_ints=l-1; Constant > none value_ints=l0; "                 \
    "Constant > groups value_ints=$num_groups; Concat none groups rest > g axis=i0; "              \
    "Reshape x g > u; " NORMALISE("u", "rest")
/* Heads x tokens x numbers, behind the first axis, of what stands as tokens x (heads x numbers)
 * where the call says how many heads. */
#define HEADS(from, to, heads)                                                                     \
    "if " heads "; Constant > " to "-keep value_ints=l0,0; Constant > " to                         \
    "-heads value_ints=$" heads "; Constant > " to "-rest value_ints=l-1; Concat " to "-keep " to  \
    "-heads " to "-rest > " to "-four axis=i0; Reshape " from " " to "-four > " to                 \
    "-parted; Transpose " to "-parted > " to " perm=l0,2,1,3; else; Identity " from " > " to       \
    "; end; "
/* And back. */
#define TOKENS(from, to, heads)                                                                    \
    "if " heads "; Constant > " to "-three value_ints=l0,0,-1; Transpose " from " > " to           \
    "-parted perm=l0,2,1,3; Reshape " to "-parted " to "-three > " to "; else; Identity " from     \
    " > " to "; end"
/* Several heads of queries may share one of keys and values. */
#define SHARED_HEADS                                                                               \
    "Shape q > heads start=i1 end=i2; Shape k > own start=i1 end=i2; Div heads own > sharing; "    \
    "Constant > zero value_ints=l0; Constant > one value_ints=l1; Range zero heads one > each; "   \
    "Div each sharing > which; Gather k which > keys axis=i1; Gather v which > values axis=i1; "
/* A token looks at itself and those before. */
#define CAUSAL                                                                                     \
    "Shape q > rows start=i2 end=i3; Shape k > columns start=i2 end=i3; "                          \
    "Range zero rows one > row; Unsqueeze row one > standing; Range zero columns one > column; "   \
    "LessOrEqual column standing > before; Constant > seen value_float=f0; "                       \
    "Constant > unseen value_float=f-inf; Where before seen unseen > triangle; "

#define REDUCED         " keepdims=$keepdims noop_with_empty_axes=$noop_with_empty_axes axes=$axes"
#define REDUCE_DEFAULTS "keepdims=i1 noop_with_empty_axes=i0"

const nsk_function_text nsk_function_texts[] = {
    {"Attention", 3, 4, 23, "Q K V mask > y", "",
     HEADS("Q", "q", "q_num_heads") HEADS("K", "k", "kv_num_heads") HEADS("V", "v", "kv_num_heads")
         SHARED_HEADS
     "Transpose keys > kt perm=l0,1,3,2; MatMul q kt > p; "
     "if scale; Constant > f value_float=$scale; "
     "else; Shape q > e start=i3; Cast e > n to=i1; Sqrt n > root; Reciprocal root > f; end; "
     "Mul p f > scaled; "
     "if-truth mask; Constant > open value_float=f0; Constant > shut value_float=f-inf; "
     "Where mask open shut > m; Add scaled m > masked; "
     "else-if mask; Add scaled mask > masked; else; Identity scaled > masked; end; "
     "if is_causal; " CAUSAL "Add masked triangle > past; else; Identity masked > past; end; "
     "if softcap; Constant > cap value_float=$softcap; Div past cap > d; Tanh d > w; "
     "Mul w cap > g; else; Identity past > g; end; "
     "Softmax g > weights axis=i-1; MatMul weights values > o; " TOKENS("o", "y", "q_num_heads")},
    {"GroupNormalization", 3, 3, 21, "x scale bias > y", "epsilon=f1e-05",
     GROUPED "Reshape z s > p; " FLAT "Reshape p three > k; " BY_CHANNEL
             "Mul k c > n; Add n b > o; Reshape o s > y"},
    {"GroupNormalization", 3, 3, 18, "x scale bias > y", "epsilon=f1e-05",
     GROUPED BY_CHANNEL "Mul z c > n; Add n b > o; Reshape o s > y"},
    {"InstanceNormalization", 3, 3, 1, "x scale bias > y", "epsilon=f1e-05",
     "Shape x > s; " FLAT "Reshape x three > u; " NORMALISE("u", "last") BY_CHANNEL
     "Mul z c > n; Add n b > o; Reshape o s > y"},
    {"LayerNormalization", 2, 3, 1, "x scale bias > y m inverse", "epsilon=f1e-05 axis=l-1",
     TAIL NORMALISE("x",
                    "tail") "Reciprocal t > inverse; "
                            "if bias; Mul z scale > n; Add n bias > y; else; Mul z scale > y; end"},
    {"LpNormalization", 1, 1, 1, "x > y", "axis=l-1 p=i2",
     "Constant > a value_ints=$axis; Constant > one value_float=f1; Constant > p value_float=$p; "
     "Div one p > root; Abs x > o; Pow o p > q; ReduceSum q a > r keepdims=i1; Pow r root > n; "
     "Div x n > y"},
    {"MeanVarianceNormalization", 1, 1, 1, "x > y", "axes=l0,2,3",
     "Constant > a value_ints=$axes; ReduceMean x a > m keepdims=i1; Sub x m > d; Mul d d > q; "
     "ReduceMean q a > v keepdims=i1; Sqrt v > t; Constant > e value_float=f1e-09; Add t e > w; "
     "Div d w > y"},
    {"RMSNormalization", 2, 2, 1, "x scale > y", "epsilon=f1e-05 axis=l-1",
     TAIL "Mul x x > q; ReduceMean q tail > v keepdims=i1; Constant > e value_float=$epsilon; "
          "Add v e > w; Sqrt w > t; Div x t > z; Mul z scale > y"},
    {"RotaryEmbedding", 3, 4, 23, "x cosines sines places > y", "",
     HEADS("x", "h",
           "num_heads") "if places; Gather cosines places > c; Gather sines places > s; "
                        "else; Identity cosines > c; Identity sines > s; end; "
                        "Constant > zero value_ints=l0; Constant > one value_ints=l1; Constant > "
                        "two value_ints=l2; "
                        "Constant > last value_ints=l3; Unsqueeze c one > cos; Unsqueeze s one > "
                        "sin; "
                        "Shape cos > half start=i3; Mul half two > turned; "
                        "if rotary_embedding_dim; Constant > far value_ints=l65536; "
                        "Slice h turned far last > kept; end; "
                        "if interleaved; Slice h zero turned last two > u; Slice h one turned last "
                        "two > v; "
                        "else; Slice h zero half last > u; Slice h half turned last > v; end; "
                        "Mul cos u > cu; Mul sin v > sv; Sub cu sv > real; "
                        "Mul sin u > su; Mul cos v > cv; Add su cv > imaginary; "
                        "if interleaved; Constant > four value_ints=l4; Unsqueeze real four > r; "
                        "Unsqueeze imaginary four > i; Concat r i > pairs axis=i4; Constant > flat "
                        "value_ints=l0,0,0,-1; "
                        "Reshape pairs flat > t; "
                        "else; Concat real imaginary > t axis=i3; end; "
                        "if rotary_embedding_dim; Concat t kept > o axis=i3; else; Identity t > o; "
                        "end; " TOKENS("o", "y", "num_heads")},
    {"ReduceL1", 1, 2, 1, "x axes > y", REDUCE_DEFAULTS, "Abs x > o; ReduceSum o axes > y" REDUCED},
    {"ReduceL2", 1, 2, 1, "x axes > y", REDUCE_DEFAULTS,
     "Mul x x > q; ReduceSum q axes > r" REDUCED "; Sqrt r > y"},
    {"ReduceLogSum", 1, 2, 1, "x axes > y", REDUCE_DEFAULTS,
     "ReduceSum x axes > r" REDUCED "; Log r > y"},
    {"ReduceLogSumExp", 1, 2, 1, "x axes > y", REDUCE_DEFAULTS,
     "ReduceMax x axes > m keepdims=i1 noop_with_empty_axes=$noop_with_empty_axes axes=$axes; "
     "ReduceMax x axes > n" REDUCED "; Sub x m > d; Exp d > o; ReduceSum o axes > r" REDUCED
     "; Log r > l; Add l n > y"},
    {"ReduceSumSquare", 1, 2, 1, "x axes > y", REDUCE_DEFAULTS,
     "Mul x x > q; ReduceSum q axes > y" REDUCED},
    {"Size", 1, 1, 1, "x > y", "", "Shape x > s; ReduceProd s > y keepdims=i0"},
};

const size_t nsk_function_text_count = sizeof nsk_function_texts / sizeof nsk_function_texts[0];
