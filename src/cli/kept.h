/* cli/kept: models that commands have made of briefs, in the user's cache until next time. */
#ifndef NSK_CLI_KEPT_H
#define NSK_CLI_KEPT_H

#include "command.h"

/* Where the model of the context's network, calibration images and `recipe` is kept, by a name made
 * of all that it depends on; NULL where that cannot be told. g_free. */
char *cli_kept_place(const cli_context *context, const nsk_recipe *recipe);
/* The model that is there; NULL where there is none, or it is damaged. */
nsk_model_file *cli_kept_model(const char *place);
/* Puts it there; of many, those go that have not been used for longest. That it cannot be kept is
 * no error. */
void cli_keep_model(const nsk_model_file *model, const char *place);

#endif
