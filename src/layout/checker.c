/* checker.c — what reads back, held against the layout, or against digests of what once did. The drive is read by one
 * task ahead of the comparison, and digests are worked out by two behind it. */
#include "base/bytes.h"
#include "layout/stream.h"
#include "wild_satchel/pieces.h"
#include "wild_satchel/write.h"

#include <stdlib.h>
#include <string.h>

enum { RING = 4, HASHERS = 2 };

/* One chunk on its way: read, compared, hashed. */
struct passing {
    struct ws_chunk chunk;
    bool meant; /* not on the drive yet: taken from the layout */
    unsigned part;
};

struct reading {
    const struct ws_source *drive;
    struct ws_chunk *chunk;
};

struct hashing {
    struct ws_task *task;
    const struct passing *of; /* NULL: nothing under way */
    struct ws_digests *digests;
    bool with_sum, failed;
    uint64_t sum;
    struct ws_digest_piece piece;
};

struct checking {
    struct ws_port *port;
    const struct ws_check_options *options;
    struct ws_check_result *result;
    struct ws_cursor cursor;
    const struct ws_pieces *wanted; /* NULL: the layout's own bytes */
    size_t index;                   /* in `wanted`: of the next chunk to be read */
    size_t finished;                /* how many digests are done */
    struct ws_source *view, *back;
    struct passing ring[RING];
    struct ws_chunk meant; /* from the layout, to compare with */
    struct hashing hasher[HASHERS];
    struct ws_pieces pieces; /* as found */
    struct reading ahead;
    struct ws_task *task;
};

static void read_chunk(void *context) {
    struct reading *r = context;
    struct ws_chunk *c = r->chunk;
    c->status = ws_source_read(r->drive, c->at, c->data, c->length, &c->error);
}

static void hash_chunk(void *context) {
    struct hashing *h = context;
    const struct ws_chunk *c = &h->of->chunk;
    h->piece = (struct ws_digest_piece){.at = c->at, .length = (uint32_t)c->length, .part = h->of->part};
    if (h->with_sum) h->sum = ws_sum_of(c->data, c->length);
    h->failed = !ws_digests_of(h->with_sum ? h->digests : NULL, &h->piece, h->sum, c->data, h->piece.sha256);
}

static size_t first_difference(const char *a, const char *b, size_t length) {
    size_t i = 0;
    while (i < length && a[i] == b[i]) i++;
    return i;
}

static void note_difference(struct checking *c, uint64_t at, unsigned part) {
    const uint32_t bit = 1u << part;
    if (!(c->result->different_parts & bit) || at < c->result->different_in[part]) c->result->different_in[part] = at;
    c->result->different_parts |= bit;
    if (c->result->equal || at < c->result->different_at) c->result->different_at = at;
    c->result->equal = false;
    c->result->different_chunks++;
}

/* The next stretch to look at. Length 0 at the end. */
static void next_place(struct checking *c, struct passing *p) {
    p->meant = false;
    p->chunk.length = 0;
    while (c->wanted && c->index < c->wanted->count && c->options->leave_out >> c->wanted->list[c->index].part & 1)
        c->index++;
    if (c->wanted && c->index < c->wanted->count) {
        const struct ws_digest_piece *w = &c->wanted->list[c->index++];
        p->chunk.at = w->at;
        p->chunk.length = w->length;
        p->part = w->part;
    } else if (!c->wanted) {
        ws_cursor_next(&c->cursor, &p->chunk.at, &p->chunk.length);
        p->meant = c->options->scope == WS_CHECK_BEFORE_SEAL && c->cursor.chunk_phase == WS_PHASE_SEAL;
        p->part = c->cursor.chunk_part;
    }
}

/* Begin to read a chunk: beside the caller, unless it comes from the layout. */
static enum ws_status begin(struct checking *c, struct passing *p, struct ws_error *error) {
    if (!p->chunk.length) return WS_OK;
    if (p->meant) return ws_source_read(c->view, p->chunk.at, p->chunk.data, p->chunk.length, error);
    c->ahead = (struct reading){c->back, &p->chunk};
    return c->port->ops->start(c->port, read_chunk, &c->ahead, &c->task, error);
}

