/* What programs read: JSON, CSV, and that all ways to a score give the same. */
#include <math.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include "drive.h"

static void survey_json(void) {
    JsonNode *root = drive_json(0, "netsuke survey demo/kiln.ini --json");
    CU_ASSERT(json_number(root, "other_light.images") >=
              json_number(root, "other_light.brightness.outside"));
    CU_ASSERT(json_number(root, "other_light.warmth.low") <
              json_number(root, "other_light.warmth.high"));
    CU_ASSERT_EQUAL(json_length(root, "sets"), 2);
    CU_ASSERT_STRING_EQUAL(json_text(root, "sets.0.name"), "calibration");
    CU_ASSERT_STRING_EQUAL(json_text(root, "sets.1.name"), "held-out");
    CU_ASSERT_EQUAL(json_number(root, "sets.1.images"), 1200);
    CU_ASSERT_STRING_EQUAL(json_text(root, "sets.1.classes.4.name"), "pinhole");
    CU_ASSERT_EQUAL(json_number(root, "sets.1.classes.4.images"), 200);
    CU_ASSERT_EQUAL(json_number(root, "overlap"), 0);
    CU_ASSERT_EQUAL(json_number(root, "exact_repeats.both_sets"), 0);
    CU_ASSERT_EQUAL(json_length(root, "sets.0.mean"), 3);
    CU_ASSERT_EQUAL(json_number(root, "sets.1.most_size.0"), 48);
    json_node_unref(root);
}

/* Mistakes of the brief are caught and named: colour order, a dropped deviation, two labels. */
static void vet_json(void) {
    static const char *const fresh =
        "rm -rf \"$T/v\" && mkdir \"$T/v\" && sed \"s#images/#$PWD/demo/images/#;s#kiln.onnx#"
        "$PWD/demo/kiln.onnx#\" demo/kiln.ini > \"$T/v/k.ini\" && cp demo/labels.txt \"$T/v/\"";
    static const struct {
        int sample;
        const char *mistake, *better;
    } cases[] = {
        {400, "sed -i 's/= rgb/= bgr/' k.ini", "colour = rgb"},
        {120, "sed -i '/^deviation/d' k.ini", "deviation = 0.2"},
        {120, "printf 'belt\\nsound\\nchip\\ncrack\\npinhole\\ndrip\\n' > labels.txt", NULL},
    };
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        JsonNode *root = drive_json(1,
                                    "%s && cd \"$T/v\" && %s && netsuke vet k.ini --json --sample "
                                    "%d",
                                    fresh, cases[i].mistake, cases[i].sample);
        if (cases[i].better != NULL) {
            CU_ASSERT_PTR_NOT_NULL(strstr(json_text(root, "better.change"), cases[i].better));
            CU_ASSERT(json_number(root, "better.accuracy") > json_number(root, "accuracy"));
        }
        /* whatever the labels file says, outputs 2 and 3 are crack and chip */
        CU_ASSERT_STRING_EQUAL(json_text(root, "labels.order.2"), "crack");
        CU_ASSERT_STRING_EQUAL(json_text(root, "labels.order.3"), "chip");
        json_node_unref(root);
    }
}

static void drift_json(void) {
    JsonNode *root = drive_json(0, "netsuke drift demo/kiln.ini --sample 24 --json");
    CU_ASSERT_EQUAL(json_number(root, "images"), 24);
    CU_ASSERT_EQUAL(json_length(root, "layers"), 14);
    CU_ASSERT_STRING_EQUAL(json_text(root, "layers.0.name"), "conv1");
    CU_ASSERT(json_number(root, "layers.0.sqnr_db") > 20.0);
    CU_ASSERT(json_number(root, "layers.10.alone_db") >= json_number(root, "layers.10.sqnr_db"));
    CU_ASSERT_EQUAL(json_length(root, "layers.0.channels_db"), 16);
    CU_ASSERT_EQUAL(json_length(root, "layers.12.channels_db"), 6);
    char *worst = g_strdup_printf("layers.9.channels_db.%d",
                                  (int)json_number(root, "layers.9.worst_channel"));
    CU_ASSERT_EQUAL(json_number(root, worst), json_number(root, "layers.9.worst_channel_db"));
    g_free(worst);
    CU_ASSERT_EQUAL(json_number(root, "regain.images"), 24);
    CU_ASSERT_EQUAL(json_length(root, "regain.layers"), 13);
    CU_ASSERT(json_number(root, "regain.layers.0.right") >= json_number(root, "regain.right"));
    json_node_unref(root);
}

static void probe_json(void) {
    JsonNode *root =
        drive_json(0, "netsuke probe demo/kiln.ini demo/images/held-out/chip/chip-0041.png --json");
    CU_ASSERT_EQUAL(json_length(root, "layers"), 14);
    CU_ASSERT_STRING_EQUAL(json_text(root, "layers.0.name"), "conv1");
    CU_ASSERT_EQUAL(json_number(root, "layers.13.channels"), 6);
    CU_ASSERT_DOUBLE_EQUAL(json_number(root, "layers.13.scale"), 0x1p-30, 1e-15);
    CU_ASSERT(json_number(root, "layers.0.sqnr_db") > 20.0);
    CU_ASSERT(json_number(root, "layers.3.float_high") > json_number(root, "layers.3.float_low"));
    json_node_unref(root);
}

static void stress_json(void) {
    JsonNode *root = drive_json(0, "netsuke stress demo/kiln.ini --sample 18 --seed 4 --json");
    CU_ASSERT_EQUAL(json_number(root, "images"), 18);
    CU_ASSERT_EQUAL(json_number(root, "seed"), 4);
    CU_ASSERT(json_number(root, "unchanged.float_correct") >= 15);
    CU_ASSERT_EQUAL(json_length(root, "changes"), 55); /* too few belts for the backgrounds */
    CU_ASSERT_STRING_EQUAL(json_text(root, "changes.4.change"), "darker");
    CU_ASSERT_EQUAL(json_number(root, "changes.4.amount"), 25);
    CU_ASSERT(json_number(root, "changes.4.float_correct") < 15);
    json_node_unref(root);
}

