/* netsuke/netsuke.h: the whole library, from a brief to a verdict, a header a topic.
 *
 * Functions that can fail return NULL or false and put one line into an nsk_error: what is wrong,
 * where, and what to do. What a function returns as a pointer without const belongs to the caller,
 * who frees it with the function of that name; strings with nsk_string_free, lists of them with
 * nsk_strings_free. Structs that a caller fills begin as their _init function leaves them, or as
 * zeroes where they have none, so that fields that come later do no harm.
 *
 * Threads. Objects may be read by many threads at once, and changed by one; there is no state
 * besides them. What goes through images takes as many threads as OpenMP gives (OMP_NUM_THREADS),
 * its results the same on any number. OpenBLAS is told, once and for the process, to run each
 * product on one thread: images are the parallel part.
 */
#ifndef NETSUKE_NETSUKE_H
#define NETSUKE_NETSUKE_H

#include "netsuke/ablation.h"
#include "netsuke/atlas.h"
#include "netsuke/brief.h"
#include "netsuke/budget.h"
#include "netsuke/classify.h"
#include "netsuke/clock.h"
#include "netsuke/compare.h"
#include "netsuke/device.h"
#include "netsuke/drift.h"
#include "netsuke/emit.h"
#include "netsuke/error.h"
#include "netsuke/film.h"
#include "netsuke/finer.h"
#include "netsuke/firmware.h"
#include "netsuke/gather.h"
#include "netsuke/headroom.h"
#include "netsuke/images.h"
#include "netsuke/link.h"
#include "netsuke/live.h"
#include "netsuke/narrower.h"
#include "netsuke/network.h"
#include "netsuke/on_board.h"
#include "netsuke/page.h"
#include "netsuke/pare.h"
#include "netsuke/port.h"
#include "netsuke/probe.h"
#include "netsuke/processes.h"
#include "netsuke/quantise.h"
#include "netsuke/rehearse.h"
#include "netsuke/review.h"
#include "netsuke/sensor.h"
#include "netsuke/slots.h"
#include "netsuke/stress.h"
#include "netsuke/survey.h"
#include "netsuke/tools.h"
#include "netsuke/verdict.h"
#include "netsuke/version.h"
#include "netsuke/vet.h"
#include "netsuke/weigh.h"

#endif
