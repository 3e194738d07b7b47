/* batch.c — one request on many drives: builds beside each other, over one window of what they read. */
#include "assemble/batch.h"

#include <stdatomic.h>
#include <stdlib.h>
#include <string.h>

/* What readers may be apart, and how long others wait for one that does not get on: a stick may take half a minute to
 * empty its cache. */
enum { WINDOW = 48 << 20 };
static const double PATIENCE_S = 60, NAP_S = 0.05;

struct one {
    struct ws_batch *batch;
    struct ws_build *build;
    struct ws_source *view[WS_INPUTS_MOST];
    struct ws_drive *drive;
    struct ws_build_options wished; /* as the caller has them */
    struct ws_task *task;
    bool begun, first; /* the latter: of the first that were begun */
    atomic_bool ended, stop;
    atomic_flag busy; /* held while `progress` is copied */
    struct ws_progress progress;
    struct ws_build_result result;
    enum ws_status status;
    struct ws_error error;
};

struct ws_batch {
    struct ws_port *port;
    struct ws_request request;
    const struct ws_source *input[WS_INPUTS_MOST];
    struct ws_shared *shared;
    struct ws_digests *digests;
    struct one *one[WS_BATCH_MOST];
    size_t count;
    bool any_begun;
    /* of a full system: read once */
    struct ws_image image;
    struct ws_tree *medium;
    struct ws_root root;
    /* whether the inputs are the planned ones */
    atomic_flag claimed;
    atomic_bool checked;
    enum ws_status status;
    struct ws_error error;
};

enum ws_status ws_batch_open(struct ws_port *port, const struct ws_request *request,
                             const struct ws_source *const input[WS_INPUTS_MOST], struct ws_batch **out,
                             struct ws_error *error) {
    struct ws_batch *b = calloc(1, sizeof *b);
    if (!b) return ws_fail(error, WS_E_NOMEM, "out of memory for a batch");
    b->port = port;
    b->request = *request;
    memcpy(b->input, input, sizeof b->input);
    atomic_flag_clear(&b->claimed);
    enum ws_status status = ws_shared_open(port, WS_BATCH_MOST, WINDOW, PATIENCE_S, &b->shared, error);
    if (status == WS_OK) status = ws_digests_open(port, &b->digests, error);
    if (status == WS_OK) *out = b;
    else ws_batch_close(b);
    return status;
}

static void close_one(struct one *o) {
    if (!o) return;
    if (o->task) o->batch->port->ops->join(o->batch->port, o->task);
    ws_build_close(o->build);
    for (size_t i = 0; i < WS_INPUTS_MOST; i++) ws_source_close(o->view[i]);
    free(o);
}

void ws_batch_close(struct ws_batch *b) {
    if (!b) return;
    for (size_t i = 0; i < b->count; i++) close_one(b->one[i]);
    ws_root_close(&b->root);
    ws_tree_close(b->medium);
    ws_image_free(&b->image);
    ws_digests_close(b->digests);
    ws_shared_close(b->shared);
    free(b);
}

enum ws_status ws_batch_add(struct ws_batch *b, const struct ws_build_setting *setting, size_t *number,
                            struct ws_error *error) {
    struct ws_build_setting own = *setting;
    enum ws_status status = WS_OK;
    size_t place = 0;
    while (place < b->count && b->one[place]) place++; /* that of one which was dropped */
    if (place == WS_BATCH_MOST) return ws_fail(error, WS_E_RANGE, "a batch has at most %d drives", WS_BATCH_MOST);
    struct one *o = calloc(1, sizeof *o);
    if (!o) return ws_fail(error, WS_E_NOMEM, "out of memory for a build");
    o->batch = b;
    atomic_flag_clear(&o->busy);
    for (size_t i = 0; i < WS_INPUTS_MOST; i++) {
        if (b->input[i]) WS_GO(ws_shared_view(b->shared, place, b->input[i], &o->view[i], error));
        own.input[i] = o->view[i];
    }
    own.batch = b;
    own.number = place;
    status = ws_build_prepare(&b->request, &own, &o->build, error);
done:
    if (status != WS_OK) {
        close_one(o);
        return status;
    }
    *number = place;
    b->one[place] = o;
    if (place == b->count) b->count++;
    return WS_OK;
}

struct ws_build *ws_batch_build(struct ws_batch *b, size_t number) {
    return number < b->count && b->one[number] ? b->one[number]->build : NULL;
}

void ws_batch_drop(struct ws_batch *b, size_t number) {
    if (number >= b->count) return;
    close_one(b->one[number]);
    b->one[number] = NULL;
}

/* Whose contents the copy has: through views of its own, so that all of them share what is unpacked. */
static enum ws_status look_through_views(struct ws_batch *b, size_t number, struct ws_tree *tree,
                                         struct ws_error *error) {
    for (struct ws_node *n = ws_tree_root(tree); n; n = ws_tree_next(n)) {
        struct ws_source *view = NULL;
        if (n->kind != WS_NODE_FILE || !n->content || n->same_as) continue;
        WS_TRY(ws_shared_view(b->shared, number, n->content, &view, error));
        n->content = view;
        WS_TRY(ws_tree_own(tree, view, error));
    }
    return WS_OK;
}