static void atlas_json(void) {
    JsonNode *root = drive_json(0, "netsuke atlas demo/kiln.ini --sample 60 --json");
    CU_ASSERT_EQUAL(json_number(root, "numbers"), 128);
    CU_ASSERT_EQUAL(json_length(root, "images"), 60);
    CU_ASSERT_STRING_EQUAL(json_text(root, "images.0.label"), "belt");
    CU_ASSERT_STRING_EQUAL(json_text(root, "images.0.integer.answer"), "belt");
    CU_ASSERT(json_number(root, "images.0.float.neighbours_of_its_own") >= 8);
    CU_ASSERT(json_number(root, "spread.0") > json_number(root, "spread.1"));
    json_node_unref(root);
}

static void neighbours_json(void) {
    JsonNode *root = drive_json(0, "netsuke atlas demo/kiln.ini --sample 90 --neighbours --json");
    CU_ASSERT_EQUAL(json_length(root, "images"), 90);
    CU_ASSERT(json_number(root, "kept") > 0.4);
    json_node_unref(root);
}

static void weigh_json(void) {
    JsonNode *root = drive_json(0, "netsuke weigh demo/kiln.ini demo/kiln-third.ini --sample 120 "
                                   "--json --points \"$T/w.csv\" --plot \"$T/w.svg\"");
    CU_ASSERT_EQUAL(json_length(root, "variants"), 2);
    CU_ASSERT_STRING_EQUAL(json_text(root, "variants.0.name"), "kiln");
    CU_ASSERT_STRING_EQUAL(json_text(root, "variants.1.model"), "kiln-third.onnx");
    CU_ASSERT_EQUAL(json_number(root, "variants.1.images"), 120);
    CU_ASSERT(json_number(root, "variants.0.integer_accuracy") >
              json_number(root, "variants.1.integer_accuracy"));
    CU_ASSERT(json_number(root, "variants.0.flash") > json_number(root, "variants.1.flash"));
    CU_ASSERT(json_number(root, "variants.1.accuracy_low") <
              json_number(root, "variants.1.integer_accuracy"));
    json_node_unref(root);
    outcome o = drive_for(0, "wc -l < \"$T/w.csv\" && grep -c '<svg' \"$T/w.svg\"");
    CU_ASSERT_STRING_EQUAL(o.out, "3\n1\n");
    outcome_clear(&o);
    o = drive_for(1, "netsuke weigh demo/kiln.ini demo/kiln-third.ini --sample 60 --board "
                     "boards/needle.ini");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "all  "));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "board needle"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "* kiln-third "));
    outcome_clear(&o);
}

/* Eight variants from one brief's lists, spread over processes by another program: each command is
 * whole by itself, and what they found is there for all of them together. */
static void variants_are_spread(void) {
    outcome o =
        drive_for(0, "netsuke weigh demo/variants.ini --sample 60 --keep \"$T/kept\" --list > "
                     "\"$T/list\" && wc -l < \"$T/list\" && cd / && parallel -j2 --halt "
                     "now,fail=1 < \"$T/list\" > \"$T/log\" && ls \"$T/kept\" | wc -l");
    CU_ASSERT_STRING_EQUAL(o.out, "8\n16\n");
    outcome_clear(&o);
    JsonNode *root =
        drive_json(1, "touch \"$T/before\" && netsuke weigh demo/variants.ini --sample 60 "
                      "--keep \"$T/kept\" --json");
    CU_ASSERT_EQUAL(json_length(root, "variants"), 8);
    CU_ASSERT_STRING_EQUAL(json_text(root, "variants.7.name"), "kiln-64-half");
    CU_ASSERT_STRING_EQUAL(json_text(root, "variants.7.input"), "64x64");
    json_node_unref(root);
    o = drive_for(0, "find \"$T/kept\" -newer \"$T/before\" -type f | wc -l");
    CU_ASSERT_STRING_EQUAL(o.out, "0\n"); /* nothing was measured again */
    outcome_clear(&o);
}

/* "$T/w/k": the third network with four pictures a class. */
static void make_few(void) {
    outcome o = drive_for(
        0, "rm -rf \"$T/w\"; mkdir -p \"$T/w/i\" && for c in $(cat demo/labels.txt); do mkdir "
           "\"$T/w/i/$c\" && cp demo/images/held-out/$c/$c-000[0-3].png \"$T/w/i/$c\"; done && cp "
           "demo/labels.txt demo/kiln-third.onnx \"$T/w\" && sed 's#images/[a-z-]*#i#; "
           "s#\\.\\./boards#'$PWD'/boards#' demo/kiln-third.ini > \"$T/w/k\"");
    outcome_clear(&o);
}

/* A picture that changes makes another measurement, and so does a recipe; a limit does not. */
static void measurements_are_kept_by_content(void) {
    make_few();
    outcome o = drive_for(
        0, "cd \"$T/w\" && weigh() { netsuke weigh k --keep kept > log; ls kept | wc -l; } && "
           "weigh && sed -i 's/loss = .*/loss = 90/' k && weigh && printf '[stages]\nrounding = "
           "no\n' >> k && weigh && cp i/belt/belt-0000.png i/belt/belt-0001.png && weigh && rm "
           "kept/*.nsk && weigh");
    CU_ASSERT_STRING_EQUAL(o.out, "2\n2\n4\n6\n4\n");
    outcome_clear(&o);
}

