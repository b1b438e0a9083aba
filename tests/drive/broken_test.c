/* Broken input: one clear line, status 2, nothing half-written. */
#include <stdio.h>
#include <string.h>

#include "drive.h"

/* A copy of the demo in the scratch folder, that tests may break. */
static void fresh_copy(void) {
    outcome o =
        drive_for(0, "rm -rf \"$T/d\" && mkdir -p \"$T/d/images\" && cp demo/kiln.ini "
                     "demo/kiln.onnx demo/labels.txt \"$T/d/\" && cp -r boards costs \"$T/\" && "
                     "for s in calibration held-out; do for c in demo/images/$s/*/; do "
                     "d=\"$T/d/images/$s/$(basename $c)\"; mkdir -p \"$d\"; "
                     "cp $c/*-000[0-3].png \"$d\"; done; done");
    outcome_clear(&o);
}

/* What is done to the copy, the command, and what must be said. */
static const struct {
    const char *break_it, *command, *said;
} cases[] = {
    {"true", "netsuke frobnicate", "'frobnicate' is no command"},
    {"true", "netsuke survey", "survey takes BRIEF; see 'netsuke survey --help'"},
    {"true", "netsuke survey a b", "survey takes BRIEF"},
    {"true", "netsuke survey --colour x", "Unknown option --colour; see 'netsuke survey --help'"},
    {"true", "netsuke survey nowhere.ini", "nowhere.ini: No such file"},
    {"true", "netsuke quantise k", "say where the model goes"},
    {"true", "netsuke rehearse k --frames -3",
     "--frames -3: a whole number from 1 to 1000000 is needed"},
    {"echo 'wdith = 3' >> k", "netsuke survey k", "unknown key 'wdith' in [report]"},
    {"sed -i 's/kiln.onnx/none.onnx/' k", "netsuke outline k", "none.onnx: No such file"},
    {"truncate -s 90000 kiln.onnx", "netsuke outline k",
     "kiln.onnx: not an ONNX model, or cut short"},
    {"head -c 5000 /dev/urandom > kiln.onnx", "netsuke compare k", "kiln.onnx: not an ONNX model"},
    {": > kiln.onnx", "netsuke outline kiln.onnx", "kiln.onnx: not an ONNX model"},
    {"sed -i 's/48x48/40x48/' k", "netsuke outline k",
     "the input's width is 48 in the file and 40 in the brief"},
    {"sed -i 's/= rgb/= grey/;/^mean/d;/^deviation/d' k", "netsuke outline k",
     "the input's count of channels is 3"},
    {"sed -i '$d' labels.txt; rm -rf images/*/drip; sed -i 's/^resting.*//; s/;drip / /' k",
     "netsuke compare k", "has 6 outputs, the labels file has 5 names"},
    {"sed -i 's/drip/drips/' labels.txt k", "netsuke compare k", "no label is called 'drip'"},
    {"rm images/held-out/chip/*", "netsuke compare k", "no image in this class's folder"},
    {"rm -r images/held-out/*", "netsuke survey k", "label 'belt' has no folder here"},
    {"rm -r images/held-out", "netsuke survey k", "images/held-out"},
    {"truncate -s 300 images/held-out/drip/drip-0002.png", "netsuke compare k",
     "drip-0002.png: not a readable PNG"},
    {"truncate -s 300 images/calibration/drip/drip-0002.png", "netsuke quantise k -o k.nsk",
     "drip-0002.png: not a readable PNG"},
    {"mkdir empty", "netsuke classify k empty", "empty: no image in this folder"},
    {"true", "netsuke classify k labels.txt", "labels.txt: not a PNG, JPEG, BMP or PNM"},
    {"true", "netsuke classify k - < labels.txt", "standard input: not a PNG, JPEG, BMP or PNM"},
    {"true", "netsuke outline k --plot p.gif", "p.gif: end the name in .svg or .png"},
    {"true", "netsuke outline k --plot nowhere/p.svg", "nowhere/p.svg: cannot be written"},
    {"true", "netsuke survey k --sheet nowhere/s.png", "nowhere/s.png: cannot be written"},
    {"true", "netsuke quantise k -o k.nsk --onnx nowhere/k.onnx", "nowhere/k.onnx: cannot be"},
    {"sed -i 's/^fit.*/resample = cubic/' k", "netsuke vet k", "resample"},
    {"printf 'a.png,belt\\n' > l.csv", "netsuke vet k --held-out l.csv",
     "l.csv: no image has the label 'sound'"},
    {"printf '\\0\\0\\10\\3' > l.idx", "netsuke survey k --held-out l.idx",
     "l.idx: which file holds its labels?"},
    {"sed -i 's/trimmer/hammer/' k", "netsuke budget k", "hammer.ini: No such file"},
    {"printf '[conv2]\\ncall = 3\\n' >> ../costs/cortex-m4.ini", "netsuke budget k",
     "unknown group [conv2]; did you mean 'conv'"},
    {"sed -i '/^\\[board\\]/,/^file/d' k", "netsuke budget k", "the brief names no board"},
    {"true", "netsuke compare k --model labels.txt",
     "labels.txt: not a model file; 'netsuke quantise' makes one"},
    {"netsuke quantise k -o k.nsk >/dev/null && truncate -s 20000 k.nsk",
     "netsuke budget k --model k.nsk", "k.nsk: cut short; copy it again"},
    {"netsuke quantise k -o k.nsk >/dev/null && printf X | dd of=k.nsk bs=1 seek=9000 "
     "conv=notrunc status=none",
     "netsuke rehearse k --model k.nsk",
     "k.nsk: damaged: its checksum is wrong; copy it again, or build it again with"},
    {"netsuke quantise k -o k.nsk >/dev/null && printf '\\5' | dd of=k.nsk bs=1 seek=4 "
     "conv=notrunc status=none",
     "netsuke budget k --model k.nsk",
     "k.nsk: of another version; build it again with 'netsuke quantise'"},
    {"netsuke quantise k -o k.nsk >/dev/null && sed -i 's/crop/crop/;s/stretch/crop/' k",
     "netsuke compare k --model k.nsk", "the model file was built for another [input]"},
    {"printf '[ranges]\nevery = widest\n' >> k", "netsuke quantise k -o k.nsk", "every"},
    {"printf '[ranges]\nconv99 = extremes\n' >> k", "netsuke quantise k -o k.nsk",
     "[ranges] conv99: no layer has this name"},
    {"printf '[stages]\nrounding = maybe\n' >> k", "netsuke drift k", "rounding"},
    {"printf '[schedule]\nstreamed = often\n' >> k", "netsuke budget k", "streamed"},
    {"true", "netsuke budget k --plot p.gif", "p.gif: end the name in .svg or .png"},
    {"true", "netsuke probe k images/held-out/crack/crack-0003.png -o t.npy",
     "say which layer to write: --layer NAME"},
    {"true", "netsuke probe k images/held-out/crack/crack-0003.png --layer nothing",
     "no layer is called 'nothing'"},
    {"true", "netsuke probe k labels.txt", "labels.txt: not a PNG, JPEG, BMP or PNM"},
    {"true", "netsuke drift k --sample 6 --plot p.gif", "p.gif: end the name in .svg or .png"},
    {"true", "netsuke rehearse k --fault flood@3", "--fault flood@3: a kind (flash, camera"},
    {"true", "netsuke rehearse k --scene nowhere.csv", "nowhere.csv"},
    {"echo picture,truth > s.csv", "netsuke rehearse k --scene s.csv", "s.csv: no pictures in it"},
    {"echo a.png,blet > s.csv", "netsuke rehearse k --scene s.csv",
     "s.csv:1: no label is called 'blet'"},
    {"echo 'a.npy[3],belt' > s.csv", "netsuke rehearse k --scene s.csv", "a.npy"},
    {"sed -i '/^scenes/d' k", "netsuke rehearse k --scenes",
     "k: no scenes; name them under [rehearsal]"},
    {"sed -i 's/^reject = /reject = belt;/' k", "netsuke rehearse k",
     "'belt' is the resting class"},
    {"sed -i 's/^reject = /reject = chop;/' k", "netsuke rehearse k", "no label is called 'chop'"},
    {"sed -i 's/^camera = .*/camera = 64/' k", "netsuke budget k", "camera: width x height"},
    {"sed -i 's/^holds = .*/holds = 9 mW/' k", "netsuke budget k",
     "should be energy, as in '9 Wh'"},
    {"true", "netsuke clock k", "--log: 0 given"},
    {"true", "netsuke clock k --log nowhere.txt", "nowhere.txt"},
    {"echo hello > run.txt", "netsuke clock k --log run.txt",
     "run.txt: no line 'layer INDEX TICKS NAME'"},
    {"echo hello > run.txt", "netsuke clock k --log run.txt --tick fast", "--tick fast: the rate"},
    {"true", "netsuke report k", "report wants -o R.html"},
    {"sed -i '/^scenes/d; /^variants/d' k", "netsuke report k -o nowhere/r.html", "nowhere/r.html"},
    {"true", "netsuke assay k", "assay wants -o DIR"},
    {"true", "netsuke assay k -o k", "--output k: this is read by the same command"},
    {"true", "netsuke weigh k nowhere.ini --sample 12", "nowhere.ini"},
    {"printf '[vary]\nmodel = kiln.onnx;;x\n' >> k", "netsuke weigh k",
     ": model: a value between two"},
    {"printf '[vary]\nmodel = kiln.onnx;no.onnx\n' >> k", "netsuke weigh k --sample 12 --keep kept",
     "no.onnx"},
    {"printf '[vary]\nranges = extremes;widest\n' >> k", "netsuke weigh k --sample 12", "widest"},
    {"printf '[vary]\nsize = 48x48;20x20\n' >> k", "netsuke weigh k --sample 12", "20"},
    {"true", "netsuke weigh k --only j --sample 12", "--only j: no variant has this name"},
    {"true", "netsuke weigh k --keep k --sample 12", "k: the folder cannot be made"},
    {"true", "netsuke weigh k --sample 12 --points nowhere/w.csv", "nowhere/w.csv: cannot be"},
    {"true", "netsuke weigh k --sample 12 --plot w.gif", "w.gif: end the name in .svg or .png"},
    {"true", "netsuke atlas k --sample 2", "an atlas takes 3 to 2000; say how many by --sample"},
    {"true", "netsuke atlas k --sample 12 --points nowhere/a.csv",
     "nowhere/a.csv: cannot be written"},
    {"netsuke quantise k -o m.nsk > log.txt", "netsuke compare k --split --model m.nsk",
     "--split is of the model that the brief describes; leave out --model"},
    {"sed -i 's/^calibration-limit.*/calibration-limit = 24/' k",
     "netsuke quantise k -o m.nsk --gains",
     "--gains: 5 calibration images of a class at least are wanted"},
    {"true", "netsuke quantise k -o m.nsk --refine",
     "k: refining wants labelled training images: name them as [images] training"},
    {"true", "netsuke quantise k -o m.nsk --refine --training nowhere", "nowhere"},
    {"true", "netsuke quantise k -o m.nsk --learned l.onnx", "nothing is learned without --refine"},
    {"true", "netsuke quantise k -o m.nsk --training images/calibration --teacher nowhere.onnx",
     "nowhere.onnx"},
    {"printf '[stages]\nrefine = yes\n' >> k", "netsuke compare k",
     "refining wants labelled training images"},
    {"printf '[stages]\nrefine-epochs = 2.5\n' >> k", "netsuke quantise k -o m.nsk",
     "refine-epochs"},
    {"true", "netsuke compare k --plot p.gif", "p.gif: end the name in .svg or .png"},
    {"true", "netsuke compare k --sheet nowhere/f.png", "nowhere/f.png: cannot be written"},
    {"true", "netsuke stress k --sample 6 --plot p.gif", "p.gif: end the name in .svg or .png"},
    {"true", "netsuke budget k --plot nowhere/p.svg", "nowhere/p.svg: cannot be written"},
    {"sed -i '/^\\[board\\]/,/^file/d' k", "netsuke quantise k -o k.nsk --ordered",
     "--ordered: for which core?"},
    {"true", "netsuke quantise k -o k.nsk --array k.c --board b", "b: "},
    {"true", "netsuke quantise k -o nowhere/k.nsk", "nowhere/k.nsk: cannot be written"},
    {"true", "trap '' XFSZ && ulimit -f 8 && netsuke quantise k -o k.nsk",
     "k.nsk: cannot be written"},
    {"true", "netsuke compare k --predictions nowhere/p.csv", "nowhere/p.csv: cannot be written"},
    {"true", "netsuke quantise k -o k.nsk --array k.c --array-name 9x", "'9x' cannot be a C name"},
    {"mkfifo p.onnx", "netsuke outline p.onnx", "p.onnx: this is a device or a pipe"},
    {"sed -i 's#= kiln.onnx#= /dev/zero#' k", "netsuke outline k", "/dev/zero: this is a device"},
    {"rm labels.txt; mkfifo labels.txt", "netsuke outline k", "labels.txt: this is a device or"},
    {"mkfifo p.png", "netsuke classify k p.png", "p.png: this is a device or a pipe"},
    {"mkfifo p.npy", "netsuke classify k 'p.npy[0]'", "p.npy: this is no file"},
    {"sed -i 's/^flash = .*/flash =/' k", "netsuke budget k", "'flash' has no value; give it one"},
    {"sed -i 's/^mean = .*/mean = # as it was/' k", "netsuke vet k", "'mean' has no value"},
    {"seq -f '[g%.0f]' 100000 >> k", "ulimit -t 9 && netsuke survey k", "unknown group [g1]"},
    {"{ echo '[ranges]'; seq -f 'l%.0f=extremes' 60000; } >> k",
     "ulimit -t 9 && netsuke quantise k -o k.nsk", "[ranges] l1: no layer has this name"},
    {"printf '[model]\\nfi\\033[2Jle = x\\n' > k", "netsuke survey k", "unknown key 'fi?[2Jle'"},
    {"true", "netsuke outline \"$(printf 'a\\033]0;b')\"", "a?]0;b: No such file"},
    {"true", "netsuke quantise k -o k", "--output k: this is read by the same command"},
    {"true", "netsuke quantise k -o kiln.onnx", "kiln.onnx: this is read by the same command"},
    {"true", "netsuke quantise k -o ./images/../labels.txt", "this is read by the same command"},
    {"ln -s kiln.onnx l", "netsuke quantise k -o l", "--output l: this is read by the same"},
    {"true", "netsuke survey k --sheet images/held-out/chip/chip-0001.png",
     "it would stand in a folder that the same command reads"},
    {"true", "netsuke survey k --sheet images/held-out/chip/new.png",
     "it would stand in a folder that the same command reads"},
    {"true", "netsuke compare k --predictions ../boards/trimmer.ini",
     "trimmer.ini: this is read by the same command"},
    {"true", "netsuke quantise k -o m.nsk --array ./m.nsk",
     "--output and --array are both ./m.nsk"},
    {"true", "netsuke quantise k -o /dev/null", "/dev/null: a device or a pipe"},
    {"mkfifo p.svg", "netsuke compare k --plot p.svg", "--plot p.svg: a device or a pipe"},
};

