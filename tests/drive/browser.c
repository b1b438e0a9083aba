#include "browser.h"

#include <json-glib/json-glib.h>
#include <poll.h>
#include <signal.h>
#include <string.h>
#include <sys/wait.h>
#include <unistd.h>

enum { PATIENCE = 20000 }; /* milliseconds */

struct browser {
    GPid process;
    int to, from; /* pipes */
    int calls;
    char *session, *folder;
    GByteArray *came;
    GString *console;
};

/* ---- messages: JSON, with a zero behind each ---- */

static bool write_all(int pipe, const char *bytes, size_t size) {
    for (size_t done = 0; done < size;) {
        const ssize_t some = write(pipe, bytes + done, size - done);
        if (some <= 0) {
            return false;
        }
        done += (size_t)some;
    }
    return true;
}

/* The next one, or NULL where none comes. */
static JsonNode *read_message(browser *b) {
    char some[65536];
    for (;;) {
        const guint8 *end = b->came->len > 0 ? memchr(b->came->data, 0, b->came->len) : NULL;
        if (end != NULL) {
            JsonNode *message = json_from_string((const char *)b->came->data, NULL);
            g_byte_array_remove_range(b->came, 0, (guint)(end - b->came->data) + 1);
            return message;
        }
        struct pollfd waits = {.fd = b->from, .events = POLLIN};
        const ssize_t size = poll(&waits, 1, PATIENCE) == 1 ? read(b->from, some, sizeof some) : 0;
        if (size <= 0) {
            return NULL;
        }
        g_byte_array_append(b->came, (const guint8 *)some, (guint)size);
    }
}

/* What the page says of itself. */
static void note_console(browser *b, JsonObject *message) {
    static const char *const kinds[] = {"Runtime.consoleAPICalled", "Runtime.exceptionThrown",
                                        "Log.entryAdded"};
    const char *method = json_object_get_string_member_with_default(message, "method", "");
    for (size_t i = 0; i < G_N_ELEMENTS(kinds); i++) {
        if (strcmp(method, kinds[i]) == 0) {
            char *text = json_to_string(json_object_get_member(message, "params"), FALSE);
            g_string_append_printf(b->console, "%s\n", text);
            g_free(text);
        }
    }
}

/* Asks for something, and waits for its result; NULL where it is an error. The parameters are the
 * inside of a JSON object. json_object_unref. */
static JsonObject *call(browser *b, const char *method, const char *parameters) {
    const int id = ++b->calls;
    char *session =
        b->session != NULL ? g_strdup_printf(",\"sessionId\":\"%s\"", b->session) : g_strdup("");
    char *text = g_strdup_printf("{\"id\":%d,\"method\":\"%s\",\"params\":{%s}%s}", id, method,
                                 parameters, session);
    JsonObject *result = NULL;
    bool waits = write_all(b->to, text, strlen(text) + 1);
    while (waits) {
        JsonNode *node = read_message(b);
        JsonObject *message = node != NULL ? json_node_get_object(node) : NULL;
        waits = message != NULL && json_object_get_int_member_with_default(message, "id", 0) != id;
        if (message != NULL && !waits && json_object_has_member(message, "result")) {
            result = json_object_ref(json_object_get_object_member(message, "result"));
        } else if (waits) {
            note_console(b, message);
        }
        if (node != NULL) {
            json_node_unref(node);
        }
    }
    g_free(text);
    g_free(session);
    return result;
}

static bool does(browser *b, const char *method, const char *parameters) {
    JsonObject *result = call(b, method, parameters);
    if (result != NULL) {
        json_object_unref(result);
    }
    return result != NULL;
}

/* ---- opening and closing ---- */

static bool start(browser *b) {
    char *profile = g_strdup_printf("--user-data-dir=%s", b->folder);
    const char *const arguments[] = {"chromium",
                                     "--headless=new",
                                     "--no-sandbox",
                                     "--disable-gpu",
                                     "--disable-dev-shm-usage",
                                     "--hide-scrollbars",
                                     "--remote-debugging-pipe",
                                     profile,
                                     NULL};
    int in[2];
    int out[2];
    bool good = pipe(in) == 0 && pipe(out) == 0;
    const int own[] = {in[0], out[1]};
    const int theirs[] = {3, 4};
    good = good && g_spawn_async_with_pipes_and_fds(
                       NULL, arguments, NULL,
                       G_SPAWN_SEARCH_PATH | G_SPAWN_DO_NOT_REAP_CHILD |
                           G_SPAWN_STDERR_TO_DEV_NULL | G_SPAWN_STDOUT_TO_DEV_NULL,
                       NULL, NULL, -1, -1, -1, own, theirs, 2, &b->process, NULL, NULL, NULL, NULL);
    close(in[0]);
    close(out[1]);
    b->to = in[1];
    b->from = out[0];
    g_free(profile);
    return good;
}

static char *text_of(JsonObject *result, const char *name) {
    char *text = result != NULL
                     ? g_strdup(json_object_get_string_member_with_default(result, name, ""))
                     : NULL;
    if (result != NULL) {
        json_object_unref(result);
    }
    return text;
}

