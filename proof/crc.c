/* Checksum and hash of any bytes, as many as there may be up to this many: within their contracts.
 */
#include "device/crc.h"
#include "__fc_builtin.h"
#include "device/firmware/hash.h"

enum { MOST_BYTES = 65536 };

_Alignas(4) static uint8_t bytes[MOST_BYTES];

int main(void) {
    Frama_C_make_unknown((char *)bytes, sizeof bytes);
    nsk_crc32(0, bytes, (size_t)Frama_C_interval(0, MOST_BYTES));
    nsk_hash(0, bytes, (size_t)Frama_C_interval(0, MOST_BYTES));
    Frama_C_show_each_end();
    return 0;
}
