/* What a camera sees: in the terminal, and at the page, asked for over HTTP as a browser would. */
#include <stdlib.h>
#include <string.h>

#include "browser.h"
#include "drive.h"

/* ---- in the terminal ---- */

static void in_the_terminal(void) {
    outcome o = drive_for(0, "netsuke watch demo/kiln.ini --plain --frames 9");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "       7  crack       9"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "  reject          reject\n"));
    CU_ASSERT_PTR_NOT_NULL(
        strstr(o.out, "\n9 pictures, 0 dropped, 0 faults, 1 decisions, 0 in other light"));
    outcome_clear(&o);
    /* its lamp fails for a while; held against the set's own pictures it is known */
    JsonNode *root =
        drive_json(0, "netsuke watch demo/kiln.ini --camera demo/scenes/dark.csv --json");
    CU_ASSERT(json_number(root, "other_light") > 60.0 && json_number(root, "other_light") < 130.0);
    json_node_unref(root);
    o = drive_for(0, "netsuke watch demo/kiln.ini --camera demo/scenes/dark.csv --plain");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "darker than in calibration\n"));
    outcome_clear(&o);
    drive_fails("x is no camera: give -", "netsuke watch demo/kiln.ini --camera x");
    drive_fails("standard input: this is no Y4M stream",
                "netsuke watch demo/kiln.ini --camera - </dev/null");
    drive_fails("camera 'board': say at which link", "netsuke watch demo/kiln.ini --camera board");
    drive_fails("has no camera of its own",
                "netsuke watch demo/kiln.ini --camera board --on sim --plain");
    drive_fails("--listen nowhere: give an address as a number",
                "netsuke watch demo/kiln.ini --listen nowhere");
    drive_fails("--listen 8.8.8.8:1: ", "netsuke watch demo/kiln.ini --listen 8.8.8.8:1");
}

/* A file is looked at whole. Of a stream that is too fast pictures are dropped, and counted; what
 * comes last is seen. */
static void a_stream_is_looked_at(void) {
    JsonNode *file = drive_json(0, "build/kiln-stream --rate 0 plain - > \"$T/s.y4m\" && netsuke "
                                   "watch demo/kiln.ini --camera \"$T/s.y4m\" --json");
    const double all = json_number(file, "pictures");
    CU_ASSERT(all > 300.0 && json_number(file, "dropped") == 0.0);
    CU_ASSERT(json_number(file, "decisions") >= 5.0);
    JsonNode *pipe =
        drive_json(0, "cat \"$T/s.y4m\" | netsuke watch demo/kiln.ini --camera - --json");
    CU_ASSERT_EQUAL(json_number(pipe, "pictures") + json_number(pipe, "dropped"), all);
    CU_ASSERT(json_number(pipe, "dropped") > 0.0);
    JsonNode *slow =
        drive_json(0, "head -c 400000 \"$T/s.y4m\" | (head -c 123000; sleep 0.3; cat) | "
                      "netsuke watch demo/kiln.ini --camera - --json --frames 1");
    CU_ASSERT_EQUAL(json_number(slow, "pictures"), 1.0);
    json_node_unref(slow);
    json_node_unref(pipe);
    json_node_unref(file);
    outcome o =
        drive("head -c 20000 \"$T/s.y4m\" | netsuke watch demo/kiln.ini --camera - --plain");
    CU_ASSERT_EQUAL(o.status, 2);
    CU_ASSERT_PTR_NOT_NULL(strstr(o.err, "ends in the middle of a picture"));
    outcome_clear(&o);
}

/* The board's own camera and rule: what it decides is what it is told here, and its scores are this
 * machine's (status 0). The pictures are held-out ones. */
static void a_board_looks(void) {
    JsonNode *root = drive_json(0, "netsuke watch demo/kiln.ini --on emulate:cortex-m4 --json "
                                   "--frames 12");
    CU_ASSERT(json_number(root, "pictures") == 12.0 && json_number(root, "differ") == 0.0);
    CU_ASSERT_EQUAL(json_number(root, "faults"), 0.0);
    json_node_unref(root);
    root = drive_json(0, "netsuke watch demo/kiln.ini --on sim --json --frames 12");
    CU_ASSERT(json_number(root, "pictures") == 12.0 && json_number(root, "decisions") == 1.0);
    json_node_unref(root);
}

