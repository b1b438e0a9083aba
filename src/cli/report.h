/* cli/report: what a report tells, found out before any of it is written. */
#ifndef CLI_REPORT_H
#define CLI_REPORT_H

#include "rehearse.h"
#include "report/page.h"
#include "weigh.h"

typedef struct story {
    cli_job *job;
    nsk_page *page;
    char *folder; /* for drawings on their way into the page */
    nsk_survey *survey;
    nsk_vetting *vetting;
    nsk_outline *outline;
    nsk_comparison *comparison;
    nsk_drift *drift;
    nsk_budget *budget;
    nsk_headroom *headroom;
    GArray *variants; /* of entry; NULL: the brief has none */
    cli_job variants_job;
    nsk_variant *weighed;
    show rehearsal; /* plays only where the brief has scenes */
    nsk_verdict *verdict;
} story;

/* Writes the page: a section for each part of the story, drawings by way of its folder. */
bool report_tell(story *s);

#endif
