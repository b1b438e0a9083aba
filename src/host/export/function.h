/* export/function: functions of one number as ONNX nodes. */
#ifndef NSK_EXPORT_FUNCTION_H
#define NSK_EXPORT_FUNCTION_H

#include "graph/function.h"
#include "onnx/maker.h"

/* "netsuke:WHAT:NUMBER", and the next number. g_free. */
char *nsk_export_name(int *fresh, const char *what);
/* A new constant of one number as the node's next input. */
void nsk_export_number(nsk_onnx_maker *maker, int *fresh, Onnx__NodeProto *node, double number);

/* The program from `argument` to `output`, a node or a few for each step, the last one called
 * `name`. Functions that came late (Gelu, Mish, Swish) are written in older ones. */
void nsk_export_function(nsk_onnx_maker *maker, int *fresh, const nsk_program *program,
                         const char *argument, const char *name, const char *output);

#endif