/* ---- the page ---- */

/* Starts it, does some lines of the shell with its address in $u, and ends it as Ctrl-C does. */
static outcome at_the_page(const char *options, const char *lines) {
    return drive_for(
        0,
        "rm -f \"$T/out\" \"$T/seen\"; \"$N\" watch demo/kiln.ini %s > \"$T/out\" & p=$!; for i in "
        "$(seq 200); do [ -s \"$T/out\" ] && break; sleep 0.1; done; u=$(head -1 "
        "\"$T/out\"); code() { curl -s -m 5 --path-as-is -w '%%{stderr}%%{http_code} ' \"$@\" 2>&1 "
        ">/dev/null; }; "
        "%s; kill -INT $p 2>/dev/null; wait $p",
        options, lines);
}

static void only_who_has_the_address(void) {
    outcome o = at_the_page(
        "--frames 3",
        "r=${u%/*/}; t=${u#$r/}; bad=$(echo \"$t\" | tr 0-9 1-90); code \"$u\" \"${u}page.css\" "
        "\"${u}page.js\"; echo; code \"$r/\" \"$r/page.js\" \"$r/$bad\" \"$r/$bad\"events "
        "\"${u}x\" "
        "\"${u}../../etc/passwd\"; echo; code -H 'Host: elsewhere.example' \"$u\"; code -H 'Host: "
        "localhost' \"$u\"; code -H 'Origin: http://elsewhere.example' \"${u}events\"; code -X "
        "POST "
        "-H \"Origin: $r\" \"${u}do?what=pause\"; code -X POST -H 'Origin: null' "
        "\"${u}do?what=pause\"; code -X POST \"${u}do?what=fly\"; code -X POST \"${u}do\"; code "
        "\"${u}do?what=pause\"; echo; curl -s -D - -o /dev/null \"$u\" | grep -c \"default-src "
        "'none'\\|no-referrer\\|nosniff\\|no-store\"; echo $r | grep -c "
        "'^http://127.0.0.1:[0-9]*$'");
    CU_ASSERT_STRING_EQUAL(o.out, "200 200 200 \n404 404 404 404 404 404 \n403 200 403 204 403 400 "
                                  "400 404 \n4\n1\n");
    outcome_clear(&o);
}

/* One of the events, by its place among those of that name; json_node_unref. */
static JsonNode *event(const char *text, const char *name, int place) {
    char *head = g_strdup_printf("event: %s\ndata: ", name);
    const char *at = text;
    for (int i = 0; i <= place && at != NULL; i++) {
        at = strstr(i == 0 ? at : at + 1, head);
    }
    CU_ASSERT_PTR_NOT_NULL_FATAL(at);
    char *line = g_strndup(at + strlen(head), strcspn(at + strlen(head), "\n"));
    JsonNode *root = json_from_string(line, NULL);
    CU_ASSERT_PTR_NOT_NULL_FATAL(root);
    g_free(line);
    g_free(head);
    return root;
}

