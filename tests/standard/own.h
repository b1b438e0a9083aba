/* own: cases of what operators learned after the package was made, in the standard's form: a model,
 * its inputs, and the outputs that a formula gives. */
#ifndef NSK_TESTS_OWN_H
#define NSK_TESTS_OWN_H

/* Writes them into that folder, a folder each. */
void own_cases_write(const char *folder);

#endif
