/* How a verdict is told, and what it makes of the exit status. */
#include <stdio.h>

#include "command.h"
#include "table.h"

void cli_json_verdict(JsonBuilder *b, const nsk_verdict *v) {
    json_builder_set_member_name(b, "verdict");
    json_builder_begin_object(b);
    cli_json_text(b, "standing", nsk_standing_text(nsk_verdict_standing(v)));
    json_builder_set_member_name(b, "findings");
    json_builder_begin_array(b);
    for (int i = 0; i < v->count; i++) {
        json_builder_begin_object(b);
        cli_json_text(b, "step", v->finding[i].step);
        cli_json_text(b, "standing", nsk_standing_text(v->finding[i].standing));
        cli_json_text(b, "text", v->finding[i].text);
        json_builder_end_object(b);
    }
    json_builder_end_array(b);
    json_builder_end_object(b);
}

void cli_print_findings(const nsk_verdict *v) {
    static const char *const words[] = {"holds        ", "OPEN         ", "BROKEN       "};
    for (int i = 0; i < v->count; i++) {
        if (v->finding[i].standing != NSK_STANDING_HOLDS) {
            cli_paragraph(words[v->finding[i].standing], v->finding[i].text);
        }
    }
}

const char *cli_verdict_words(const nsk_verdict *v) {
    static const char *const words[] = {
        "every limit holds", "no limit is broken, something is open",
        "what was found breaks a limit, or makes figures worthless"};
    return words[nsk_verdict_standing(v)];
}

int cli_conclude(const cli_context *context, const nsk_verdict *v) {
    nsk_standing standing = nsk_verdict_standing(v);
    for (int i = 0; i < v->count && standing == NSK_STANDING_OPEN; i++) {
        if (v->finding[i].standing == NSK_STANDING_OPEN) {
            fprintf(stderr, "netsuke: open: %s%s\n", v->finding[i].text,
                    context->strict ? "" : " (--strict makes this exit status 1)");
        }
    }
    return standing == NSK_STANDING_BROKEN || (standing == NSK_STANDING_OPEN && context->strict)
               ? CLI_LIMIT_BROKEN
               : CLI_DONE;
}