/* A model that a command has made is there for the next; what it depends on is in its name. */
static void made_models_are_kept(void) {
    static const char *const steps[][2] = {
        {"says first > a && ls $M | wc -l", "1\n"},
        {"netsuke quantise first -o m.nsk > log && cmp m.nsk $M/*", ""}, /* what is made anew */
        {"says second > b && ls $M | wc -l && says first | cmp - a", "2\n"},
        {"rm $M/*; says first | cmp - a && truncate -s 999 $M/* && says first | cmp - a", ""},
        {"cmp m.nsk $M/*", ""},
        /* it is what is read: the gated network's in its place */
        {"netsuke quantise \"$OLDPWD/demo/kiln-gated.ini\" -o g.nsk > log && for m in $M/*; do cp "
         "g.nsk $m; done && says first > c && says first -m g.nsk | cmp - c && ! cmp -s a c",
         ""},
        {"XDG_CACHE_HOME=/dev/null says first | cmp - a", ""},
        /* the hundred that were used last stay */
        {"rm $M/*; for i in $(seq 100); do touch -d \"2020-01-01 $i minutes\" $M/$i.nsk; done; "
         "says "
         "first > a; ls $M | wc -l; ls $M | grep '^1[.]'",
         "100\n"}};
    make_few();
    for (size_t i = 0; i < G_N_ELEMENTS(steps); i++) {
        outcome o =
            drive("export XDG_CACHE_HOME=\"$T/kept\"; M=\"$T/kept/netsuke/models\"; says() { "
                  "netsuke budget \"$@\" --json; }; cd \"$T/w\" && cp k first && { cat first; "
                  "printf '[stages]\nrounding = no\n'; } > second || exit 9; %s",
                  steps[i][0]);
        CU_ASSERT_EQUAL(o.status, i + 1 < G_N_ELEMENTS(steps) ? 0 : 1); /* grep's at the end */
        CU_ASSERT_STRING_EQUAL(o.out, steps[i][1]);
        CU_ASSERT_STRING_EQUAL(o.err, "");
        outcome_clear(&o);
    }
}

static void split_json(void) {
    JsonNode *root = drive_json(0, "netsuke compare demo/kiln.ini --split --json");
    CU_ASSERT_EQUAL(json_number(root, "split.float"), json_number(root, "float.correct"));
    CU_ASSERT(json_number(root, "split.preparation") > 1100);
    CU_ASSERT(json_number(root, "split.weights") > 1100);
    CU_ASSERT_EQUAL(json_number(root, "split.stored"), json_number(root, "split.float"));
    json_node_unref(root);
    /* behind a mosaic of no more pixels than the network's, each of them misses two colours */
    root = drive_json(0, "sed 's#images/#'$PWD'/demo/images/#; s#kiln-third.onnx#'$PWD'/demo/&#; "
                         "s#labels.txt#'$PWD'/demo/&#; s#\\.\\./boards#'$PWD'/boards#' "
                         "demo/kiln-third.ini > \"$T/eye.ini\" && printf '[camera]\\nformat = "
                         "bggr\\n' >> \"$T/eye.ini\" && netsuke compare \"$T/eye.ini\" --split "
                         "--json");
    CU_ASSERT(json_number(root, "split.stored") - json_number(root, "split.float") > 20);
    CU_ASSERT_EQUAL(json_number(root, "split.float"), json_number(root, "float.correct"));
    json_node_unref(root);
}

static void gains_json(void) {
    JsonNode *root = drive_json(0, "netsuke quantise demo/kiln.ini -o \"$T/g.nsk\" --gains --json");
    CU_ASSERT_EQUAL(json_length(root, "gains"), 4);
    CU_ASSERT_STRING_EQUAL(json_text(root, "gains.0.stage"), "ranges alone");
    CU_ASSERT_STRING_EQUAL(json_text(root, "gains.3.stage"), "biases settled");
    CU_ASSERT_EQUAL(json_number(root, "gains.2.images"), 36);
    CU_ASSERT(json_number(root, "gains.1.scores_db") > 25.0);
    CU_ASSERT(json_number(root, "gains.1.agree") >= 34);
    json_node_unref(root);
}

/* The brief's own stage, one epoch of it: once for the model, once as the last of the gains. */
static void refined_json(void) {
    JsonNode *root =
        drive_json(0, "sed \"s#images/#$PWD/demo/images/#;s#kiln.onnx#$PWD/demo/kiln-third.onnx#;"
                      "s#labels.txt#$PWD/demo/labels.txt#;s#\\.\\./boards#$PWD/boards#;"
                      "s#limit = 200#limit = 60#\" demo/kiln.ini > \"$T/refined.ini\" && "
                      "printf \"[images]\\ntraining = $PWD/demo/images/calibration\\n"
                      "[stages]\\nrefine = yes\\nrefine-epochs = 1\\n\" >> \"$T/refined.ini\" && "
                      "netsuke quantise \"$T/refined.ini\" -o \"$T/refined.nsk\" --gains --json");
    CU_ASSERT_EQUAL(json_number(root, "refined.learned_from"), 288);
    CU_ASSERT_EQUAL(json_number(root, "refined.aside"), 72);
    CU_ASSERT_EQUAL(json_number(root, "refined.epochs"), 1);
    double before = json_number(root, "refined.loss_before");
    CU_ASSERT(before > 0.2 && before < 0.8);
    CU_ASSERT_EQUAL(json_number(root, "refined.loss") < before,
                    json_number(root, "refined.best_epoch") == 1);
    CU_ASSERT(json_number(root, "refined.right") > 50);
    CU_ASSERT_EQUAL(json_length(root, "gains"), 5);
    CU_ASSERT_STRING_EQUAL(json_text(root, "gains.4.stage"), "weights refined");
    json_node_unref(root);
}

/* What was learned is a network like any other, and a teacher leaves its mark on it. */
static void learned_networks(void) {
    outcome o = drive_for(
        0,
        "for t in '' '--teacher demo/kiln.onnx'; do netsuke quantise demo/kiln-third.ini --refine "
        "$t --training demo/images/calibration --learned \"$T/learned.onnx\" -o \"$T/l.nsk\" | "
        "grep -cE 'weights refined|/learned.onnx|^teacher' && cksum < \"$T/learned.onnx\" && sed "
        "\"s#= kiln-third.onnx#= "
        "$T/learned.onnx#; s#= images#= $PWD/demo/images#; s#= labels#= $PWD/demo/labels#; s#= "
        "\\.\\.#= $PWD#\" demo/kiln-third.ini > \"$T/learned.ini\" && netsuke compare "
        "\"$T/learned.ini\" | grep -c agreement; done");
    char **lines = g_strsplit(o.out, "\n", -1);
    CU_ASSERT_EQUAL_FATAL(g_strv_length(lines), 7);
    CU_ASSERT_STRING_EQUAL(lines[0], "2");
    CU_ASSERT_STRING_EQUAL(lines[3], "3");
    CU_ASSERT_STRING_NOT_EQUAL(lines[1], lines[4]);
    g_strfreev(lines);
    outcome_clear(&o);
}