static void mistakes_get_one_line(void) {
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        fresh_copy();
        drive_fails(cases[i].said, "cd \"$T/d\" && mv kiln.ini k && { %s; } && %s",
                    cases[i].break_it, cases[i].command);
    }
}

/* A failed write leaves the old file as it was, and nothing beside it. */
static void nothing_is_half_written(void) {
    fresh_copy();
    outcome o = drive_for(0, "cd \"$T/d\" && echo old > k.nsk && "
                             "truncate -s 300 images/calibration/belt/belt-0001.png; "
                             "netsuke quantise kiln.ini -o k.nsk 2>/dev/null; "
                             "test \"$(cat k.nsk)\" = old && test \"$(ls | wc -l)\" = 5");
    outcome_clear(&o);
}

/* Unless someone means it. */
static void force_writes_all_the_same(void) {
    fresh_copy();
    outcome o =
        drive_for(0, "cd \"$T/d\" && netsuke survey kiln.ini --tolerant --force --sheet "
                     "images/held-out/chip/new.png && head -c 4 images/held-out/chip/new.png");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "PNG"));
    outcome_clear(&o);
}

static void tolerance_goes_on(void) {
    fresh_copy();
    outcome o = drive_for(0, "cd \"$T/d\" && mkdir images/held-out/dust && "
                             "truncate -s 300 images/held-out/drip/drip-0002.png && "
                             "netsuke compare kiln.ini --tolerant --json");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "\"images\" : 23"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "netsuke: left out images/held-out/dust"));
    outcome_clear(&o);
}