/* Paused before anybody looks, and then stepped: every picture of a scene comes, and its end. */
static void all_pictures_come(void) {
    outcome o = at_the_page(
        "--frames 12", "do_() { curl -s -m 5 -X POST \"${u}do?what=$1\"; }; do_ pause; rm -f "
                       "\"$T/seen\"; curl -s -N -m "
                       "60 \"${u}events\" > \"$T/seen\" & c=$!; until grep -q '^event: pace' "
                       "\"$T/seen\"; do sleep 0.1; "
                       "done; for i in $(seq 12); do do_ step; for w in $(seq 200); do test $(grep "
                       "-c '^event: seen' "
                       "\"$T/seen\") -ge $i && break; sleep 0.05; done; done; for w in $(seq 200); "
                       "do grep -q '^event: "
                       "end' \"$T/seen\" && break; sleep 0.05; done; kill $c; cat \"$T/seen\"");
    JsonNode *about = event(o.out, "about", 0);
    CU_ASSERT_STRING_EQUAL(json_text(about, "model"), "kiln");
    CU_ASSERT(json_length(about, "labels") == 6 && json_length(about, "lines") == 2);
    CU_ASSERT_STRING_EQUAL(json_text(about, "lines.0"), "reject");
    json_node_unref(about);
    for (int i = 0; i < 12; i++) {
        JsonNode *seen = event(o.out, "seen", i);
        double sum = 0.0;
        char place[32];
        for (int c = 0; c < 6; c++) {
            g_snprintf(place, sizeof place, "integer.%d", c);
            sum += json_number(seen, place);
        }
        CU_ASSERT_EQUAL(json_number(seen, "number"), i);
        CU_ASSERT_DOUBLE_EQUAL(sum, 1.0, 0.01);
        CU_ASSERT_EQUAL(json_number(seen, "line"), i < 6 ? 1 : 0);
        CU_ASSERT_EQUAL(json_number(seen, "decided"), i == 7 ? 0 : -1);
        CU_ASSERT_EQUAL(strlen(json_text(seen, "frame")), 48 * 48 * 3 / 3 * 4);
        CU_ASSERT(json_length(seen, "took") == 4);
        json_node_unref(seen);
    }
    JsonNode *end = event(o.out, "end", 0);
    CU_ASSERT_STRING_EQUAL(json_text(end, "why"), "the camera has ended, after 12 pictures");
    json_node_unref(end);
    outcome_clear(&o);
}

/* Paused, nothing comes but the pictures that are asked for; who comes later is told of the pace.
 */
static void pause_and_step(void) {
    outcome o = at_the_page("--rate 20", "do_() { curl -s -m 5 -X POST \"${u}do?what=$1\"; sleep "
                                         "0.3; }; n() { grep -c '^event: seen' "
                                         "\"$T/seen\"; }; until_more() { for w in $(seq 200); do "
                                         "test $(n) -gt $1 && break; sleep 0.05; "
                                         "done; }; curl -s -N -m 60 \"${u}events\" > \"$T/seen\" & "
                                         "c=$!; until_more 3; do_ pause; a=$(n); "
                                         "sleep 0.5; b=$(n); do_ step; until_more $b; do_ step; "
                                         "until_more $((b + 1)); sleep 0.3; d=$(n); "
                                         "echo $((b - a)) $((d - b)); do_ slower; do_ pause; "
                                         "until_more $d; test $(n) -gt $d && echo on; "
                                         "grep -A1 '^event: pace' \"$T/seen\" | tail -1; kill $c; "
                                         "curl -s -N -m 1 \"${u}events\" | grep "
                                         "-A1 '^event: pace' | tail -1");
    CU_ASSERT_STRING_EQUAL(o.out, "0 2\non\ndata: {\"paused\":false,\"speed\":0.5}\ndata: "
                                  "{\"paused\":false,\"speed\":0.5}\n");
    outcome_clear(&o);
}

/* In the middle of a picture that does not go on: Ctrl-C ends it all the same. */
static void a_camera_that_stalls(void) {
    outcome o = at_the_page(
        "--camera - < <(exec 2>/dev/null; build/kiln-stream --rate 0 plain - | head -c 20000; "
        "sleep 8)",
        "kill -INT $p; for w in $(seq 50); do kill -0 $p 2>/dev/null || break; sleep 0.1; done; "
        "kill "
        "-9 $p 2>/dev/null && echo stuck");
    CU_ASSERT_STRING_EQUAL(o.out, "");
    CU_ASSERT_STRING_EQUAL(o.err, "");
    outcome_clear(&o);
}

/* Two pictures under a label and one under another; that one is taken back; the last one's label is
 * none, and a picture that is gone cannot be kept. What is kept is a set, pixel by pixel. */