enum ws_status batch_take_root(struct ws_batch *b, const struct ws_build *build, struct ws_root *root,
                               struct ws_error *error) {
    struct ws_tree *copy = NULL;
    if (!b->root.tree) {
        WS_TRY(ws_image_inspect(b->input[WS_INPUT_IMAGE], &b->image, error));
        WS_TRY(build_read_root(&b->image, b->request.edition, &b->medium, &b->root, error));
    }
    WS_TRY(ws_tree_copy(b->root.tree, &copy, error));
    enum ws_status status = look_through_views(b, build->number, copy, error);
    if (status != WS_OK) {
        ws_tree_close(copy);
        return status;
    }
    *root = b->root;
    root->tree = copy;
    root->outer = NULL;
    memset(root->layer, 0, sizeof root->layer);
    return WS_OK;
}

const struct ws_source *batch_input(const struct ws_batch *b, size_t number) { return b->input[number]; }

bool batch_checks_inputs(struct ws_batch *b, size_t number) {
    return !b->one[number]->first || !atomic_flag_test_and_set(&b->claimed);
}

void batch_inputs_checked(struct ws_batch *b, size_t number, enum ws_status status, const struct ws_error *error) {
    if (!b->one[number]->first) return; /* a later one asked for itself alone */
    b->status = status;
    b->error = *error;
    atomic_store(&b->checked, true);
}

enum ws_status batch_await_inputs(struct ws_batch *b, struct ws_error *error) {
    while (!atomic_load(&b->checked) && b->port->ops->pause && b->port->ops->pause(b->port, NAP_S)) {
    }
    if (b->status != WS_OK) *error = b->error;
    return b->status;
}

struct ws_digests *batch_digests(const struct ws_batch *b) {
    return b->digests;
}

void batch_has_read(struct ws_batch *b, size_t number) { ws_shared_leave(b->shared, number); }

static bool take_progress(void *context, const struct ws_progress *progress) {
    struct one *o = context;
    while (atomic_flag_test_and_set_explicit(&o->busy, memory_order_acquire)) {
    }
    o->progress = *progress;
    atomic_flag_clear_explicit(&o->busy, memory_order_release);
    return !atomic_load(&o->stop);
}

static enum ws_status before_write(void *context, struct ws_error *error) {
    const struct one *o = context;
    return o->wished.before_write ? o->wished.before_write(o->wished.context, error) : WS_OK;
}

static void carry_out(void *context) {
    struct one *o = context;
    struct ws_build_options options = o->wished;
    options.on_progress = take_progress;
    options.before_write = before_write;
    options.context = o;
    o->status = ws_build_carry_out(o->build, o->batch->port, o->drive, &options, &o->result, &o->error);
    batch_has_read(o->batch, o->build->number);
    atomic_store(&o->ended, true);
}

static bool failed(const struct one *o) { return atomic_load(&o->ended) && o->status != WS_OK; }

/* Once more: nothing is left of the first time. */
static void begin_again(struct one *o) {
    if (o->task) o->batch->port->ops->join(o->batch->port, o->task);
    o->task = NULL;
    memset(&o->result, 0, sizeof o->result);
    memset(&o->error, 0, sizeof o->error);
    memset(&o->progress, 0, sizeof o->progress);
    atomic_store(&o->ended, false);
    atomic_store(&o->stop, false);
}

enum ws_status ws_batch_start(struct ws_batch *b, const struct ws_batch_start *start, size_t count,
                              struct ws_error *error) {
    for (size_t i = 0; i < count; i++) {
        const struct one *o = start[i].number < b->count ? b->one[start[i].number] : NULL;
        if (!o || (o->begun && !failed(o)))
            return ws_fail(error, WS_E_USAGE, "a drive of a batch is begun once, and again when it failed");
    }
    const bool first = !b->any_begun;
    b->any_begun = true;
    for (size_t i = 0; i < count; i++) {
        struct one *o = b->one[start[i].number];
        if (o->begun) begin_again(o);
        o->drive = start[i].drive;
        o->wished = start[i].options;
        o->begun = true;
        o->first |= first; /* who begins again may still be waited for */
        if (count > 1) ws_shared_begin(b->shared, start[i].number);
    }
    for (size_t i = 0; i < count; i++) {
        struct one *o = b->one[start[i].number];
        if (b->port->ops->start(b->port, carry_out, o, &o->task, &o->error) == WS_OK) continue;
        carry_out(o); /* no memory for a task: at once, then */
    }
    return WS_OK;
}

void ws_batch_look(struct ws_batch *b, size_t number, struct ws_batch_state *state) {
    struct one *o = b->one[number];
    memset(state, 0, sizeof *state);
    if (!o) return;
    state->begun = o->begun;
    state->ended = atomic_load(&o->ended);
    if (state->ended) state->status = o->status;
    while (atomic_flag_test_and_set_explicit(&o->busy, memory_order_acquire)) {
    }
    state->progress = o->progress;
    atomic_flag_clear_explicit(&o->busy, memory_order_release);
}

void ws_batch_stop(struct ws_batch *b, size_t number) {
    if (b->one[number]) atomic_store(&b->one[number]->stop, true);
}

enum ws_status ws_batch_end(struct ws_batch *b, size_t number, struct ws_build_result *result, struct ws_error *error) {
    struct one *o = number < b->count ? b->one[number] : NULL;
    if (!o || !o->begun) return ws_fail(error, WS_E_USAGE, "this drive of the batch was not begun");
    if (o->task) b->port->ops->join(b->port, o->task);
    o->task = NULL;
    *result = o->result;
    if (o->status != WS_OK && error) *error = o->error;
    return o->status;
}

void ws_batch_count(struct ws_batch *b, struct ws_shared_count *count) { ws_shared_count(b->shared, count); }
