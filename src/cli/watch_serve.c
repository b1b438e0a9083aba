/* The page of `netsuke watch` over HTTP: files, a stream of events (the standard "Server-sent
 * events"), and what is asked for. */
#include "watch_serve.h"

#include <libsoup/soup.h>
#include <stdint.h>
#include <string.h>

#include "netsuke/tools.h"
#include "page.h"

enum { TOKEN_BYTES = 16, MOST_LOOKERS = 16, MOST_PATH = 64, MOST_SENT = 1 << 16 };

typedef struct event {
    char *name, *text;
    bool lasting;
} event;

/* Who looks: a request whose answer never ends. */
typedef struct looker {
    cli_serve *serve;
    SoupServerMessage *message;
    bool busy;      /* the last event is not on its way yet */
    GQueue waiting; /* lasting ones */
    event *newest;  /* of the others, or NULL */
} looker;

struct cli_serve {
    SoupServer *server;
    char token[2 * TOKEN_BYTES + 1];
    char *address;
    cli_page page;
    GPtrArray *lookers;
    GPtrArray *lasting; /* of event, in the order of their coming */
    GMutex lock;
    GPtrArray *posted; /* events of other threads; by the lock */
    int looking;       /* atomic */
};

static event *event_new(const char *name, char *text, bool lasting) {
    event *e = g_new(event, 1);
    *e = (event){g_strdup(name), text, lasting};
    return e;
}

static void free_event(gpointer data) {
    event *e = data;
    g_free(e->name);
    g_free(e->text);
    g_free(e);
}

/* ---- who may ask ---- */

/* By a number, or as this machine: a name of somewhere else that leads here is another site's
 * trick.
 */
static bool is_own_host(const char *host) {
    if (host == NULL) {
        return false;
    }
    GUri *uri = NULL;
    char *whole = g_strconcat("http://", host, "/", NULL);
    uri = g_uri_parse(whole, G_URI_FLAGS_NONE, NULL);
    const char *name = uri != NULL ? g_uri_get_host(uri) : NULL;
    const bool good = name != NULL && (g_hostname_is_ip_address(name) ||
                                       g_ascii_strcasecmp(name, "localhost") == 0);
    if (uri != NULL) {
        g_uri_unref(uri);
    }
    g_free(whole);
    return good;
}

/* The page's own scripts, or nobody's. */
static bool may_ask(SoupServerMessage *message) {
    SoupMessageHeaders *headers = soup_server_message_get_request_headers(message);
    const char *host = soup_message_headers_get_one(headers, "Host");
    const char *origin = soup_message_headers_get_one(headers, "Origin");
    char *own = g_strconcat("http://", host != NULL ? host : "", NULL);
    const bool good = is_own_host(host) && (origin == NULL || strcmp(origin, own) == 0);
    g_free(own);
    return good;
}

/* What stands behind "/TOKEN/", or NULL. Each byte is looked at, so that the time says nothing. */
static const char *behind_token(const cli_serve *s, const char *path) {
    const size_t length = strlen(s->token);
    unsigned differ = 0;
    if (strlen(path) < length + 2 || path[0] != '/' || path[length + 1] != '/') {
        return NULL;
    }
    for (size_t i = 0; i < length; i++) {
        differ |= (unsigned)(path[i + 1] ^ s->token[i]);
    }
    return differ == 0 ? path + length + 2 : NULL;
}

/* ---- files ---- */

static const struct {
    const char *name, *resource, *type;
} files[] = {{"", "/watch/page.html", "text/html; charset=utf-8"},
             {"page.css", "/watch/page.css", "text/css; charset=utf-8"},
             {"page.js", "/watch/page.js", "text/javascript; charset=utf-8"},
             {"set.js", "/watch/set.js", "text/javascript; charset=utf-8"}};

static void guard(SoupServerMessage *message) {
    static const char *const lines[][2] = {
        {"Content-Security-Policy",
         "default-src 'none'; img-src 'self' data:; style-src 'self'; script-src 'self'; "
         "connect-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"},
        {"X-Content-Type-Options", "nosniff"},
        {"Referrer-Policy", "no-referrer"},
        {"Cache-Control", "no-store"}};
    SoupMessageHeaders *headers = soup_server_message_get_response_headers(message);
    for (size_t i = 0; i < G_N_ELEMENTS(lines); i++) {
        soup_message_headers_replace(headers, lines[i][0], lines[i][1]);
    }
}