static void pictures_are_kept(void) {
    outcome o = at_the_page(
        "--rate 20 --into \"$T/set\"",
        "do_() { curl -s -m 5 -o /dev/null -w '%{http_code} ' -X POST \"${u}do?what=$1\"; }; "
        "until_there() { for w in $(seq 200); do test $(grep -c \"^event: $1\" \"$T/seen\") -ge $2 "
        "&& break; "
        "sleep 0.05; done; }; curl -s -N -m 60 \"${u}events\" > \"$T/seen\" & c=$!; until_there "
        "seen 3; "
        "do_ pause; sleep 0.3; n=$(grep '^data: {\"number\"' \"$T/seen\" | tail -1 | sed "
        "'s/.*\"number\":\\([0-9]*\\).*/\\1/'); do_ \"keep&number=$n&label=2\"; do_ "
        "\"keep&number=$((n - 1))&label=2\"; do_ \"keep&number=$n&label=3\"; do_ back; do_ "
        "\"keep&number=$n&label=9\"; do_ \"keep&number=9000&label=1\"; do_ keep; head -c "
        "3000000 /dev/zero | curl -s -m 5 -o /dev/null -w '%{http_code} ' -X POST --data-binary @- "
        "\"${u}do?what=move&label=1&round=0\"; until_there kept 9; "
        "kill $c; grep -A1 '^event: kept' \"$T/seen\" | tail -1 | sed 's/\"error.*//'; cd "
        "\"$T/set\" && find "
        ". -name '*.png' | sed 's/[0-9T.]*-[a-z]*-[0-9]*//' | sort; cut -d, -f2 .journal.csv; cd - "
        "> "
        "/dev/null");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "204 204 204 204 204 400 400 400 400 data: "
                                         "{\"counts\":[0,0,2,0,0,0],\"steps\":2,\"last\""));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "./.set-aside/.png\n./crack/.png\n./crack/.png\n"
                                         "taken\ntaken\ntaken\ntaken back\n"));
    outcome_clear(&o);
    o = drive_for(0, "netsuke survey demo/kiln.ini --tolerant --calibration \"$T/set\" 2>&1");
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "crack"));
    outcome_clear(&o);
    drive_fails("pictures are kept at the page alone",
                "netsuke watch demo/kiln.ini --plain --into \"$T/set\"");
}

/* ---- the page, in a browser ---- */

static void sees(browser *b, const char *expression) {
    const bool comes = browser_until(b, expression);
    if (!comes) {
        fprintf(stderr, "\n    the page never had %s\n", expression);
    }
    CU_ASSERT(comes);
}

/* Does something there that no key does. */
static void does(browser *b, const char *expression) {
    g_free(browser_asks(b, expression));
}

static void press_all(browser *b, const char *keys) {
    for (char key[2] = {*keys}; key[0] != '\0'; key[0] = *++keys) {
        browser_press(b, key);
    }
}

/* The scene plays and its answers change; while it pauses, three pictures are kept under two
 * labels.
 */
static void keep_three(browser *b) {
    sees(b, "new Set(state.past.map((seen) => seen.line)).size > 1");
    press_all(b, "p");
    sees(b, "byId('pause').getAttribute('aria-pressed') === 'true'");
    does(b, "state.before = state.number");
    press_all(b, "3");
    sees(b, "state.counts.counts[2] === 1");
    press_all(b, "n");
    sees(b, "state.number > state.before");
    press_all(b, "34");
    sees(b, "state.counts.counts[2] === 2 && state.counts.counts[3] === 1");
    press_all(b, "4");
    browser_press(b, "o"); /* one that is offered: the first answer of another class */
    sees(b, "state.held !== null && byId('name').textContent.startsWith('held: ')");
    browser_press(b, "Escape");
    sees(b, "state.held === null && state.counts.counts[3] === 1");
}

/* At the picture's own place. */
static void click_on_plane(browser *b, const char *name) {
    static const char *const axes[] = {"x", "y"};
    int at[2];
    for (int i = 0; i < 2; i++) {
        char *expression = g_strdup_printf(
            "Math.round(byId('plane').getBoundingClientRect().%s + planeScale(byId('plane')).%s("
            "set.list.pictures.find((p) => p.name === '%s')))",
            axes[i], axes[i], name);
        char *place = browser_asks(b, expression);
        at[i] = atoi(place);
        g_free(place);
        g_free(expression);
    }
    browser_click(b, at[0], at[1]);
}

/* In the set one of them is moved, and that is taken back; one without a label gets the one that is
 * suggested, and is set aside. */
