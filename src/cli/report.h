/* cli/report: what a report tells, found out before any of it is written. */
#ifndef NSK_CLI_REPORT_H
#define NSK_CLI_REPORT_H

#include "drift.h"
#include "netsuke/atlas.h"
#include "netsuke/headroom.h"
#include "netsuke/page.h"
#include "netsuke/stress.h"
#include "netsuke/weigh.h"
#include "rehearse.h"
#include "stress.h"
#include "weigh.h"

typedef struct report_options {
    char *output, *keep;
} report_options;

typedef struct report_content {
    cli_context *context;
    const report_options *own;
    nsk_page *page;
    char *folder; /* for drawings on their way into the page */
    nsk_survey *survey;
    nsk_vetting *vetting;
    nsk_outline *outline;
    nsk_comparison *comparison;
    nsk_model_file *whole; /* of a streamed model: the same with every layer whole; or NULL */
    nsk_drift *drift;
    nsk_regain *regain;
    nsk_advices *advices;
    nsk_stress *stress;
    nsk_images *on_plane; /* the atlas's images */
    nsk_atlas *atlas;     /* or why there is none */
    nsk_error no_atlas;
    nsk_budget *budget;
    nsk_headroom *headroom;
    GArray *variants; /* of entry; NULL: the brief has none */
    cli_context variants_context;
    weigh_options weigh_own;
    nsk_variant *weighed;
    rehearse_options rehearse_own;
    rehearse_run rehearsal; /* plays only where the brief has scenes */
    nsk_verdict *verdict;
} report_content;

/* Writes the page: a section for each part of the report_content, drawings by way of its folder. */
bool report_tell(report_content *s);

/* Sections about pictures. */
bool report_data(report_content *s);
bool report_stress(report_content *s);
bool report_atlas(report_content *s);

/* "" for no class. */
const char *report_label(const report_content *s, int class_index);
/* Where a drawing of that name goes. g_free, or report_take. */
char *report_drawing(const report_content *s, const char *name);
/* Takes the drawing into the page, where it was drawn, and frees the path. */
bool report_take(report_content *s, bool drawn, char *path, const char *caption);

#endif
