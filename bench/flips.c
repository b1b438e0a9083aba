/* flips BRIEF SCENE FLIPS: what becomes of flipped bits. The product's loop takes a few pictures of
 * a scene; in each of FLIPS trials, each in a process of its own, one bit or two change at a random
 * moment, in the model, in the memory that the loop was given, in what it holds on the stack, or in
 * the runtime's own tables. Prints a table in Markdown: what came of it, by place and by what
 * [firmware] protects. The same seed, the same flips. */
#define _GNU_SOURCE /* for mprotect and anonymous memory */
#include <glib.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/mman.h>
#include <sys/wait.h>
#include <unistd.h>

#include "base/random.h"
#include "brief/labels.h"
#include "brief/rule.h"
#include "device/layer.h"
#include "netsuke/compare.h"
#include "netsuke/film.h"
#include "netsuke/firmware.h"
#include "netsuke/weigh.h"

enum { PICTURES = 12, MOST_FRAMES = 600, MOST_MEMORIES = 8, TIME_LIMIT = 2 };

/* Where bits flip. */
enum place { IN_MODEL, IN_MEMORY, ON_STACK, IN_TABLES, PLACES };
static const char *const places[PLACES] = {"model", "workspace, frame", "loop's own, stack",
                                           "runtime's tables"};

/* What comes of it. */
enum outcome { HARMLESS, TOLD, STOPPED, MISSED, WRONG, OUTCOMES };

typedef struct protection {
    const char *name;
    uint16_t check_every;
    bool twice;
} protection;

static const protection protections[] = {{"nothing", 0, false},
                                         {"`check-every = 10`", 10, false},
                                         {"`check-every = 1`", 1, false},
                                         {"`check-every = 1`, `twice`", 1, true}};
enum { PROTECTIONS = sizeof protections / sizeof *protections };

typedef struct action {
    int picture, line;
} action;

/* What all trials share. */
typedef struct campaign {
    nsk_model model; /* its bytes aside */
    uint32_t hash;   /* of them */
    uint8_t *bytes;
    nsk_firmware firmware;
    uint8_t *pictures; /* PICTURES of the scene */
    size_t picture_bytes;
    action expected[PICTURES];
    int expected_count, moments; /* of a run without a flip */
} campaign;

/* One run of the loop. */
typedef struct run {
    const campaign *all;
    nsk_firmware firmware;
    int picture, moment; /* so far */
    int flip_at;         /* a moment; -1: none */
    enum place where;
    int bits;
    random_state random;
    uint8_t *memory[MOST_MEMORIES];
    size_t memory_bytes[MOST_MEMORIES];
    int memories;
    uintptr_t stack_top; /* what lies below is the loop's */
    action actions[2 * PICTURES];
    int action_count;
    bool told;
} run;

/* ---- flipping ---- */

static void flip_bit(run *r, uint8_t *from, size_t bytes) {
    from[random_below(&r->random, (int)bytes)] ^= (uint8_t)(1U << random_below(&r->random, 8));
}

static void flip_memory(run *r) {
    size_t all = 0;
    for (int i = 0; i < r->memories; i++) {
        all += r->memory_bytes[i];
    }
    if (all == 0) {
        return;
    }
    size_t at = (size_t)random_below(&r->random, (int)all);
    int which = 0;
    while (at >= r->memory_bytes[which]) {
        at -= r->memory_bytes[which++];
    }
    flip_bit(r, r->memory[which] + at, 1);
}

/* The functions of each kind of layer, which a program on a host cannot change without asking. */
static void flip_tables(run *r) {
    const size_t page = (size_t)sysconf(_SC_PAGESIZE);
    const size_t bytes = sizeof(nsk_operation *) * NSK_KINDS;
    uint8_t *table = (uint8_t *)(uintptr_t)nsk_operations;
    uint8_t *first = table - (uintptr_t)table % page;
    if (mprotect(first, (size_t)(table - first) + bytes, PROT_READ | PROT_WRITE) == 0) {
        flip_bit(r, table, bytes);
    }
}

static void flip(run *r) {
    uint8_t here;
    uint8_t *low = &here;
    for (int i = 0; i < r->bits; i++) {
        switch (r->where) {
        case IN_MODEL:
            flip_bit(r, r->all->bytes, r->all->model.size);
            break;
        case IN_MEMORY:
            flip_memory(r);
            break;
        case ON_STACK:
            flip_bit(r, low, (size_t)(r->stack_top - (uintptr_t)low));
            break;
        default:
            flip_tables(r);
            break;
        }
    }
}

/* A moment passes: a row that comes in, a layer that is done. */
static void pass(run *r) {
    if (r->moment++ == r->flip_at) {
        flip(r);
    }
}

/* ---- the port ---- */

static void *give_memory(void *context, size_t bytes) {
    run *r = context;
    if (r->memories == MOST_MEMORIES) {
        return NULL;
    }
    r->memory_bytes[r->memories] = bytes;
    return r->memory[r->memories++] = g_malloc0(bytes);
}