static enum ws_status wait_for(struct checking *c, const struct passing *p, struct ws_error *error) {
    if (!c->task) return WS_OK;
    c->port->ops->join(c->port, c->task);
    c->task = NULL;
    if (p->chunk.status == WS_OK) return WS_OK;
    if (error) *error = p->chunk.error;
    return ws_bad_place(p->chunk.status, error);
}

/* The sum of what was written in this place; NULL: none is known. */
static const struct ws_sum *written_there(const struct checking *c, const struct ws_chunk *chunk) {
    return c->options->written ? ws_sums_find(c->options->written, chunk->at, chunk->length) : NULL;
}

/* Where in a chunk of another digest than was meant: read from the layout after all. */
static enum ws_status find_difference(struct checking *c, const struct ws_chunk *chunk, unsigned part,
                                      struct ws_error *error) {
    WS_TRY(ws_source_read(c->view, chunk->at, c->meant.data, chunk->length, error));
    note_difference(c, chunk->at + first_difference(chunk->data, c->meant.data, chunk->length), part);
    return WS_OK;
}

/* What a hasher found, put into the list; they finish in the order in which they were given their chunks. */
static enum ws_status finish_hash(struct checking *c, struct hashing *h, struct ws_error *error) {
    if (!h->of) return WS_OK;
    c->port->ops->join(c->port, h->task);
    const struct ws_chunk *chunk = &h->of->chunk;
    const struct ws_digest_piece piece = h->piece;
    const struct ws_sum *meant = h->of->meant ? NULL : written_there(c, chunk);
    h->of = NULL;
    if (h->failed) return ws_fail(error, WS_E_NOMEM, "a hash could not be worked out");
    if (meant && meant->sum != h->sum) WS_TRY(find_difference(c, chunk, piece.part, error));
    while (c->wanted && c->options->leave_out >> c->wanted->list[c->finished].part & 1) c->finished++;
    if (c->wanted && memcmp(c->wanted->list[c->finished++].sha256, piece.sha256, 32) != 0)
        note_difference(c, piece.at, piece.part);
    return ws_pieces_add(&c->pieces, &piece, error);
}

static enum ws_status begin_hash(struct checking *c, const struct passing *p, size_t number, struct ws_error *error) {
    struct hashing *h = &c->hasher[number % HASHERS];
    WS_TRY(finish_hash(c, h, error));
    h->of = p;
    h->digests = c->options->digests;
    h->with_sum = !p->meant && written_there(c, &p->chunk);
    enum ws_status status = c->port->ops->start(c->port, hash_chunk, h, &h->task, error);
    if (status != WS_OK) h->of = NULL;
    return status;
}

/* What is not known is as it reads. */
static void pass_unknown(const struct checking *c, const struct passing *p) {
    uint64_t from = ws_max_u64(p->chunk.at, c->options->unknown_at);
    uint64_t end = ws_min_u64(p->chunk.at + p->chunk.length, c->options->unknown_at + c->options->unknown_length);
    if (from < end) memcpy(c->meant.data + (from - p->chunk.at), p->chunk.data + (from - p->chunk.at), end - from);
}

static enum ws_status compare(struct checking *c, const struct passing *p, struct ws_error *error) {
    if (p->meant || c->wanted || written_there(c, &p->chunk)) return WS_OK;
    WS_TRY(ws_source_read(c->view, p->chunk.at, c->meant.data, p->chunk.length, error));
    pass_unknown(c, p);
    if (memcmp(p->chunk.data, c->meant.data, p->chunk.length) != 0)
        note_difference(c, p->chunk.at + first_difference(p->chunk.data, c->meant.data, p->chunk.length), p->part);
    return WS_OK;
}

