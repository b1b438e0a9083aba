/* Mistakes of a first day, made on purpose in a copy of the demo: each ends with status 1 or 2, and
 * a line that names it. */
#include <stdio.h>
#include <string.h>

#include "drive.h"

/* "$T/m": k, the brief, with paths to the demo's own files and half of its held-out images;
 * small/, with sets of four pictures a class that may be broken. */
static void make_copy(void) {
    outcome o = drive_for(
        0,
        "rm -rf \"$T/m\" && mkdir -p \"$T/m/small\" && cp demo/labels.txt demo/kiln.onnx \"$T/m\" "
        "&& "
        "sed \"s#= images/#= $PWD/demo/images/#; s#\\.\\./boards#$PWD/boards#; s#= scenes/.*#= "
        "$PWD/demo/scenes/plain.csv#; /^variants/d\" demo/kiln.ini > \"$T/m/k\" && for s in "
        "calibration "
        "held-out; do for c in $(cat demo/labels.txt); do mkdir -p \"$T/m/small/$s/$c\" && cp "
        "demo/images/$s/$c/$c-000[0-3].png \"$T/m/small/$s/$c\"; done; done && cd \"$T/m\" && sed "
        "\"s#= .*demo/images/#= small/#\" k > s && netsuke quantise s -o s.nsk > /dev/null && cp "
        "\"$OLDPWD/demo/kiln-third.onnx\" .");
    outcome_clear(&o);
}