static nsk_row give_row(void *context, uint8_t *to, size_t bytes, unsigned y) {
    run *r = context;
    if (y == 0 && r->picture++ == PICTURES) {
        return NSK_ROW_END;
    }
    memcpy(to, r->all->pictures + (size_t)(r->picture - 1) * r->all->picture_bytes + y * bytes,
           bytes);
    pass(r);
    return NSK_ROW_THERE;
}

static void is_prepared(void *context) {
    pass(context);
}

static void is_done(void *context, const nsk_model *model, unsigned layer) {
    (void)model;
    (void)layer;
    pass(context);
}

static void hear_answer(void *context, const nsk_answered *answer) {
    run *r = context;
    if (answer->decided != NSK_NOTHING && r->action_count < 2 * PICTURES) {
        r->actions[r->action_count++] = (action){r->picture, answer->decided};
    }
}

static void hear_fault(void *context, nsk_fault fault) {
    run *r = context;
    r->told = r->told || fault != NSK_FAULT_NONE;
}

/* A board that says that it must be reset is reset. */
static void run_loop(run *r) {
    uint8_t here = 0;
    const nsk_port port = {.context = r,
                           .memory = give_memory,
                           .row = give_row,
                           .prepared = is_prepared,
                           .layer_done = is_done,
                           .answer = hear_answer,
                           .fault = hear_fault};
    /* only how far the stack reaches is taken of it, while this function runs */
    // cppcheck-suppress autoVariables
    r->stack_top = (uintptr_t)&here;
    nsk_status status;
    do {
        r->memories = 0;
        status = nsk_firmware_run(&port, &r->firmware);
        r->told = r->told || status != NSK_STATUS_OK;
    } while (status == NSK_STATUS_DAMAGED && r->picture < PICTURES &&
             nsk_intact(&r->all->model, r->all->hash));
}

/* ---- what came of it ---- */

/* An action is right where the same line was decided on without the flip, up to four pictures
 * apart; each once. */
static enum outcome judge(const run *r) {
    const campaign *c = r->all;
    bool used[PICTURES] = {false};
    int right = 0;
    for (int i = 0; i < r->action_count; i++) {
        int found = 0;
        while (found < c->expected_count &&
               (used[found] || c->expected[found].line != r->actions[i].line ||
                abs(c->expected[found].picture - r->actions[i].picture) > 4)) {
            found++;
        }
        if (found == c->expected_count) {
            return WRONG;
        }
        used[found] = true;
        right++;
    }
    return r->told ? TOLD : right < c->expected_count ? MISSED : HARMLESS;
}

static run new_run(const campaign *c, const protection *p) {
    run r = {.all = c, .firmware = c->firmware, .flip_at = -1};
    r.firmware.check_every = p->check_every;
    r.firmware.twice = p->twice;
    return r;
}

/* In a process of its own: whatever it breaks, it breaks for itself. */
static enum outcome try_flip(const campaign *c, const protection *p, enum place where, int bits,
                             uint64_t seed) {
    fflush(NULL);
    pid_t child = fork();
    if (child == 0) {
        run r = new_run(c, p);
        r.random = (random_state){seed};
        r.flip_at = random_below(&r.random, c->moments);
        r.where = where;
        r.bits = bits;
        alarm(TIME_LIMIT);
        if (freopen("/dev/null", "w", stderr) == NULL) { /* what libraries say before they abort */
            _exit(OUTCOMES);
        }
        run_loop(&r);
        _exit((int)judge(&r));
    }
    int status = 0;
    waitpid(child, &status, 0);
    return WIFEXITED(status) && WEXITSTATUS(status) < OUTCOMES ? (enum outcome)WEXITSTATUS(status)
                                                               : STOPPED;
}

/* ---- the campaign ---- */

typedef struct counts {
    int of[PROTECTIONS][PLACES][OUTCOMES];
} counts;

/* Every workers-th trial. Single and double flips take turns. */
static void work(const campaign *c, int flips, int worker, int workers, counts *to) {
    for (int i = worker; i < flips; i += workers) {
        int way = i / 2 % (PROTECTIONS * PLACES);
        int p = way / PLACES;
        int where = way % PLACES;
        enum outcome o = try_flip(c, &protections[p], (enum place)where, 1 + i % 2,
                                  1000003U * (uint64_t)i + 17U);
        to->of[p][where][o]++;
    }
}

static void run_all(const campaign *c, int flips, counts *sum) {
    enum { MOST_WORKERS = 64 };
    int workers = CLAMP((int)g_get_num_processors(), 1, MOST_WORKERS);
    counts *shared = mmap(NULL, sizeof *shared * (size_t)workers, PROT_READ | PROT_WRITE,
                          MAP_SHARED | MAP_ANONYMOUS, -1, 0);
    for (int w = 0; w < workers; w++) {
        if (fork() == 0) {
            work(c, flips, w, workers, &shared[w]);
            _exit(0);
        }
    }
    while (wait(NULL) > 0) {
    }
    for (int w = 0; w < workers; w++) {
        const int *from = &shared[w].of[0][0][0];
        for (size_t i = 0; i < sizeof *sum / sizeof(int); i++) {
            (&sum->of[0][0][0])[i] += from[i];
        }
    }
    munmap(shared, sizeof *shared * (size_t)workers);
}