static void overlap_is_found(void) {
    fresh_copy();
    JsonNode *root = drive_json(1, "cd \"$T/d\" && cp images/calibration/chip/chip-0000.png "
                                   "images/held-out/sound/ && netsuke survey kiln.ini --json");
    CU_ASSERT_EQUAL(json_number(root, "overlap"), 1);
    json_node_unref(root);
}

/* A spreadsheet takes a cell that begins like that for a formula. */
static void cells_are_no_formulas(void) {
    fresh_copy();
    outcome o = drive_for(0, "cd \"$T/d\" && mv images/held-out '=1+1' && netsuke compare kiln.ini "
                             "--held-out '=1+1' --predictions p.csv >/dev/null && grep -c "
                             "\"^\\\"'=1+1/\" p.csv");
    CU_ASSERT_STRING_EQUAL(o.out, "24\n");
    outcome_clear(&o);
}

/* Pictures of other sizes, and JPEG, in a folder whose name needs quoting in CSV. */
static void mixed_pictures_are_compared(void) {
    fresh_copy();
    outcome o =
        drive_for(0,
                  "cd \"$T/d\" && '%s/resave' images/held-out/drip/drip-0000.png 96 80 "
                  "images/held-out/drip/large.JPG && rm images/held-out/drip/drip-*.png && "
                  "'%s/resave' images/held-out/belt/belt-0000.png 31 50 "
                  "images/held-out/belt/small.jpeg && mv images/held-out 'images/held, \"out\"' "
                  "&& netsuke compare kiln.ini --held-out 'images/held, \"out\"' "
                  "--predictions p.csv --json && grep -c '^\"images/held, \"\"out\"\"/' p.csv "
                  ">&2",
                  NSK_BINARY_DIR, NSK_BINARY_DIR);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "\"images\" : 22"));
    CU_ASSERT(g_str_has_prefix(o.err, "22\n") || g_str_has_suffix(o.err, "\n22\n"));
    outcome_clear(&o);
    o = drive_for(0, "cd \"$T/d\" && netsuke survey kiln.ini --held-out 'images/held, \"out\"'");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "mixed sizes, 31 to 96 wide and 48 to 80 high"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "UNEVEN       5 of 'belt', 1 of 'drip'"));
    outcome_clear(&o);
}

/* Swapped labels are not an error, and must show: accuracy falls with them. */
static void wrong_label_order_shows(void) {
    fresh_copy();
    JsonNode *root = drive_json(0, "cd \"$T/d\" && printf 'sound\\nbelt\\ncrack\\nchip\\npinhole\\n"
                                   "drip\\n' > labels.txt && netsuke compare kiln.ini --json");
    CU_ASSERT(json_number(root, "float.accuracy") < 0.75);
    json_node_unref(root);
}

CU_TestInfo broken_tests[] = {
    {"mistakes get one line", mistakes_get_one_line},
    {"--force writes all the same", force_writes_all_the_same},
    {"nothing is half-written", nothing_is_half_written},
    {"--tolerant goes on", tolerance_goes_on},
    {"overlap is found", overlap_is_found},
    {"cells are no formulas", cells_are_no_formulas},
    {"mixed pictures are compared", mixed_pictures_are_compared},
    {"a wrong order of labels shows", wrong_label_order_shows},
    CU_TEST_INFO_NULL,
};
