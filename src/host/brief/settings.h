/* brief/settings: our own text files (briefs, boards, cost tables): key files whose every key is
 * known, whose values have units, and whose errors name the line. A comment stands on a line of its
 * own behind '#', or behind a value, a blank and ';' or '#'. */
#ifndef NSK_BRIEF_SETTINGS_H
#define NSK_BRIEF_SETTINGS_H

#include "base/base.h"
#include "netsuke/brief.h"

typedef struct nsk_settings nsk_settings;

/* A key that may stand in a file. A key of "*" is any name. */
typedef struct nsk_setting_name {
    const char *group, *key;
    const char *text; /* what it says, for manuals; NULL in files that people do not write */
} nsk_setting_name;

/* What briefs and boards may hold; a NULL group ends each. */
extern const nsk_setting_name nsk_brief_settings[], nsk_board_settings[];

typedef enum nsk_unit {
    NSK_UNIT_NUMBER,
    NSK_UNIT_SHARE,  /* of 1 */
    NSK_UNIT_POINTS, /* percentage points */
    NSK_UNIT_BYTES,
    NSK_UNIT_SECONDS,
    NSK_UNIT_HERTZ,
    NSK_UNIT_PER_SECOND,
    NSK_UNIT_WATTS,
    NSK_UNIT_JOULES
} nsk_unit;

/* `known` ends with a NULL group. A line that is no setting, a key that is not known or stands
 * twice is an error. */
nsk_settings *nsk_settings_read(const char *path, const nsk_setting_name *known, nsk_error *error);
void nsk_settings_free(nsk_settings *settings);

/* The text behind a key, or NULL where it is not given or empty. */
const char *nsk_settings_text(const nsk_settings *settings, const char *group, const char *key);
/* Fails where it is not given. */
const char *nsk_settings_need(const nsk_settings *settings, const char *group, const char *key,
                              nsk_error *error);

/* The line that it stands on; 0 where it is not given. */
int nsk_settings_line(const nsk_settings *settings, const char *group, const char *key);

/* A number with its unit, from `least` to `most` in the base unit (bytes, seconds, hertz, watts);
 * stays as it is where the key is not given. */
bool nsk_settings_number(const nsk_settings *settings, const char *group, const char *key,
                         nsk_unit unit, double least, double most, double *value, nsk_error *error);
/* A whole number. */
bool nsk_settings_whole(const nsk_settings *settings, const char *group, const char *key, int least,
                        int most, int *value, nsk_error *error);
/* "48x48": pixels, from 1 to 4096; stays as it is where the key is not given. */
bool nsk_settings_size(const nsk_settings *settings, const char *group, const char *key, int *width,
                       int *height, nsk_error *error);
/* Three numbers parted by ';'; one serves for all. */
bool nsk_settings_triple(const nsk_settings *settings, const char *group, const char *key,
                         double *values, nsk_error *error);
/* How many values parted by ';' stand there; 0 where the key is not given. */
int nsk_settings_count(const nsk_settings *settings, const char *group, const char *key);
/* The index of the text among `words` (ending with NULL). */
bool nsk_settings_choice(const nsk_settings *settings, const char *group, const char *key,
                         const char *const *words, int *value, nsk_error *error);

/* Fails with "path:line: key: text". */
bool nsk_settings_fail(const nsk_settings *settings, const char *group, const char *key,
                       nsk_error *error, const char *text);

/* Gives a key the text, as if it stood on the line of another that is there. */
void nsk_settings_put(nsk_settings *settings, const char *group, const char *key, const char *text,
                      const char *like_group, const char *like_key);

/* The keys of a group in their order; NULL where there is none. */
const char *const *nsk_settings_keys(const nsk_settings *settings, const char *group);

#endif
