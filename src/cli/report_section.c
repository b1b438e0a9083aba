/* What all sections of a report's page want. */
#include "report.h"

const char *report_label(const report_content *s, int class_index) {
    return class_index >= 0 ? s->context->brief->labels.names[class_index] : "";
}

char *report_drawing(const report_content *s, const char *name) {
    return g_build_filename(s->folder, name, NULL);
}

bool report_take(report_content *s, bool drawn, char *path, const char *caption) {
    bool good = drawn && nsk_page_figure(s->page, path, caption, &s->context->error);
    g_free(path);
    return good;
}