static void outline_json(void) {
    static const char *const ways[] = {"demo/kiln.ini", "demo/kiln.onnx"};
    for (size_t i = 0; i < G_N_ELEMENTS(ways); i++) {
        JsonNode *root = drive_json(0, "netsuke outline %s --json", ways[i]);
        double parameters = 0.0;
        double macs = 0.0;
        for (int k = 0; k < json_length(root, "layers"); k++) {
            char *path = g_strdup_printf("layers.%d.parameters", k);
            parameters += json_number(root, path);
            g_free(path);
            path = g_strdup_printf("layers.%d.macs", k);
            macs += json_number(root, path);
            g_free(path);
        }
        CU_ASSERT_STRING_EQUAL(json_text(root, "layers.0.name"), "conv1");
        CU_ASSERT_STRING_EQUAL(json_text(root, "layers.0.kind"), "Conv");
        CU_ASSERT_EQUAL(json_length(root, "layers.0.output"), 3);
        CU_ASSERT_EQUAL(json_number(root, "layers.0.output.2"), 16);
        CU_ASSERT_EQUAL(json_number(root, "parameters"), parameters);
        CU_ASSERT_EQUAL(json_number(root, "macs"), macs);
        CU_ASSERT(parameters >= 20e3 && parameters <= 80e3 && macs >= 1e6 && macs <= 4e6);
        json_node_unref(root);
    }
}

static void quantise_json(void) {
    JsonNode *root = drive_json(0, "netsuke quantise demo/kiln.ini -o \"$T/q.nsk\" --json");
    char *path = g_strdup_printf("%s/q.nsk", scratch());
    char *bytes;
    gsize size = 0;
    CU_ASSERT(g_file_get_contents(path, &bytes, &size, NULL));
    CU_ASSERT_EQUAL(json_number(root, "model_bytes"), (double)size);
    json_node_unref(root);
    root = drive_json(0, "netsuke quantise demo/kiln.ini -o \"$T/q2.nsk\" --json && "
                         "cmp \"$T/q.nsk\" \"$T/q2.nsk\"");
    json_node_unref(root);
    g_free(bytes);
    g_free(path);
}

static void compare_json_and_csv(void) {
    JsonNode *root =
        drive_json(0, "netsuke compare demo/kiln.ini --json --predictions \"$T/p.csv\"");
    double images = json_number(root, "images");
    double accuracy[2] = {json_number(root, "float.accuracy"),
                          json_number(root, "integer.accuracy")};
    CU_ASSERT_DOUBLE_EQUAL(accuracy[0], json_number(root, "float.correct") / images, 1e-12);
    CU_ASSERT_DOUBLE_EQUAL(json_number(root, "loss_points"), 100 * (accuracy[0] - accuracy[1]),
                           1e-9);
    char *path = g_strdup_printf("%s/p.csv", scratch());
    char *text = NULL;
    CU_ASSERT_FATAL(g_file_get_contents(path, &text, NULL, NULL));
    char **lines = g_strsplit(g_strchomp(text), "\n", -1);
    CU_ASSERT_STRING_EQUAL(
        lines[0], "image,label,float_class,float_probability,integer_class,integer_probability");
    CU_ASSERT_EQUAL((double)g_strv_length(lines) - 1, images);
    int right[2] = {0, 0};
    int agree = 0;
    int finer = 0; /* than 8 bits */
    for (char **line = lines + 1; *line != NULL; line++) {
        char **field = g_strsplit(*line, ",", -1);
        CU_ASSERT_EQUAL_FATAL(g_strv_length(field), 6);
        right[0] += strcmp(field[1], field[2]) == 0;
        right[1] += strcmp(field[1], field[4]) == 0;
        agree += strcmp(field[2], field[4]) == 0;
        double probability = atof(field[5]);
        CU_ASSERT(probability > 1.0 / 6.0 && probability <= 1.0);
        finer += fabs(probability * 256.0 - floor(probability * 256.0 + 0.5)) > 0.01;
        g_strfreev(field);
    }
    CU_ASSERT(finer > images / 2.0);
    CU_ASSERT_EQUAL(right[0], json_number(root, "float.correct"));
    CU_ASSERT_EQUAL(right[1], json_number(root, "integer.correct"));
    CU_ASSERT_DOUBLE_EQUAL(agree / images, json_number(root, "agreement"), 1e-12);
    g_strfreev(lines);
    g_free(text);
    g_free(path);
    json_node_unref(root);
}

static void budget_json(void) {
    JsonNode *root = drive_json(1, "netsuke budget demo/kiln.ini --board boards/needle.ini --json");
    CU_ASSERT_EQUAL(json_number(root, "flash.total"),
                    json_number(root, "flash.model") + json_number(root, "flash.code"));
    CU_ASSERT_EQUAL(json_number(root, "ram.total"),
                    json_number(root, "ram.workspace") + json_number(root, "ram.frame") +
                        json_number(root, "ram.camera") + json_number(root, "ram.stack"));
    CU_ASSERT(json_number(root, "ram.lower_bound") <= json_number(root, "ram.workspace"));
    CU_ASSERT_DOUBLE_EQUAL(json_number(root, "latency.seconds"),
                           json_number(root, "latency.cycles") / 48e6, 1e-9);
    static const char *const names[] = {"flash", "ram", "latency"};
    static const double holds[] = {1, 0, 1};
    for (int i = 0; i < 3; i++) {
        char *path[4];
        static const char *const keys[] = {"name", "limit", "value", "holds"};
        for (int k = 0; k < 4; k++) {
            path[k] = g_strdup_printf("limits.%d.%s", i, keys[k]);
        }
        CU_ASSERT_STRING_EQUAL(json_text(root, path[0]), names[i]);
        CU_ASSERT_EQUAL(json_number(root, path[3]), holds[i]);
        CU_ASSERT_EQUAL(json_number(root, path[2]) <= json_number(root, path[1]), holds[i] > 0);
        for (int k = 0; k < 4; k++) {
            g_free(path[k]);
        }
    }
    json_node_unref(root);
    /* a range by the core's pipeline, where its maker publishes no timings */
    root = drive_json(0, "netsuke budget demo/kiln.ini --board calliper --json");
    const double fast = json_number(root, "pipeline.seconds_fast");
    const double counted = json_number(root, "latency.seconds");
    CU_ASSERT(fast > counted / 2.0 && fast < json_number(root, "pipeline.seconds_slow"));
    CU_ASSERT(json_number(root, "pipeline.seconds_slow") < 3.0 * counted);
    json_node_unref(root);
    root = drive_json(0, "netsuke budget demo/kiln.ini --json");
    CU_ASSERT_FALSE(json_object_has_member(json_node_get_object(root), "pipeline"));
    json_node_unref(root);
}