browser *browser_open(const char *address, int width, int height) {
    browser *b = g_new0(browser, 1);
    b->came = g_byte_array_new();
    b->console = g_string_new(NULL);
    b->folder = g_dir_make_tmp("netsuke-browser-XXXXXX", NULL);
    char *target = NULL;
    if (start(b)) {
        target = text_of(call(b, "Target.createTarget", "\"url\":\"about:blank\""), "targetId");
    }
    if (target != NULL) {
        char *which = g_strdup_printf("\"targetId\":\"%s\",\"flatten\":true", target);
        b->session = text_of(call(b, "Target.attachToTarget", which), "sessionId");
        g_free(which);
    }
    char *where = g_strdup_printf("\"url\":\"%s\"", address);
    char *size = g_strdup_printf(
        "\"width\":%d,\"height\":%d,\"deviceScaleFactor\":1,\"mobile\":false", width, height);
    const bool good = b->session != NULL && does(b, "Runtime.enable", "") &&
                      does(b, "Log.enable", "") && does(b, "Page.enable", "") &&
                      does(b, "Emulation.setDeviceMetricsOverride", size) &&
                      does(b, "Page.navigate", where);
    g_free(size);
    g_free(where);
    g_free(target);
    if (!good) {
        browser_close(b);
        return NULL;
    }
    return b;
}

void browser_close(browser *b) {
    g_free(b->session);
    b->session = NULL;
    if (b->process != 0) {
        does(b, "Browser.close", "");
        close(b->to);
        close(b->from);
        waitpid(b->process, NULL, 0);
        g_spawn_close_pid(b->process);
    }
    if (b->folder != NULL) {
        char *remove[] = {"rm", "-rf", "--", b->folder, NULL};
        g_spawn_sync(NULL, remove, NULL, G_SPAWN_SEARCH_PATH, NULL, NULL, NULL, NULL, NULL, NULL);
    }
    g_byte_array_free(b->came, TRUE);
    g_string_free(b->console, TRUE);
    g_free(b->folder);
    g_free(b);
}

/* ---- at the page ---- */

/* As a string of JSON. */
static char *quoted(const char *text) {
    JsonNode *node = json_node_new(JSON_NODE_VALUE);
    json_node_set_string(node, text);
    char *json = json_to_string(node, FALSE);
    json_node_unref(node);
    return json;
}

char *browser_asks(browser *b, const char *expression) {
    char *whole = g_strdup_printf("String(%s)", expression);
    char *text = quoted(whole);
    char *parameters = g_strdup_printf("\"expression\":%s,\"awaitPromise\":true", text);
    JsonObject *result = call(b, "Runtime.evaluate", parameters);
    char *value = g_strdup("");
    if (result != NULL) {
        JsonObject *of = json_object_get_object_member(result, "result");
        if (!json_object_has_member(result, "exceptionDetails")) {
            g_free(value);
            value = g_strdup(json_object_get_string_member_with_default(of, "value", ""));
        }
        json_object_unref(result);
    }
    g_free(parameters);
    g_free(text);
    g_free(whole);
    return value;
}

bool browser_until(browser *b, const char *expression) {
    const gint64 until = g_get_monotonic_time() + PATIENCE * G_GINT64_CONSTANT(1000);
    bool is_true = false;
    while (!is_true && g_get_monotonic_time() < until) {
        char *value = browser_asks(b, expression);
        is_true = strcmp(value, "true") == 0;
        g_free(value);
        if (!is_true) {
            g_usleep(20000);
        }
    }
    return is_true;
}

void browser_press(browser *b, const char *key) {
    char *down = g_strdup_printf("\"type\":\"keyDown\",\"key\":\"%s\"%s%s%s", key,
                                 strlen(key) == 1 ? ",\"text\":\"" : "",
                                 strlen(key) == 1 ? key : "", strlen(key) == 1 ? "\"" : "");
    char *up = g_strdup_printf("\"type\":\"keyUp\",\"key\":\"%s\"", key);
    does(b, "Input.dispatchKeyEvent", down);
    does(b, "Input.dispatchKeyEvent", up);
    g_free(down);
    g_free(up);
}

void browser_click(browser *b, int x, int y) {
    static const char *const types[] = {"mousePressed", "mouseReleased"};
    for (size_t i = 0; i < G_N_ELEMENTS(types); i++) {
        char *parameters = g_strdup_printf(
            "\"type\":\"%s\",\"x\":%d,\"y\":%d,\"button\":\"left\",\"clickCount\":1", types[i], x,
            y);
        does(b, "Input.dispatchMouseEvent", parameters);
        g_free(parameters);
    }
}

const char *browser_console(const browser *b) {
    return b->console->str;
}

bool browser_picture(browser *b, const char *path) {
    char *text = text_of(call(b, "Page.captureScreenshot", "\"format\":\"png\""), "data");
    gsize size = 0;
    guchar *bytes = text != NULL ? g_base64_decode(text, &size) : NULL;
    const bool good =
        size > 0 && g_file_set_contents(path, (const char *)bytes, (gssize)size, NULL);
    g_free(bytes);
    g_free(text);
    return good;
}
