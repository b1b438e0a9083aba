/* How a link's answers begin, and what several of them tell. */
#include "../small.h"

#include "../layer.h"
#include "link_parts.h"

void nsk_link_begin_answer(nsk_wire *w, const nsk_link *link, const nsk_wire_map *asked,
                           nsk_link_answer answer, unsigned more) {
    nsk_wire_begin(w, link->port);
    nsk_wire_head(w, NSK_CBOR_MAP, 3U + more);
    nsk_wire_number(w, NSK_KEY_WHAT, asked->number[NSK_KEY_WHAT]);
    nsk_wire_number(w, NSK_KEY_NUMBER, asked->number[NSK_KEY_NUMBER]);
    nsk_wire_number(w, NSK_KEY_ANSWER, (uint32_t)answer);
}

void nsk_link_say(const nsk_link *link, const nsk_wire_map *asked, nsk_link_answer answer) {
    nsk_wire w;
    nsk_link_begin_answer(&w, link, asked, answer, 0);
    nsk_wire_end(&w);
}

uint32_t nsk_link_kinds(void) {
    uint32_t kinds = 0;
    for (unsigned i = 0; i < NSK_KINDS; i++) {
        kinds |= nsk_operations[i] != NULL ? UINT32_C(1) << i : 0U;
    }
    return kinds;
}