/* What is done to the copy, the command, its status, and what must be said, on either stream. */
static const struct {
    const char *mistake, *command;
    int status;
    const char *said;
} cases[] = {
    /* how the network is fed */
    {"sed -i 's/= rgb/= bgr/' k", "vet k --sample 400", 1, "try: colour = rgb\n"},
    {"sed -i '/^deviation/d' k", "vet k --sample 150", 1, "deviation = 0.2"},
    {"sed -i 's/^range.*/range = 0..255/' k", "vet k --sample 150", 1, "range = 0..1"},
    {"sed -i '/^mean/d' k", "vet k --sample 300", 1, "mean = 0."},
    {"printf 'belt\\nsound\\nchip\\ncrack\\npinhole\\ndrip\\n' > labels.txt", "vet k --sample 150",
     1, "it should say"},
    {"printf 'sound\\ncrack\\nchip\\npinhole\\ndrip\\nbelt\\n' > labels.txt", "compare s -m s.nsk",
     2, "other labels than the labels file"},
    {"printf 'sound\\ncrack\\nchip\\npinhole\\ndrip\\nbelt\\n' > labels.txt", "compare s", 1,
     "no better than always to say"},
    /* the sets */
    {"sed -i 's#^calibration = .*#calibration = small/held-out#' s", "survey s", 1,
     "24 of 24 held-out images stand in the calibration set, too"},
    {"sed -i 's#^calibration = .*#calibration = small/held-out#' s", "compare s", 1,
     "24 of 24 held-out images stand in the calibration set, too"},
    {"cp small/held-out/chip/chip-0000.png small/held-out/drip/d.png", "survey s", 1,
     "under two labels, one of which is wrong: 1"},
    {"rm small/held-out/chip/*", "compare s", 2, "small/held-out/chip: no image in this class"},
    {"rm small/held-out/chip/*", "survey s --tolerant", 1, "held-out set has no image of 'chip'"},
    {"truncate -s 200 small/held-out/chip/chip-0001.png", "survey s", 1,
     "images of the held-out set that cannot be read: 1"},
    {"truncate -s 200 small/held-out/chip/chip-0001.png", "compare s --tolerant", 0,
     "left out small/held-out/chip/chip-0001.png"},
    {"mkdir small/held-out/dust", "compare s", 2, "no label is called 'dust'"},
    {"sed -i 's#small/calibration#small/calibratoin#' s", "compare s", 2,
     "s:15: calibration: small/calibratoin: No such file or directory"},
    {"sed -i 's#small/held-out#small/heldout#' s", "survey s", 2,
     "s:16: held-out: small/heldout: No such file or directory"},
    {"sed -i 's/^drip$/drip\\/run/' labels.txt; sed -i 's/;drip//' s", "compare s", 2,
     "label 'drip/run' cannot be a folder's name"},
    /* the model */
    {"sed -i 's/= kiln.onnx/= klin.onnx/' k", "compare k", 2, "k:3: file: klin.onnx: No such file"},
    {"sed -i 's/= labels.txt/= labls.txt/' k", "outline k", 2,
     "k:4: labels: labls.txt: No such file"},
    {"sed -i '$d' labels.txt; sed -i 's/;drip//' k", "compare k", 2,
     "kiln.onnx has 6 outputs, the labels file has 5 names"},
    {"sed -i 's/48x48  /64x64  /' k", "vet k", 2, "height is 48 in the file and 64 in the brief"},
    {"netsuke quantise $D/kiln-gated.ini -o o.nsk >/dev/null; sed -i 's/crop/pad/;s/= stretch/= "
     "pad/' s",
     "budget s -m o.nsk", 2, "the model file was built for another [input]"},
    {"sed -i 's/= stretch/= pad/' s", "headroom s -m s.nsk", 2, "built for another [input]"},
    {"true", "headroom s -m k", 2, "k: not a model file"},
    /* words */
    {"sed -i 's/^colour/color/' k", "survey k", 2,
     "k:8: unknown key 'color' in [input]; did you mean "
     "'colour'?"},
    {"sed -i 's/^deviation/std/' k", "survey k", 2, "did you mean 'deviation'?"},
    {"sed -i 's/^.limits.$/[limit]/' k", "survey k", 2,
     "unknown group [limit]; did you mean 'limits'?"},
    {"sed -i 's/= stretch/= strech/' k", "survey k", 2, "did you mean 'stretch'?"},
    {"sed -i 's/= rgb/= gray/' k", "survey k", 2, "did you mean 'grey'?"},
    {"true", "quantize k -o q.nsk", 2, "did you mean 'quantise'?"},
    {"true", "compare k --prediction p.csv", 2, "did you mean --predictions?"},
    {"sed -i 's/^resting.*/resting = blet/' k", "rehearse k", 2, "resting: no label has this name"},
    {"sed -i 's/= crack;chip/= crack;chips/' k", "rehearse k", 2, "no label is called 'chips'"},
    {"sed -i 's#^file = .*trimmer.*#file = trimer#' k", "budget k", 2, "did you mean 'trimmer'?"},
    {"true", "budget k --board nedle", 2, "did you mean 'needle'?"},
    /* numbers */
    {"sed -i 's/^ram = .*/ram = 32/' k", "budget k", 2,
     "ram: '32' should be bytes, as in '64 KiB'"},
    {"sed -i 's/^latency = .*/latency = 80/' k", "budget k", 2,
     "latency: '80' should be a time, as in"},
    {"sed -i 's/^flash = .*/flash = 64 KB/' k", "budget k", 2, "flash: '64 KB' should be bytes"},
    {"sed -i 's/^loss = .*/loss = 1 ms/' k", "compare k", 2,
     "loss: '1 ms' should be points, as in"},
    {"sed -i 's/^threshold = .*/threshold = 60/' k", "rehearse k", 2,
     "threshold: '60' should be a share"},
    {"sed 's/= 80 MHz/= 80/' $D/../boards/trimmer.ini > b.ini", "budget k -b b.ini", 2,
     "clock: '80' should be a frequency, as in '80 MHz'"},
    {"sed 's/cortex-m4$/cortex-m99/; /costs/,$d' $D/../boards/trimmer.ini > b.ini",
     "budget k -b b.ini", 2, "no cost table came along for this board's core"},
    {"sed -i 's/= rgb/= grey/' k", "survey k", 2,
     "mean: grey pictures have one channel: give one number"},
    {"printf '[stages]\\nrefine-changes = noise;wobble\\n' >> k", "quantise k -o q.nsk", 2,
     "'all', or changes as 'netsuke stress' calls them"},
    {"true", "vet k --sample 0", 2, "--sample 0: a whole number from 1"},
    {"true", "rehearse k --frames 0", 2, "--frames 0: a whole number from 1"},
    {"true", "emit k -o e --frames -2", 2, "--frames -2: a whole number from 1"},
    {"true", "weigh k --jobs 0", 2, "--jobs 0: a whole number from 1"},
    {"true", "stress k --seed -1", 2, "--seed -1: a whole number from 0"},
    {"netsuke emit s -o e --frames 1 > log && make -s -C e > run.txt",
     "clock s --log run.txt --tick 0.001Hz", 2, "--tick 0.001Hz: the rate of the timer"},
    {"netsuke emit s -o e --frames 1 > log && make -s -C e > run.txt",
     "clock s --log run.txt --tick 1kHz", 2,
     "times the cycles that its table says; give the rate of the timer"},
    /* limits and the product */
    {"sed -i 's/^camera = .*/camera = 32x32/' k", "survey k", 2,
     "camera: 32x32 is smaller than the model's frames of 48x48"},
    {"sed -i 's/^camera = .*/camera = 128x128/' k", "rehearse k --scenes --frames 9", 2,
     "pictures of 64 x 64 are smaller than the camera's 128 x 128"},
    {"sed 's#= 3 /s#= 30 /s#; s#\\.\\./costs#'$D'/../costs#' $D/../boards/trimmer.ini > b.ini",
     "rehearse s -m s.nsk -b b.ini --frames 60", 1, "frames came while the device was busy"},
    {"sed -i 's/^missed = .*/missed = 0 %/; s/^threshold = .*/threshold = 99 %/' k",
     "rehearse k --scenes -m s.nsk", 1, "events missed"},
    {"true", "compare s --strict", 1, "images would settle it"},
    {"sed -i 's/^latency = .*/latency = 20 ms/' k", "budget k -m s.nsk", 1, "BROKEN"},
    {"true", "rehearse k --fault flod@3", 2, "--fault flod@3: a kind (flash, camera"},
    /* what is asked for */
    {"true", "outline k --plot o.pdf", 2, "--plot o.pdf: end the name in .svg or .png"},
    {"true", "survey k --sheet s.jpg", 2, "--sheet s.jpg: end the name in .png"},
    {"true", "classify k small", 0, "of 48 have a folder that tells"},
    {"head -c 30 /dev/zero > a.npy", "classify k 'a.npy[3]'", 2, "a.npy"},
};