static bool send_file(SoupServerMessage *message, const char *name) {
    for (size_t i = 0; i < G_N_ELEMENTS(files); i++) {
        if (strcmp(name, files[i].name) == 0) {
            GBytes *bytes = g_resource_lookup_data(page_get_resource(), files[i].resource, 0, NULL);
            gsize size = 0;
            const char *data = g_bytes_get_data(bytes, &size);
            soup_server_message_set_response(message, files[i].type, SOUP_MEMORY_COPY, data, size);
            soup_server_message_set_status(message, SOUP_STATUS_OK, NULL);
            g_bytes_unref(bytes);
            return true;
        }
    }
    return false;
}

/* ---- events ---- */

static void send_event(looker *l, const event *e) {
    char *text = g_strdup_printf("event: %s\ndata: %s\n\n", e->name, e->text);
    SoupMessageBody *body = soup_server_message_get_response_body(l->message);
    l->busy = true;
    soup_message_body_append(body, SOUP_MEMORY_TAKE, text, strlen(text));
    soup_server_message_unpause(l->message);
}

static void was_sent(SoupServerMessage *message, gpointer data) {
    looker *l = data;
    (void)message;
    l->busy = false;
    event *next = g_queue_pop_head(&l->waiting);
    if (next == NULL) {
        next = g_steal_pointer(&l->newest);
    }
    if (next != NULL) {
        send_event(l, next);
        free_event(next);
    }
}

static void is_gone(SoupServerMessage *message, gpointer data) {
    looker *l = data;
    (void)message;
    cli_serve *s = l->serve;
    g_ptr_array_remove(s->lookers, l);
    g_atomic_int_set(&s->looking, (int)s->lookers->len);
    g_queue_clear_full(&l->waiting, free_event);
    g_clear_pointer(&l->newest, free_event);
    g_object_unref(l->message);
    g_free(l);
}

static event *copy_of(const event *e) {
    return event_new(e->name, g_strdup(e->text), e->lasting);
}

/* Whoever is still being sent something gets lasting events all, and of others the newest. */
static void offer(looker *l, const event *e) {
    if (!l->busy) {
        send_event(l, e);
    } else if (e->lasting) {
        g_queue_push_tail(&l->waiting, copy_of(e));
    } else {
        g_clear_pointer(&l->newest, free_event);
        l->newest = copy_of(e);
    }
}

static void begin_events(cli_serve *s, SoupServerMessage *message) {
    if (s->lookers->len >= MOST_LOOKERS) {
        soup_server_message_set_status(message, SOUP_STATUS_SERVICE_UNAVAILABLE, NULL);
        return;
    }
    looker *l = g_new0(looker, 1);
    l->serve = s;
    l->message = g_object_ref(message);
    g_queue_init(&l->waiting);
    SoupMessageHeaders *headers = soup_server_message_get_response_headers(message);
    soup_message_headers_set_encoding(headers, SOUP_ENCODING_CHUNKED);
    soup_message_headers_set_content_type(headers, "text/event-stream", NULL);
    soup_message_body_set_accumulate(soup_server_message_get_response_body(message), FALSE);
    soup_server_message_set_status(message, SOUP_STATUS_OK, NULL);
    g_signal_connect(message, "wrote-chunk", G_CALLBACK(was_sent), l);
    g_signal_connect(message, "finished", G_CALLBACK(is_gone), l);
    g_ptr_array_add(s->lookers, l);
    g_atomic_int_set(&s->looking, (int)s->lookers->len);
    for (guint i = 0; i < s->lasting->len; i++) {
        offer(l, s->lasting->pdata[i]);
    }
}

static void keep(cli_serve *s, event *e) {
    for (guint i = 0; i < s->lasting->len; i++) {
        if (strcmp(((event *)s->lasting->pdata[i])->name, e->name) == 0) {
            free_event(s->lasting->pdata[i]);
            s->lasting->pdata[i] = e;
            return;
        }
    }
    g_ptr_array_add(s->lasting, e);
}

static void deliver(cli_serve *s, event *e) {
    for (guint i = 0; i < s->lookers->len; i++) {
        offer(s->lookers->pdata[i], e);
    }
    if (e->lasting) {
        keep(s, e);
    } else {
        free_event(e);
    }
}

/* In the thread of the main loop. */
static gboolean deliver_all(gpointer data) {
    cli_serve *s = data;
    g_mutex_lock(&s->lock);
    GPtrArray *posted = s->posted;
    s->posted = g_ptr_array_new();
    g_mutex_unlock(&s->lock);
    for (guint i = 0; i < posted->len; i++) {
        deliver(s, posted->pdata[i]);
    }
    g_ptr_array_free(posted, TRUE);
    return G_SOURCE_REMOVE;
}