/* A chunk of the ring is used again when its hasher has been given the next but one: that was done with it before. */
static enum ws_status pass_all(struct checking *c, struct ws_pace *pace, struct ws_error *error) {
    bool hash = c->options->with_hash || c->wanted;
    next_place(c, &c->ring[0]);
    WS_TRY(begin(c, &c->ring[0], error));
    WS_TRY(wait_for(c, &c->ring[0], error));
    for (size_t n = 0; c->ring[n % RING].chunk.length > 0; n++) {
        struct passing *this = &c->ring[n % RING];
        struct passing *next = &c->ring[(n + 1) % RING];
        next_place(c, next);
        WS_TRY(begin(c, next, error));
        if (hash) WS_TRY(begin_hash(c, this, n, error));
        WS_TRY(compare(c, this, error));
        c->result->checked += this->chunk.length;
        if (!ws_pace_tell(pace, WS_STEP_CHECKING, c->result->checked))
            return ws_fail(error, WS_E_CANCELLED, "stopped as asked; the drive is not checked");
        WS_TRY(wait_for(c, next, error));
    }
    for (size_t i = 0; i < HASHERS; i++) { /* the one that was given its chunk first, first */
        struct hashing *a = &c->hasher[0];
        struct hashing *b = &c->hasher[1];
        struct hashing *first = !b->of || (a->of && a->of->chunk.at < b->of->chunk.at) ? a : b;
        WS_TRY(finish_hash(c, first, error));
    }
    return hash ? ws_pieces_root(&c->pieces, c->result->sha256, error) : WS_OK;
}

static void stop_tasks(struct checking *c) {
    if (c->task) c->port->ops->join(c->port, c->task);
    for (size_t i = 0; i < HASHERS; i++)
        if (c->hasher[i].of) c->port->ops->join(c->port, c->hasher[i].task);
}

static enum ws_status check(struct checking *c, const struct ws_layout *layout, struct ws_drive *drive, uint64_t total,
                            struct ws_error *error) {
    struct ws_chunk buffer[RING + 1];
    void *memory = NULL;
    struct ws_pace pace;
    enum ws_status status;
    memset(c->result, 0, sizeof *c->result);
    c->result->equal = true;
    ws_pace_start(&pace, c->port, c->options->on_progress, c->options->context, total);
    WS_GO(drive->ops->reread(drive, error));
    WS_GO(ws_source_drive(drive, &c->back, error));
    if (layout) WS_GO(ws_layout_source(layout, &c->view, error));
    WS_GO(ws_chunk_buffers(buffer, RING + 1, &memory, error));
    for (size_t i = 0; i < RING; i++) c->ring[i].chunk = buffer[i];
    c->meant = buffer[RING];
    status = pass_all(c, &pace, error);
done:
    stop_tasks(c);
    c->result->seconds = c->port->ops->steady_clock(c->port) - pace.started;
    if (status == WS_OK && c->options->pieces) *c->options->pieces = c->pieces;
    else ws_pieces_free(&c->pieces);
    ws_source_close(c->view);
    ws_source_close(c->back);
    free(memory);
    return status;
}

enum ws_status ws_check(struct ws_port *port, const struct ws_layout *layout, struct ws_drive *drive,
                        const struct ws_check_options *options, struct ws_check_result *result,
                        struct ws_error *error) {
    int phase = options->scope == WS_CHECK_SEAL ? (int)WS_PHASE_SEAL : -1;
    struct checking c = {.port = port,
                         .options = options,
                         .result = result,
                         .cursor = {.layout = layout, .phase = phase, .leave_out = options->leave_out}};
    return check(&c, layout, drive, ws_layout_bytes_without(layout, options->leave_out), error);
}

enum ws_status ws_check_pieces(struct ws_port *port, const struct ws_pieces *wanted, struct ws_drive *drive,
                               const struct ws_check_options *options, struct ws_check_result *result,
                               struct ws_error *error) {
    struct checking c = {.port = port, .options = options, .result = result, .wanted = wanted};
    struct ws_drive_facts facts;
    uint64_t total = 0;
    WS_TRY(drive->ops->describe(drive, &facts, error));
    for (size_t i = 0; i < wanted->count; i++) {
        if (!ws_inside(wanted->list[i].at, wanted->list[i].length, facts.size))
            return ws_fail(error, WS_E_RANGE, "what was written reaches past the end of this drive");
        if (!(options->leave_out >> wanted->list[i].part & 1)) total += wanted->list[i].length;
    }
    return check(&c, NULL, drive, total, error);
}