static void each_is_named(void) {
    make_copy();
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        outcome o =
            drive("rm -rf \"$T/c\" && cp -r \"$T/m\" \"$T/c\" && D=$PWD/demo && cd \"$T/c\" && { "
                  "%s; } && netsuke %s",
                  cases[i].mistake, cases[i].command);
        char *both = g_strconcat(o.out, o.err, NULL);
        char *line = g_strdelimit(g_strdup(both), "\n", ' '); /* paragraphs are broken into lines */
        GString *flat = g_string_new(line);
        while (g_string_replace(flat, "  ", " ", 0) > 0) {
        }
        char *wanted = g_strdelimit(g_strdup(cases[i].said), "\n", ' ');
        bool said = strstr(flat->str, wanted) != NULL;
        bool one_line = cases[i].status < 2 || (o.out[0] == '\0' && strchr(o.err, '\n') != NULL &&
                                                strchr(o.err, '\n')[1] == '\0');
        if (o.status != cases[i].status || !said || !one_line) {
            fprintf(stderr, "\n    %s; netsuke %s\n    status %d, not %d; wanted '%s': %s\n",
                    cases[i].mistake, cases[i].command, o.status, cases[i].status, cases[i].said,
                    both);
        }
        CU_ASSERT_EQUAL(o.status, cases[i].status);
        CU_ASSERT(said);
        CU_ASSERT(one_line);
        g_string_free(flat, TRUE);
        g_free(wanted);
        g_free(line);
        g_free(both);
        outcome_clear(&o);
    }
}