void cli_serve_event(cli_serve *serve, const char *name, char *text, bool lasting) {
    g_mutex_lock(&serve->lock);
    g_ptr_array_add(serve->posted, event_new(name, text, lasting));
    g_mutex_unlock(&serve->lock);
    g_main_context_invoke_full(NULL, G_PRIORITY_DEFAULT, deliver_all, serve, NULL);
}

int cli_serve_lookers(const cli_serve *serve) {
    return g_atomic_int_get(&serve->looking);
}

/* ---- requests ---- */

static int number_of(GHashTable *query, const char *name) {
    const char *text = query != NULL ? g_hash_table_lookup(query, name) : NULL;
    guint64 number = 0;
    return text != NULL && g_ascii_string_to_unsigned(text, 10, 0, G_MAXINT, &number, NULL)
               ? (int)number
               : -1;
}

static cli_request request_of(const char *what, GHashTable *query) {
    return (cli_request){.what = what,
                         .number = number_of(query, "number"),
                         .label = number_of(query, "label"),
                         .round = number_of(query, "round")};
}

/* "3,17,4": those before the first that is no number. */
static GArray *numbers_of(SoupServerMessage *message) {
    GArray *numbers = g_array_new(FALSE, FALSE, sizeof(int));
    const SoupMessageBody *body = soup_server_message_get_request_body(message);
    const gsize size = body->data != NULL ? (gsize)CLAMP(body->length, 0, MOST_SENT) : 0;
    char *text = g_strndup(body->data != NULL ? body->data : "", size);
    char **parts = g_strsplit(text, ",", -1);
    guint64 number = 0;
    for (char **at = parts;
         *at != NULL && g_ascii_string_to_unsigned(*at, 10, 0, G_MAXINT, &number, NULL); at++) {
        const int one = (int)number;
        g_array_append_val(numbers, one);
    }
    g_strfreev(parts);
    g_free(text);
    return numbers;
}

static void ask(const cli_serve *s, SoupServerMessage *message, GHashTable *query) {
    cli_request request =
        request_of(query != NULL ? g_hash_table_lookup(query, "what") : NULL, query);
    GArray *numbers = numbers_of(message);
    request.numbers = (const int *)(void *)numbers->data;
    request.count = (int)numbers->len;
    const bool good = request.what != NULL && s->page.ask(s->page.context, &request);
    soup_server_message_set_status(message, good ? SOUP_STATUS_NO_CONTENT : SOUP_STATUS_BAD_REQUEST,
                                   NULL);
    g_array_free(numbers, TRUE);
}

static bool show(const cli_serve *s, SoupServerMessage *message, const char *name,
                 GHashTable *query) {
    const cli_request request = request_of(name, query);
    const char *type = NULL;
    size_t size = 0;
    char *bytes = s->page.show(s->page.context, &request, &size, &type);
    if (bytes != NULL) {
        soup_server_message_set_response(message, type, SOUP_MEMORY_TAKE, bytes, size);
        soup_server_message_set_status(message, SOUP_STATUS_OK, NULL);
    }
    return bytes != NULL;
}

/* Before what is sent is read: of a stranger, or too much of it, nothing is kept. */
static void handle_early(SoupServer *server, SoupServerMessage *message, const char *path,
                         GHashTable *query, gpointer data) {
    const goffset length =
        soup_message_headers_get_content_length(soup_server_message_get_request_headers(message));
    (void)server;
    (void)query;
    if (behind_token(data, path) == NULL || !may_ask(message) || length > MOST_SENT ||
        soup_message_headers_get_encoding(soup_server_message_get_request_headers(message)) !=
            SOUP_ENCODING_CONTENT_LENGTH) {
        soup_message_body_set_accumulate(soup_server_message_get_request_body(message), FALSE);
    }
}

static void handle(SoupServer *server, SoupServerMessage *message, const char *path,
                   GHashTable *query, gpointer data) {
    cli_serve *s = data;
    const char *method = soup_server_message_get_method(message);
    const char *name = behind_token(s, path);
    const bool reads = strcmp(method, SOUP_METHOD_GET) == 0;
    (void)server;
    guard(message);
    bool found = name != NULL && strlen(name) <= MOST_PATH;
    if (found && !may_ask(message)) {
        soup_server_message_set_status(message, SOUP_STATUS_FORBIDDEN, NULL);
    } else if (found && reads && strcmp(name, "events") == 0) {
        begin_events(s, message);
    } else if (found && strcmp(method, SOUP_METHOD_POST) == 0 && strcmp(name, "do") == 0) {
        ask(s, message, query);
    } else {
        found = found && reads && (send_file(message, name) || show(s, message, name, query));
    }
    if (!found) {
        soup_server_message_set_status(message, SOUP_STATUS_NOT_FOUND, NULL);
    }
}