static void print_row(const char *protection_name, const char *place, const int *of) {
    int all = 0;
    for (int o = 0; o < OUTCOMES; o++) {
        all += of[o];
    }
    double low;
    double high;
    nsk_share_interval(of[WRONG], all, &low, &high);
    printf("| %s | %s | %d | %.2f %% | %.2f %% | %.2f %% | %.2f %% | %.3f %% (%.3f to %.3f) |\n",
           protection_name, place, all, 100.0 * of[HARMLESS] / all, 100.0 * of[TOLD] / all,
           100.0 * of[STOPPED] / all, 100.0 * of[MISSED] / all, 100.0 * of[WRONG] / all,
           100.0 * low, 100.0 * high);
}

static void print_counts(const counts *c) {
    printf(
        "| protection | where | flips | harmless | told | stopped | missed | wrong action (95 %% "
        "interval) |\n|---|---|---|---|---|---|---|---|\n");
    for (int p = 0; p < PROTECTIONS; p++) {
        int all[OUTCOMES] = {0};
        for (int w = 0; w < PLACES; w++) {
            print_row(protections[p].name, places[w], c->of[p][w]);
            for (int o = 0; o < OUTCOMES; o++) {
                all[o] += c->of[p][w][o];
            }
        }
        print_row(protections[p].name, "all", all);
    }
}

/* ---- loading ---- */

/* The PICTURES on end in which most is decided. */
static bool choose_pictures(campaign *c, nsk_film *film, nsk_error *error) {
    const int frames = MIN(nsk_film_frames(film), MOST_FRAMES);
    int width;
    int height;
    nsk_film_size(film, &width, &height);
    c->firmware.camera_width = (uint16_t)width;
    c->firmware.camera_height = (uint16_t)height;
    c->picture_bytes = (size_t)width * (size_t)height * c->model.channels;
    c->pictures = g_malloc(c->picture_bytes * PICTURES);
    for (int first = 0; first + PICTURES <= frames; first += PICTURES / 2) {
        uint8_t *kept = g_memdup2(c->pictures, c->picture_bytes * PICTURES);
        bool good = true;
        for (int i = 0; i < PICTURES && good; i++) {
            good = nsk_film_picture(film, first + i, c->pictures + (size_t)i * c->picture_bytes,
                                    error);
        }
        run r = new_run(c, &protections[0]);
        if (good) {
            run_loop(&r);
        }
        if (good && !r.told && r.action_count > c->expected_count && r.action_count <= PICTURES) {
            memcpy(c->expected, r.actions, sizeof c->expected);
            c->expected_count = r.action_count;
            c->moments = r.moment;
        } else {
            memcpy(c->pictures, kept, c->picture_bytes * PICTURES);
        }
        g_free(kept);
        if (!good) {
            return false;
        }
    }
    if (c->expected_count == 0) {
        g_strlcpy(error->text, "nothing is decided on in this scene", sizeof error->text);
    }
    return c->expected_count > 0;
}

static bool load(campaign *c, const char *brief_path, const char *scene, nsk_error *error) {
    static nsk_rule_lists lists;
    nsk_brief *b = nsk_brief_read(brief_path, error);
    nsk_network *n = b != NULL ? nsk_network_read(b->model, &b->input, b->output, error) : NULL;
    nsk_images *images = n != NULL ? nsk_images_open(b->calibration, &b->labels, &b->input,
                                                     b->calibration_limit, false, error)
                                   : NULL;
    nsk_model_file *file = images != NULL ? nsk_quantise(n, images, &b->recipe, error) : NULL;
    nsk_film *film =
        file != NULL ? nsk_film_read(scene, &b->labels, &b->input, &b->product, 0, error) : NULL;
    bool good = film != NULL;
    if (good) {
        c->bytes = g_memdup2(file->bytes, file->size);
        good = nsk_open(&c->model, c->bytes, file->size) == NSK_STATUS_OK;
        c->hash = good ? nsk_hash_of(&c->model) : 0;
        c->firmware = nsk_firmware_of(&b->product, &b->decision, &c->model, &lists);
        good = good && choose_pictures(c, film, error);
    }
    nsk_film_free(film);
    nsk_model_file_free(file);
    nsk_images_free(images);
    nsk_network_free(n);
    nsk_brief_free(b);
    return good;
}

int main(int argc, char **argv) {
    nsk_error error = {.text = ""};
    campaign c = {.bytes = NULL};
    const int flips = argc == 4 ? atoi(argv[3]) : 0;
    if (flips < PROTECTIONS * PLACES * 2) {
        fprintf(stderr, "flips: say a brief, a scene of it, and how many flips, %d or more\n",
                PROTECTIONS * PLACES * 2);
        return 2;
    }
    if (!load(&c, argv[1], argv[2], &error)) {
        fprintf(stderr, "flips: %s\n", error.text);
        return 2;
    }
    counts sum = {0};
    run_all(&c, flips, &sum);
    printf("%d flips, half of them of two bits, on %d pictures of %s with %d actions.\n\n", flips,
           PICTURES, argv[2], c.expected_count);
    print_counts(&sum);
    return 0;
}