/* Colours swapped, and what is judged on calibrated on, too: the whole assay says so. */
static void an_assay_is_not_fooled(void) {
    make_copy();
    JsonNode *root =
        drive_json(1, "cd \"$T/m\" && for c in $(cat labels.txt); do mkdir -p both/$c && cp "
                      "\"$OLDPWD\"/demo/images/held-out/$c/$c-00*.png both/$c; done && sed "
                      "\"s/= rgb/= bgr/; "
                      "s#= "
                      ".*images/[a-z-]*#= both#; /^scenes/d; /^variants/d\" k > a && netsuke assay "
                      "a -o out --json");
    GString *broken = g_string_new("");
    for (int i = 0; i < json_length(root, "verdict.findings"); i++) {
        char *standing = g_strdup_printf("verdict.findings.%d.standing", i);
        char *step = g_strdup_printf("verdict.findings.%d.step", i);
        if (strcmp(json_text(root, standing), "broken") == 0) {
            g_string_append_printf(broken, "%s ", json_text(root, step));
        }
        g_free(standing);
        g_free(step);
    }
    CU_ASSERT_STRING_EQUAL(broken->str, "survey vet ");
    CU_ASSERT_EQUAL(json_number(root, "holds"), 0.0);
    g_string_free(broken, TRUE);
    json_node_unref(root);
    outcome o = drive_for(1, "set -o pipefail; cd \"$T/m\" && netsuke assay a -o out | tail -30");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "makes figures worthless"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "trained with another"));
    CU_ASSERT_PTR_NULL(strstr(o.out, "every limit holds"));
    outcome_clear(&o);
}

/* Sets, and what is made of them. */
static const char *const kinds[] = {"small/held-out", "small/held-out.csv",
                                    "held-out-images-idx4-ubyte", "held-out.npy"};
static const char *const commands[] = {"survey",
                                       "vet",
                                       "quantise -o q.nsk",
                                       "compare --sheet f.png --predictions p.csv",
                                       "drift --sample 12",
                                       "stress --sample 12",
                                       "atlas --sample 20",
                                       "weigh --keep kept",
                                       "emit -o e-out",
                                       "rehearse --frames 10",
                                       "report -o r.html"};

/* The copy, its small set as arrays and lists, too. */
static void make_every_kind(void) {
    make_copy();
    outcome o = drive_for(
        0,
        "P=$PWD; cd \"$T/m\" && for s in calibration held-out; do (cd small/$s && for c in *; do "
        "for f in "
        "$c/*; do echo $s/$f,$c; done; done) > small/$s.csv; : > $s.raw; : > $s.lab; n=0; while "
        "IFS=, read -r "
        "f c; do (cd \"$P\" && '%s/frame-bytes' \"$T/m/small/$f\") >> $s.raw; printf "
        "\"\\\\$(printf %%03o $(("
        "$(grep -n \"^$c$\" labels.txt | cut -d: -f1) - 1)))\" >> $s.lab; done < small/$s.csv; "
        "{ printf '\\0\\0\\10\\4\\0\\0\\0\\30\\0\\0\\0\\60\\0\\0\\0\\60\\0\\0\\0\\3'; cat $s.raw; "
        "} > "
        "$s-images-idx4-ubyte; { printf '\\0\\0\\10\\1\\0\\0\\0\\30'; cat $s.lab; } > "
        "$s-labels-idx1-ubyte; h=\"{'descr': '|u1', 'fortran_order': False, 'shape': (24, 48, 48, "
        "3), }\"; "
        "{ printf '\\223NUMPY\\1\\0v\\0%%-117s\\n' \"$h\"; cat $s.raw; } > $s.npy; h=\"{'descr': "
        "'|u1', "
        "'fortran_order': False, 'shape': (24,), }\"; { printf '\\223NUMPY\\1\\0v\\0%%-117s\\n' "
        "\"$h\"; cat "
        "$s.lab; } > $s-labels.npy; done; ls",
        NSK_BINARY_DIR);
    outcome_clear(&o);
}