static void classify_json(void) {
    JsonNode *root = drive_json(0, "netsuke classify demo/kiln.ini --json "
                                   "demo/images/held-out/drip/drip-0007.png "
                                   "demo/images/held-out/belt/belt-0007.png");
    CU_ASSERT_EQUAL(json_length(root, "images"), 2);
    CU_ASSERT(g_str_has_suffix(json_text(root, "images.0.path"), "drip-0007.png"));
    CU_ASSERT_STRING_EQUAL(json_text(root, "images.0.float.0.class"), "drip");
    CU_ASSERT_STRING_EQUAL(json_text(root, "images.1.integer.0.class"), "belt");
    CU_ASSERT_EQUAL(json_length(root, "images.1.integer"), 6);
    double sum = 0.0;
    double last = 1.0;
    for (int i = 0; i < 6; i++) {
        char *path = g_strdup_printf("images.0.float.%d.probability", i);
        double p = json_number(root, path);
        CU_ASSERT(p <= last);
        last = p;
        sum += p;
        g_free(path);
    }
    CU_ASSERT_DOUBLE_EQUAL(sum, 1.0, 1e-5);
    json_node_unref(root);
}

static void rehearse_json(void) {
    JsonNode *root = drive_json(0, "netsuke rehearse demo/kiln.ini --frames 120 --json");
    CU_ASSERT_EQUAL(json_number(root, "frames"), 120);
    CU_ASSERT_EQUAL(json_number(root, "dropped"), 0);
    CU_ASSERT(json_length(root, "decisions") > 5);
    CU_ASSERT(strlen(json_text(root, "decisions.0.class")) > 3);
    CU_ASSERT_STRING_EQUAL(json_text(root, "decisions.0.line"), "reject");
    json_node_unref(root);
    root = drive_json(0, "netsuke rehearse demo/kiln.ini --scenes --frames 60 --json --sweep");
    CU_ASSERT_EQUAL(json_length(root, "scenes"), 7);
    CU_ASSERT_STRING_EQUAL(json_text(root, "scenes.0.name"), "plain");
    CU_ASSERT_EQUAL(json_number(root, "scenes.0.missed"), 0);
    CU_ASSERT_EQUAL(json_number(root, "scenes.1.false_actions"), 0);
    CU_ASSERT(json_length(root, "sweep") > 80);
    json_node_unref(root);
}

static void headroom_json(void) {
    JsonNode *root =
        drive_json(1, "netsuke headroom demo/kiln.ini --board boards/needle.ini --json");
    CU_ASSERT_STRING_EQUAL(json_text(root, "tightest"), "ram");
    CU_ASSERT(json_number(root, "used") > 1.0);
    CU_ASSERT(json_length(root, "ways") > 6);
    CU_ASSERT(json_number(root, "ways.0.ram") < json_number(root, "ways.1.ram"));
    json_node_unref(root);
}

/* A job of few pictures, with a scene and variants. */
static void make_small_job(void) {
    outcome o = drive_for(
        0,
        "mkdir -p \"$T/assay\" && for s in calibration held-out; do for c in belt sound crack chip "
        "pinhole drip; do mkdir -p \"$T/assay/images/$s/$c\" && cp demo/images/$s/$c/$c-001*.png "
        "\"$T/assay/images/$s/$c\"; done; done && cp demo/kiln-third.onnx demo/labels.txt "
        "\"$T/assay\" && "
        "sed "
        "\"s#\\.\\./boards#$PWD/boards#\" demo/kiln-third.ini > \"$T/assay/k.ini\" && printf "
        "'[vary]\\nstreamed = never;always\\n' | cat \"$T/assay/k.ini\" - > \"$T/assay/v.ini\" && "
        "head -61 "
        "demo/scenes/plain.csv | sed \"s#^plain#$PWD/demo/scenes/plain#\" > \"$T/assay/s.csv\" && "
        "printf "
        "'[rehearsal]\\nscenes = s.csv\\n[report]\\nvariants = v.ini\\n' >> \"$T/assay/k.ini\"");
    outcome_clear(&o);
}

/* The page needs nothing else. */
static void check_page(const char *path) {
    outcome o = drive_for(
        0,
        "grep -o '<h2' \"%s\" | wc -l; grep -o '<svg role' \"%s\" | wc -l; grep -o 'id=\"[^\"]*\"' "
        "\"%s\" | sort | uniq -d | wc -l; grep -o '\\(src\\|href\\|url\\)[=(]\"*[^#d\"][^\"]*' "
        "\"%s\" "
        "| wc -l",
        path, path, path, path);
    CU_ASSERT_STRING_EQUAL(o.out, "11\n7\n0\n0\n"); /* sections, drawings, names twice, places */
    outcome_clear(&o);
    /* its date, version, the model's checksum, and the brief as it stands */
    o = drive_for(
        0,
        "grep -o -E 'Made on 2[0-9-]+ [0-9:]+ by netsuke [0-9.]+' \"%s\" | wc -l && s=$(sha256sum "
        "\"$T/assay/out/model.nsk\" | cut -d' ' -f1) && grep -c \"SHA-256 $s\" \"%s\" && grep -c "
        "'^resting = belt' \"%s\" && grep -c 'among first 2' \"%s\" && grep -c 'Layer by layer, "
        "dB' "
        "\"%s\"",
        path, path, path, path, path);
    CU_ASSERT_STRING_EQUAL(o.out, "1\n1\n1\n1\n1\n");
    outcome_clear(&o);
    /* the lines of drift, stress and atlas as their own commands have them, in the same folder */
    o = drive_for(0,
                  "page=$(sed 's/<[^>]*>/ /g; s/\xc2\xa0/ /g; s/  */ /g' \"%s\"); cd "
                  "\"$T/assay/out\"; grep -h -E '^(  (float|integer|loss)|belt|sound|crack|chip|"
                  "pinhole|drip) ' 07-stress.txt 08-atlas.txt > lines; sed -n '/regained/,/^$/p' "
                  "06-drift.txt | grep . >> lines; sed 's/\xc2\xa0/ /g; s/  */ /g' lines "
                  "| while read -r line; do echo \"$page\" | grep -q -F \"$line\" || echo "
                  "\"$line\"; done; grep -c '^  loss' 07-stress.txt; grep -c . lines",
                  path);
    CU_ASSERT_STRING_EQUAL(o.out, "12\n58\n");
    outcome_clear(&o);
}

