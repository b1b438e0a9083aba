/* scripts/proof and scripts/proofs with a stand-in for Frama-C: what they run, and what they say of
 * what it answers. What Frama-C itself says is tests/host/proof_test.c's. */
#include <stdio.h>
#include <string.h>

#include "drive.h"

/* Answers with the alarms that proof/open-alarms.txt gives reasons for, with $EXTRA as one more for
 * the file $WHERE, and with what says that the end was come to, but for the file $BROKEN. */
static void stand_in(void) {
    outcome o = drive_for(
        0, "mkdir -p \"$T/stand-in\" && cat > \"$T/stand-in/frama-c\" <<'END'\n"
           "#!/bin/sh\n"
           "[ \"$1\" = -version ] && echo 'a stand-in' && exit\n"
           "case \"$*\" in *\"${BROKEN:-none at all}\"*) exit 1 ;; esac\n"
           "case \"$*\" in *proof/open.c*) sed -n '/^#/d; s/^\\([^:]*\\): \\(.*\\)/[eva:alarm] "
           "\\1:7: Warning:\\n  \\2/p' proof/open-alarms.txt ;; esac\n"
           "case \"$*\" in *\"${WHERE:-none at all}\"*) printf '[eva:alarm] %%s:9: Warning:\\n  "
           "%%s\\n[eva] on\\n' \"$WHERE\" \"$EXTRA\" ;; esac\n"
           "echo '[eva] a.c:1: Frama_C_show_each_end:'\n"
           "echo '[eva] a.c:1: Frama_C_show_each_best: [0..5]'\n"
           "END\nchmod +x \"$T/stand-in/frama-c\"");
    outcome_clear(&o);
}

/* Runs all proofs, with these settings of the stand-in; the lines that they print. g_free. */
static char *run_all(int status, const char *settings) {
    outcome o = drive_for(status,
                          "PATH=\"$T/stand-in:$PATH\" %s scripts/proofs '%s' \"$T/proof.txt\" > "
                          "\"$T/said\"",
                          settings, NSK_COMMAND);
    outcome_clear(&o);
    o = drive_for(0, "cmp \"$T/said\" \"$T/proof.txt\" && sed 's/, [0-9]* s$//; s/ in [0-9]* s$//' "
                     "\"$T/said\" | LC_ALL=C sort && rm \"$T/proof.txt\"");
    char *said = g_strdup(o.out);
    outcome_clear(&o);
    return said;
}

/* Six units, three networks and the loop, each whole and streamed. */
static void all_is_run(void) {
    stand_in();
    char *said = run_all(0, "env");
    CU_ASSERT_STRING_EQUAL(said,
                           "Frama-C a stand-in\n"
                           "crc: 0 kinds of alarm, 0 of them with their reason\n"
                           "decide: 0 kinds of alarm, 0 of them with their reason\n"
                           "frame_check: 0 kinds of alarm, 0 of them with their reason\n"
                           "kiln-gated-streamed-always: 0 alarms\n"
                           "kiln-gated-streamed-never: 0 alarms\n"
                           "kiln-streamed-always: 0 alarms\n"
                           "kiln-streamed-never: 0 alarms\n"
                           "kiln-third-streamed-always: 0 alarms\n"
                           "kiln-third-streamed-never: 0 alarms\n"
                           "loop-streamed-always: 0 kinds of alarm, 0 of them with their reason\n"
                           "loop-streamed-never: 0 kinds of alarm, 0 of them with their reason\n"
                           "open: 52 kinds of alarm, 52 of them with their reason\n"
                           "scale: 0 kinds of alarm, 0 of them with their reason\n"
                           "sensor: 0 kinds of alarm, 0 of them with their reason\n"
                           "slots: 0 kinds of alarm, 0 of them with their reason\n"
                           "wire: 0 kinds of alarm, 0 of them with their reason\n");
    g_free(said);
}

/* The others are run all the same, and the log is written. */
static void one_alarm_fails_all(void) {
    stand_in();
    char *said = run_all(1, "env WHERE=proof/kiln_gated.c EXTRA='signed overflow.'");
    CU_ASSERT_PTR_NOT_NULL(strstr(said, "kiln-gated-streamed-always: 1 alarms\n"));
    CU_ASSERT_PTR_NOT_NULL(strstr(said, "kiln-streamed-never: 0 alarms\n"));
    g_free(said);
}

/* What a unit is answered with, the status, and what is said. */
static void alarms_and_reasons_are_held_together(void) {
    static const struct {
        const char *settings, *unit;
        int status;
        const char *said;
    } cases[] = {
        {"env", "crc", 0, "crc: 0 kinds of alarm, 0 of them with their reason"},
        {"env WHERE=proof/crc.c EXTRA='division by zero.'", "crc", 1,
         "an alarm without its reason: proof/crc.c: division by zero."},
        {"env WHERE=proof/open.c EXTRA='division by zero.'", "open", 1,
         "open: 53 kinds of alarm, 52 of them with their reason"},
        {"env WHERE=proof/open.c EXTRA='division by zero.'", "open", 1,
         "an alarm without its reason: proof/open.c: division by zero."},
        {"env BROKEN=proof/frame_check.c", "frame_check", 2,
         "frame_check: nothing was shown; the reason stands in"},
    };
    stand_in();
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        outcome o =
            drive_for(cases[i].status,
                      "export TMPDIR=\"$T\"; PATH=\"$T/stand-in:$PATH\" %s scripts/proof %s "
                      "2>&1",
                      cases[i].settings, cases[i].unit);
        CU_ASSERT_PTR_NOT_NULL(strstr(o.out, cases[i].said));
        outcome_clear(&o);
    }
    /* reasons that have lost their alarms: a stand-in that has none */
    outcome o = drive_for(1, "export TMPDIR=\"$T\"; sed '/open.c/d' \"$T/stand-in/frama-c\" > "
                             "\"$T/silent\" && mkdir -p \"$T/quiet\" && mv \"$T/silent\" "
                             "\"$T/quiet/frama-c\" && chmod +x \"$T/quiet/frama-c\" && "
                             "PATH=\"$T/quiet:$PATH\" scripts/proof open | grep -c '^a reason "
                             "without its alarm:'; PATH=\"$T/quiet:$PATH\" scripts/proof open "
                             ">/dev/null");
    CU_ASSERT_STRING_EQUAL(o.out, "52\n");
    outcome_clear(&o);
}

CU_TestInfo proofs_tests[] = {
    {"all is run", all_is_run},
    {"one alarm fails all", one_alarm_fails_all},
    {"alarms and reasons are held together", alarms_and_reasons_are_held_together},
    CU_TEST_INFO_NULL,
};