/* ---- where it listens ---- */

/* From the system's own source; the main loop's generator is for tests. */
static bool make_token(cli_serve *s, nsk_error *error) {
    uint8_t bytes[TOKEN_BYTES];
    GFile *source = g_file_new_for_path("/dev/urandom");
    GFileInputStream *in = g_file_read(source, NULL, NULL);
    gsize some = 0;
    const bool good =
        in != NULL &&
        g_input_stream_read_all(G_INPUT_STREAM(in), bytes, sizeof bytes, &some, NULL, NULL) &&
        some == sizeof bytes;
    for (size_t i = 0; i < sizeof bytes && good; i++) {
        g_snprintf(s->token + 2 * i, 3, "%02x", bytes[i]);
    }
    g_clear_object(&in);
    g_object_unref(source);
    return good ||
           nsk_fail_system(error, "/dev/urandom gives no random bytes for the page's address");
}

/* "127.0.0.1:8080", "[::1]:8080", "0.0.0.0", "8080". */
static GSocketAddress *read_listen(const char *listen, nsk_error *error) {
    guint64 port = 0;
    char *host = g_strdup("127.0.0.1");
    const char *text = listen != NULL ? listen : "0";
    const char *colon = strrchr(text, ':');
    const bool many = colon != NULL && strchr(text, ':') != colon && text[0] != '[';
    if (g_ascii_string_to_unsigned(text, 10, 0, 65535, &port, NULL)) {
        colon = NULL;
    } else if (colon == NULL || many || (text[0] == '[' && colon[-1] != ']')) {
        g_free(host);
        host = g_strdup(text);
    } else {
        g_free(host);
        host = g_strndup(text, (gsize)(colon - text));
        if (!g_ascii_string_to_unsigned(colon + 1, 10, 0, 65535, &port, NULL)) {
            g_clear_pointer(&host, g_free);
        }
    }
    if (host != NULL && host[0] == '[') {
        const size_t length = strlen(host);
        memmove(host, host + 1, length);
        host[length - 2] = '\0';
    }
    GSocketAddress *address =
        host != NULL ? g_inet_socket_address_new_from_string(host, (guint)port) : NULL;
    if (address == NULL) {
        nsk_fail(error, "--listen %s: give an address as a number, and a port: 127.0.0.1:8080",
                 text);
    }
    g_free(host);
    return address;
}

static char *address_of(const cli_serve *s) {
    GSList *uris = soup_server_get_uris(s->server);
    GUri *first = uris->data;
    const char *host = g_uri_get_host(first);
    const char *mark = strchr(host, ':') != NULL ? "" : NULL;
    char *text = g_strdup_printf("http://%s%s%s:%d/%s/", mark != NULL ? "[" : "", host,
                                 mark != NULL ? "]" : "", g_uri_get_port(first), s->token);
    g_slist_free_full(uris, (GDestroyNotify)g_uri_unref);
    return text;
}

cli_serve *cli_serve_start(const char *listen, const cli_page *page, nsk_error *error) {
    GError *reason = NULL;
    cli_serve *s = g_new0(cli_serve, 1);
    s->page = *page;
    s->lookers = g_ptr_array_new();
    s->posted = g_ptr_array_new();
    g_mutex_init(&s->lock);
    s->lasting = g_ptr_array_new_with_free_func(free_event);
    s->server = soup_server_new(NULL, NULL);
    soup_server_add_early_handler(s->server, NULL, handle_early, s, NULL);
    soup_server_add_handler(s->server, NULL, handle, s, NULL);
    GSocketAddress *address = read_listen(listen, error);
    bool good = address != NULL && make_token(s, error);
    if (good && !soup_server_listen(s->server, address, 0, &reason)) {
        good = nsk_fail_system(error, "--listen %s: %s", listen != NULL ? listen : "127.0.0.1",
                               reason->message);
        g_error_free(reason);
    }
    g_clear_object(&address);
    if (!good) {
        cli_serve_stop(s);
        return NULL;
    }
    s->address = address_of(s);
    return s;
}

void cli_serve_stop(cli_serve *serve) {
    if (serve != NULL) {
        soup_server_disconnect(serve->server);
        while (g_main_context_iteration(NULL, FALSE)) { /* what was on its way */
        }
        g_object_unref(serve->server);
        g_ptr_array_free(serve->lookers, TRUE);
        g_ptr_array_free(serve->posted, TRUE);
        g_mutex_clear(&serve->lock);
        g_ptr_array_free(serve->lasting, TRUE);
        g_free(serve->address);
        g_free(serve);
    }
}

const char *cli_serve_address(const cli_serve *serve) {
    return serve->address;
}
