/* What all sections of a report's page want. */
#include "report.h"

const char *report_label(const story *s, int class_index) {
    return class_index >= 0 ? s->job->brief->labels.names[class_index] : "";
}

char *report_drawing(const story *s, const char *name) {
    return g_build_filename(s->folder, name, NULL);
}

bool report_take(story *s, bool drawn, char *path, const char *caption) {
    bool good = drawn && nsk_page_figure(s->page, path, caption, &s->job->error);
    g_free(path);
    return good;
}