/* Of a streamed model, too: what looks at whole layers takes the same model whole. */
static void reports_tell_of_streamed_models(void) {
    outcome o = drive_for(0, "sed '/^scenes/d; /^variants/d' \"$T/assay/k.ini\" > "
                             "\"$T/assay/streamed.ini\" && printf '[schedule]\nstreamed = "
                             "always\n' >> \"$T/assay/streamed.ini\" && netsuke report "
                             "\"$T/assay/streamed.ini\" -o \"$T/r.html\" >/dev/null; grep -c 'but "
                             "not streamed' \"$T/r.html\"; grep -c '<h2' \"$T/r.html\"; grep -o "
                             "'>rows kept<' \"$T/r.html\"");
    CU_ASSERT_STRING_EQUAL(o.out, "1\n9\n>rows kept<\n");
    outcome_clear(&o);
}

/* Everything into one folder; once more, only what is not there; a brief that has changed, all. */
static void assay_goes_on(void) {
    make_small_job();
    JsonNode *root = drive_json(0, "netsuke assay \"$T/assay/k.ini\" -o \"$T/assay/out\" --json");
    CU_ASSERT_EQUAL(json_number(root, "ran"), 15);
    json_node_unref(root);
    check_page("$T/assay/out/report.html");
    root = drive_json(0, "rm \"$T/assay/out/09-budget.txt\" && netsuke assay \"$T/assay/k.ini\" -o "
                         "\"$T/assay/out\" --json");
    CU_ASSERT(json_number(root, "ran") == 1 && json_number(root, "kept") == 14);
    json_node_unref(root);
    outcome o = drive_for(0, "netsuke assay \"$T/assay/k.ini\" -o \"$T/assay/out\" --on sim");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "==== Does it fit the board?"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "==== And on the board itself?"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "every score is the one that this machine computes"));
    CU_ASSERT_PTR_NOT_NULL(
        strstr(o.out, "verdict           no limit is broken, something is open"));
    outcome_clear(&o);
    root = drive_json(
        1, "sed -i 's/^latency = .*/latency = 9 ms/' \"$T/assay/k.ini\" && netsuke assay "
           "\"$T/assay/k.ini\" -o \"$T/assay/out\" --json");
    CU_ASSERT(json_number(root, "ran") == 15);
    CU_ASSERT_STRING_EQUAL(json_text(root, "verdict.standing"), "broken");
    int broken = 0;
    for (int i = 0; i < json_length(root, "verdict.findings"); i++) {
        char *path = g_strdup_printf("verdict.findings.%d.", i);
        char *standing = g_strconcat(path, "standing", NULL);
        char *step = g_strconcat(path, "step", NULL);
        if (strcmp(json_text(root, standing), "broken") == 0) {
            CU_ASSERT_STRING_EQUAL(json_text(root, step), "budget");
            broken++;
        }
        g_free(path);
        g_free(standing);
        g_free(step);
    }
    CU_ASSERT_EQUAL(broken, 1);
    json_node_unref(root);
    reports_tell_of_streamed_models();
}

/* Board, comparison and classify give the same integer probability for the same picture. */
static void every_way_gives_the_same_scores(void) {
    outcome o = drive_for(0, "netsuke quantise demo/kiln.ini -o \"$T/s.nsk\" >/dev/null && "
                             "netsuke compare demo/kiln.ini -m \"$T/s.nsk\" --predictions "
                             "\"$T/c.csv\" >/dev/null && "
                             "netsuke rehearse demo/kiln.ini -m \"$T/s.nsk\" --predictions "
                             "\"$T/r.csv\" >/dev/null && "
                             "tail -n +2 \"$T/c.csv\" | cut -d, -f1,5,6 | sort > \"$T/c\" && "
                             "tail -n +2 \"$T/r.csv\" | cut -d, -f1,5,6 | sort > \"$T/r\" && "
                             "cmp \"$T/c\" \"$T/r\" && wc -l < \"$T/r\"");
    CU_ASSERT_EQUAL(atoi(o.out), 1200);
    outcome_clear(&o);
    o = drive_for(0, "sed -n 601p \"$T/r\""); /* image,class,probability */
    char **field = g_strsplit(g_strchomp(o.out), ",", 3);
    JsonNode *root =
        drive_json(0, "netsuke classify demo/kiln.ini -m \"$T/s.nsk\" --json %s", field[0]);
    CU_ASSERT_STRING_EQUAL(json_text(root, "images.0.integer.0.class"), field[1]);
    CU_ASSERT_DOUBLE_EQUAL(json_number(root, "images.0.integer.0.probability"), atof(field[2]),
                           1e-7);
    json_node_unref(root);
    g_strfreev(field);
    outcome_clear(&o);
}

/* A brief with one more line under [ranges]. */
static const char *const finer =
    "{ cat demo/kiln-third.ini; echo '[ranges]'; echo '%s'; } | sed \"s#= images/#= "
    "$PWD/demo/images/#;s#= kiln-#= $PWD/demo/kiln-#;s#= labels#= "
    "$PWD/demo/labels#;s#[.][.]/boards#"
    "$PWD/boards#\" > \"$T/finer.ini\"";