/* Every command takes sets as folders, lists and arrays of both kinds, and says the same of them.
 */
static void every_kind_of_set_serves(void) {
    make_every_kind();
    char *accuracy[G_N_ELEMENTS(kinds)];
    for (size_t k = 0; k < G_N_ELEMENTS(kinds); k++) {
        char *calibration = g_strdup(kinds[k]);
        char *at = strstr(calibration, "held-out");
        char *of =
            g_strdup_printf("%.*scalibration%s", (int)(at - calibration), calibration, at + 8);
        for (size_t c = 0; c < G_N_ELEMENTS(commands); c++) {
            outcome run =
                drive("cd \"$T/m\" && sed 's#^calibration = .*#calibration = %s#; "
                      "s#^held-out = .*#held-out "
                      "= %s#; s#kiln.onnx#kiln-third.onnx#; /^scenes/d%s' s > a && netsuke "
                      "%s a --json > j.json",
                      of, kinds[k], /* variants have a command of their own here */
                      g_str_has_prefix(commands[c], "report") ? "; /^variants/d" : "", commands[c]);
            if (run.status > 1) {
                fprintf(stderr, "\n    %s on %s: %s\n", commands[c], kinds[k], run.err);
            }
            CU_ASSERT(run.status == 0 || run.status == 1);
            outcome_clear(&run);
            if (c == 3) {
                run = drive("cd \"$T/m\" && grep '\"correct\"' j.json");
                accuracy[k] = g_strdup(run.out);
                outcome_clear(&run);
            }
        }
        CU_ASSERT_STRING_EQUAL(accuracy[k], accuracy[0]);
        g_free(of);
        g_free(calibration);
    }
    for (size_t k = 0; k < G_N_ELEMENTS(kinds); k++) {
        g_free(accuracy[k]);
    }
}

/* A picture of an array is classified as its file is. */
static void an_element_is_a_picture(void) {
    make_every_kind();
    outcome o = drive_for(
        0,
        "cd \"$T/m\" && netsuke classify s -m s.nsk 'held-out-images-idx4-ubyte[5]' | tail -n +2 "
        "> a1 && netsuke classify s -m s.nsk $(sed -n 6p small/held-out.csv | sed "
        "'s#^#small/#; s/,.*//') | tail -n +2 > a2 && cmp a1 a2");
    outcome_clear(&o);
}

/* A byte order mark, a label that is no folder's name, shares in percent: no mistakes. */
static void what_is_no_mistake(void) {
    make_copy();
    outcome o = drive_for(0, "cd \"$T/m\" && { printf '\\357\\273\\277'; sed 's/^loss.*/loss = 50 "
                             "%%/; s/^threshold.*/threshold = "
                             "60 %%/' s; } > bom && netsuke compare bom -m s.nsk > /dev/null && "
                             "sed -i 's/^drip$/drip\\/run/' "
                             "labels.txt && netsuke outline kiln.onnx > /dev/null && sed -i "
                             "'s/;drip//' s && netsuke outline s");
    outcome_clear(&o);
}

CU_TestInfo mistake_tests[] = {
    {"each is named", each_is_named},
    {"an assay is not fooled", an_assay_is_not_fooled},
    {"every kind of set serves", every_kind_of_set_serves},
    {"an element is a picture", an_element_is_a_picture},
    {"what is no mistake", what_is_no_mistake},
    CU_TEST_INFO_NULL,
};
