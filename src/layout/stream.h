/* stream.h — a layout cut into aligned chunks, the next one read while the caller works on this one. */
#ifndef WS_LAYOUT_STREAM_H
#define WS_LAYOUT_STREAM_H

#include "wild_satchel/layout.h"
#include "wild_satchel/port.h"
#include "wild_satchel/write.h"

enum { WS_CHUNK = 4 << 20, WS_ALIGN = 4096 };

struct ws_chunk {
    uint64_t at;
    size_t length;
    char *data; /* WS_ALIGN-aligned, WS_CHUNK bytes */
    unsigned part;
    uint64_t sum; /* of what was filled in, where that is asked for */
    enum ws_status status;
    struct ws_error error;
};

/* Where the next chunk starts: extent index and offset inside it. */
struct ws_cursor {
    const struct ws_layout *layout;
    size_t index;
    uint64_t offset;
    int phase;                 /* enum ws_phase, or -1 for both */
    enum ws_phase chunk_phase; /* of the chunk found last: a chunk is all of one phase */
    uint32_t leave_out;        /* bit N: part N is passed over */
    unsigned chunk_part;       /* likewise: of one part */
};

/** Find the next chunk's place and length without reading it; length 0 at the end. A chunk never crosses a multiple
 *  of WS_CHUNK and never spans a hole. */
void ws_cursor_next(struct ws_cursor *cursor, uint64_t *at, size_t *length);
/** Read a chunk's bytes from the layout. */
enum ws_status ws_chunk_fill(const struct ws_source *view, struct ws_chunk *chunk, struct ws_error *error);
/** Two aligned buffers in one allocation, to be freed with free(). */
enum ws_status ws_chunk_buffers(struct ws_chunk chunk[], size_t count, void **memory, struct ws_error *error);

/** A drive's own failure to read or write, not that of what is laid down: the same command again would end at the same
 *  place, so say what would not. @return `status` */
enum ws_status ws_bad_place(enum ws_status status, struct ws_error *error);

/** The first sector of a drive whose build is not finished; `build` may be NULL. */
void ws_mark_make(const char *build, uint64_t flushed, uint64_t end, char sector[512]);

/** Rates and time left, over the last few seconds. */
struct ws_pace {
    struct ws_port *port;
    ws_progress_call call;
    void *context;
    double started, mark_s;
    uint64_t mark_bytes;
    struct ws_progress progress;
};
void ws_pace_start(struct ws_pace *pace, struct ws_port *port, ws_progress_call call, void *context, uint64_t total);
/** @return false if the caller wants to stop */
bool ws_pace_tell(struct ws_pace *pace, enum ws_step step, uint64_t done);

#endif