/* What is chosen is said, by every command, and is what a brief that names the layers gives. */
static void finer_numbers_where_they_pay(void) {
    char *brief = g_strdup_printf(finer, "fine = auto");
    outcome o = drive_for(0, "%s && netsuke quantise \"$T/finer.ini\" -o \"$T/auto.nsk\"", brief);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "fine        none: log-odds off by 0."));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "with conv1, taken: log-odds off by 0."));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "finer.ini: [ranges] fine = auto: conv1, conv3\n"));
    outcome_clear(&o);
    o = drive_for(
        0, "sed -i 's/^fine = auto/conv1 = fine\\nconv3 = fine/' \"$T/finer.ini\" && netsuke "
           "quantise \"$T/finer.ini\" -o \"$T/named.nsk\" && cmp \"$T/auto.nsk\" "
           "\"$T/named.nsk\"");
    CU_ASSERT_PTR_NULL(strstr(o.out, "log-odds"));
    outcome_clear(&o);
    drive_fails(
        "[ranges] fine = auto: time and RAM of a board decide what pays; [board] file names",
        "%s && sed -i '/^file = .*boards/d' \"$T/finer.ini\" && netsuke compare "
        "\"$T/finer.ini\"",
        brief);
    g_free(brief);
}

static void finer_numbers(void) {
    static const struct {
        const char *line, *said;
    } cases[] = {
        {"conv99 = fine", "[ranges] conv99: no layer has this name; 'netsuke outline' lists"},
        {"dense12 = fine", "[ranges] dense12 = fine: 'dense12', which writes or reads it"},
        {"flatten12 = fine", "[ranges] flatten12 = fine: it is no layer of its own"},
        {"every = fine", "every: 'fine' is none of: auto, extremes"},
        {"fine = perhaps", "fine: 'perhaps' is none of: no, auto"}};
    for (size_t i = 0; i < G_N_ELEMENTS(cases); i++) {
        char *brief = g_strdup_printf(finer, cases[i].line);
        drive_fails(cases[i].said, "%s && netsuke quantise \"$T/finer.ini\" -o \"$T/finer.nsk\"",
                    brief);
        g_free(brief);
    }
    char *brief = g_strdup_printf(finer, "conv1 = fine");
    JsonNode *plain = drive_json(0, "netsuke budget demo/kiln-third.ini --json");
    JsonNode *fine = drive_json(0, "%s && netsuke budget \"$T/finer.ini\" --json", brief);
    CU_ASSERT(json_number(fine, "ram.workspace") > json_number(plain, "ram.workspace"));
    CU_ASSERT(json_number(fine, "latency.cycles") > json_number(plain, "latency.cycles"));
    CU_ASSERT(json_number(fine, "flash.code") > json_number(plain, "flash.code"));
    json_node_unref(plain);
    json_node_unref(fine);
    outcome o = drive_for(0,
                          "%s && printf '[schedule]\\nstreamed = always\\n' >> \"$T/finer.ini\" && "
                          "netsuke emit \"$T/finer.ini\" -o \"$T/finer\" >/dev/null && make -s -C "
                          "\"$T/finer\" | tail -1 && ls \"$T\"/finer/nsk_conv_fine.c >/dev/null",
                          brief);
    CU_ASSERT_STRING_EQUAL(o.out, "passed\n");
    outcome_clear(&o);
    g_free(brief);
    JsonNode *root = drive_json(0, "netsuke drift demo/kiln.ini --sample 100 --json");
    CU_ASSERT_STRING_EQUAL(json_text(root, "advice.0.change"), "conv1 = fine, under [ranges]");
    CU_ASSERT_PTR_NOT_NULL(strstr(json_text(root, "advice.0.reason"), "the workspace takes 27.0"));
    CU_ASSERT(json_number(root, "advice.0.apart") <
              0.95 * json_number(root, "advice.0.apart_before"));
    json_node_unref(root);
}

/* The third network with fewer bits, by a number or as many as a limit on flash asks for; what is
 * chosen is said, and is what a brief that names it gives. */
static const char *const narrower =
    "sed \"s#= images/#= $PWD/demo/images/#;s#= kiln-#= $PWD/demo/kiln-#;s#= labels#= "
    "$PWD/demo/labels#;s#[.][.]/boards#$PWD/boards#;s#^flash = .*#flash = %s#\" "
    "demo/kiln-third.ini > \"$T/bits.ini\" && printf '[bits]\\n%s\\n' >> \"$T/bits.ini\"";

static void bits_of_weights(void) {
    static const struct {
        const char *line, *said;
    } wrong[] = {{"conv99 = 4", "[bits] conv99: no layer has this name; 'netsuke outline' lists"},
                 {"conv2 = 4", "[bits] conv2: only dense layers and convolutions of one group"},
                 {"every = 3", "every: '3' is none of: 4, 5, 6, 8, auto"},
                 {"conv3 = auto", "conv3: 'auto' is none of: 4, 5, 6, 8"}};
    for (size_t i = 0; i < G_N_ELEMENTS(wrong); i++) {
        char *brief = g_strdup_printf(narrower, "256 KiB", wrong[i].line);
        drive_fails(wrong[i].said, "%s && netsuke quantise \"$T/bits.ini\" -o \"$T/bits.nsk\"",
                    brief);
        g_free(brief);
    }
    JsonNode *plain = drive_json(0, "netsuke budget demo/kiln-third.ini --json");
    double most = json_number(plain, "flash.total") - 100; /* less than 8 bits need */
    char *limit = g_strdup_printf("%.0f B", most);
    char *brief = g_strdup_printf(narrower, limit, "every = auto");
    g_free(limit);
    outcome o = drive_for(0, "%s && netsuke quantise \"$T/bits.ini\" -o \"$T/auto.nsk\"", brief);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "bits        8 everywhere: "));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "            with these: 21."));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "bits.ini: [bits] every = auto: "));
    outcome_clear(&o);
    JsonNode *packed = drive_json(0, "netsuke budget \"$T/bits.ini\" --json");
    CU_ASSERT(json_number(packed, "flash.total") <= most);
    json_node_unref(packed);
    g_free(brief);
    brief = g_strdup_printf(narrower, "256 KiB", "every = 4");
    packed = drive_json(0, "%s && netsuke budget \"$T/bits.ini\" --json", brief);
    CU_ASSERT(json_number(packed, "flash.model") < 0.8 * json_number(plain, "flash.model"));
    CU_ASSERT(json_number(packed, "flash.code") > json_number(plain, "flash.code"));
    CU_ASSERT(json_number(packed, "latency.cycles") > json_number(plain, "latency.cycles"));
    CU_ASSERT(json_number(packed, "latency.cycles") < 1.2 * json_number(plain, "latency.cycles"));
    json_node_unref(plain);
    json_node_unref(packed);
    o = drive_for(0,
                  "%s && netsuke emit \"$T/bits.ini\" -o \"$T/bits\" >/dev/null && make -s -C "
                  "\"$T/bits\" | tail -1 && ls \"$T\"/bits/nsk_conv_packed.c >/dev/null",
                  brief);
    CU_ASSERT_STRING_EQUAL(o.out, "passed\n");
    outcome_clear(&o);
    g_free(brief);
}