static void go_through(browser *b) {
    press_all(b, "s");
    sees(b, "set.list && set.list.pictures.length === 4");
    sees(b, "set.groups.find((g) => g.key === 'crack').pictures.length === 2");
    press_all(b, "]]");
    browser_press(b, "ArrowRight");
    sees(b, "byId('one').complete && byId('one').naturalWidth === 64");
    sees(b, "byId('near').children.length === 3");
    press_all(b, "4");
    sees(b, "state.counts.counts[2] === 1 && state.counts.counts[3] === 2");
    press_all(b, "u");
    sees(b, "state.counts.counts[2] === 2 && state.counts.counts[3] === 1");
    sees(b, "set.groups.find((g) => g.key === '?crack').pictures.length === 1");
    does(b, "openGroup('?crack')");
    press_all(b, "g");
    sees(b, "state.counts.counts[2] === 3 && byId('kept').textContent === 'crack/new.png'");
    does(b, "openGroup('crack')");
    sees(b, "set.order.length === 3 && set.picked === -1");
    click_on_plane(b, "crack/new.png");
    sees(b, "set.picked >= 0 && ofSet(set.picked).name === 'crack/new.png'");
    sees(b, "byId('one-twin').textContent.includes('held-out/crack/crack-0000.png')");
    press_all(b, "x");
    sees(b, "state.counts.counts[2] === 2");
    press_all(b, "s");
    sees(b, "!byId('camera').hidden && byId('set').hidden");
}

static void in_a_browser(void) {
    outcome o = drive_for(
        0, "mkdir -p \"$T/page\" && cp demo/images/held-out/crack/crack-0000.png "
           "\"$T/page/new.png\"; \"$N\" watch demo/kiln.ini --rate 20 --into \"$T/page\" > "
           "\"$T/out\" 2> \"$T/err\" & echo $! > \"$T/pid\"; for i in $(seq 200); do [ -s "
           "\"$T/out\" ] && break; sleep 0.1; done; head -1 \"$T/out\"");
    browser *b = browser_open(g_strchomp(o.out), 1280, 800);
    outcome_clear(&o);
    CU_ASSERT_PTR_NOT_NULL(b);
    if (b != NULL) {
        keep_three(b);
        go_through(b);
        CU_ASSERT_STRING_EQUAL(browser_console(b), "");
        browser_close(b);
    }
    o = drive_for(0, "kill -INT $(cat \"$T/pid\"); for w in $(seq 100); do kill -0 $(cat "
                     "\"$T/pid\") 2>/dev/null || break; sleep 0.1; done; cat \"$T/err\"; cd "
                     "\"$T/page\" && find . -name '*.png' | sed 's/[0-9T.]*-[a-z]*-[0-9]*//' | "
                     "sort; cut -d, -f2 .journal.csv");
    CU_ASSERT_STRING_EQUAL(o.out, "./.set-aside/new.png\n./chip/.png\n./crack/.png\n./crack/.png\n"
                                  "taken\ntaken\ntaken\nmoved\ntaken back\nmoved\nset aside\n");
    outcome_clear(&o);
}

/* The demo's round with little training: what it does, not how well. */
static void a_round_of_the_demo(void) {
    outcome o = drive_for(0, "demo/round.sh \"$T/round\" 1 20 1");
    CU_ASSERT_PTR_NOT_NULL(
        strstr(o.out, "\nkept: 305 pictures, of belt, chip, crack, drip, pinhole, sound\n"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "% of 1200 pictures right\n"));
    /* the one that shipped */
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "\nglaze right 220 of 292 missed 4 of 10 false 0\n"));
    CU_ASSERT_PTR_NOT_NULL(strstr(o.out, "\nthe four right 986 of 1195 missed 8 of 50 false 0\n"));
    const char *at = o.out;
    int sums = 0;
    for (; (at = strstr(at, "\nthe four right ")) != NULL; at++) {
        sums++;
    }
    CU_ASSERT_EQUAL(sums, 2);
    outcome_clear(&o);
}

CU_TestInfo watch_tests[] = {
    {"in the terminal", in_the_terminal},
    {"a stream is looked at", a_stream_is_looked_at},
    {"a board looks", a_board_looks},
    {"only who has the address", only_who_has_the_address},
    {"all pictures come", all_pictures_come},
    {"pause and step", pause_and_step},
    {"pictures are kept", pictures_are_kept},
    {"a camera that stalls", a_camera_that_stalls},
    {"in a browser", in_a_browser},
    {"a round of the demo", a_round_of_the_demo},
    CU_TEST_INFO_NULL,
};