/* A tile may have several faults: what commands say of it, and what the product does. */
static void several_labels(void) {
    outcome o = drive_for(0, "netsuke quantise demo/kiln-faults.ini -o \"$T/f.nsk\"");
    outcome_clear(&o);
    JsonNode *root = drive_json(0, "netsuke survey demo/kiln-faults.ini --json");
    CU_ASSERT_EQUAL(json_number(root, "sets.1.images"), 660);
    CU_ASSERT_EQUAL(json_number(root, "sets.1.classes.0.images"), 240); /* alone, and three pairs */
    json_node_unref(root);
    root = drive_json(0, "netsuke compare demo/kiln-faults.ini --model \"$T/f.nsk\" --json "
                         "--predictions \"$T/f.csv\" --sheet \"$T/f.png\" --plot \"$T/f.svg\"");
    CU_ASSERT(json_number(root, "integer.accuracy") > 0.8);
    CU_ASSERT(json_number(root, "integer.each_label") > json_number(root, "integer.accuracy"));
    CU_ASSERT_DOUBLE_EQUAL(json_number(root, "integer.classes.1.threshold"), 0.35, 1e-12);
    CU_ASSERT(json_number(root, "integer.classes.1.average_precision") > 0.9);
    CU_ASSERT(json_number(root, "integer.classes.1.right") <=
              json_number(root, "integer.classes.1.answers"));
    CU_ASSERT_EQUAL(json_length(root, "integer.among"), 0);
    o = drive_for(0, "cut -d, -f2,5 \"$T/f.csv\" | awk -F, '$1==$2' | wc -l");
    CU_ASSERT_EQUAL(atoi(o.out), json_number(root, "integer.correct"));
    outcome_clear(&o);
    json_node_unref(root);
    root = drive_json(0, "netsuke classify demo/kiln-faults.ini --model \"$T/f.nsk\" --json "
                         "demo/images/held-out-faults/crack+drip/crack+drip-0003.png");
    CU_ASSERT_STRING_EQUAL(json_text(root, "images.0.label"), "crack+drip");
    CU_ASSERT_STRING_EQUAL(json_text(root, "images.0.integer_says"), "crack+drip");
    json_node_unref(root);
    drive_fails("an atlas is of pictures with one label each",
                "netsuke atlas demo/kiln-faults.ini --sample 60");
    drive_fails("[thresholds] has one for each label",
                "netsuke rehearse demo/kiln-faults.ini --model \"$T/f.nsk\" --frames 9 --sweep");
    drive_fails("ends in a softmax, which gives one class of all",
                "{ cat demo/kiln.ini; echo '[thresholds]'; echo 'every = 0.5'; } | sed "
                "\"s#= kiln.onnx#= $PWD/demo/kiln.onnx#;s#= labels.txt#= $PWD/demo/labels.txt#;"
                "/^thresh.*0.6/d;/^resting/d;/^variants/d\" > \"$T/one.ini\"; "
                "netsuke outline \"$T/one.ini\"");
    o = drive_for(0, "cd demo/images/held-out-faults && for i in 0 1 2 3; do for k in none "
                     "crack+chip; do for n in 0 1 2; do echo \"$PWD/$k/$k-000$i.png,$k\"; done; "
                     "done; done > \"$T/scene.csv\"");
    outcome_clear(&o);
    root = drive_json(0, "netsuke rehearse demo/kiln-faults.ini --model \"$T/f.nsk\" --scene "
                         "\"$T/scene.csv\" --json --plot \"$T/scene.svg\" --signals \"$T/s.vcd\"");
    CU_ASSERT_EQUAL(json_number(root, "frames"), 24);
    CU_ASSERT_EQUAL(json_number(root, "events"), 4);
    CU_ASSERT_EQUAL(json_number(root, "missed"), 0);
    CU_ASSERT_EQUAL(json_text(root, "decisions.0.line")[0], 'r');
    json_node_unref(root);
    o = drive_for(0, "netsuke emit demo/kiln-faults.ini --model \"$T/f.nsk\" -o \"$T/f\" && grep "
                     "-c 375809639U \"$T\"/f/*_firmware.c && grep -c 'thresholds\\[c\\]' "
                     "\"$T/f/README.md\"");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "\n1\n1\n"));
    outcome_clear(&o);
}

CU_TestInfo contract_tests[] = {
    {"survey --json", survey_json},
    {"outline --json", outline_json},
    {"drift --json", drift_json},
    {"probe as JSON", probe_json},
    {"stress --json", stress_json},
    {"atlas --json", atlas_json},
    {"weigh", weigh_json},
    {"variants are spread", variants_are_spread},
    {"measurements are kept by content", measurements_are_kept_by_content},
    {"made models are kept", made_models_are_kept},
    {"atlas --neighbours --json", neighbours_json},
    {"quantise --gains --json", gains_json},
    {"quantise --refine", refined_json},
    {"quantise --learned", learned_networks},
    {"compare --split --json", split_json},
    {"vet --json: mistakes in the brief are named", vet_json},
    {"quantise --json, the same bytes each time", quantise_json},
    {"compare --json and --predictions", compare_json_and_csv},
    {"budget --json", budget_json},
    {"classify --json", classify_json},
    {"rehearse --json", rehearse_json},
    {"headroom --json", headroom_json},
    {"an assay goes on", assay_goes_on},
    {"every way gives the same scores", every_way_gives_the_same_scores},
    {"finer numbers", finer_numbers},
    {"finer numbers where they pay", finer_numbers_where_they_pay},
    {"bits of weights", bits_of_weights},
    {"several labels at once", several_labels},
    CU_TEST_INFO_NULL,
};
