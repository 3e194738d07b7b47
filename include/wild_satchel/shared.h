/* shared.h — the same bytes wanted by several readers at about the same time, and read once.
 *
 * Many drives written from one image at once would each read it, and unpack what is packed in it, for itself. Through
 * views of one window a stretch is read by the first who wants it and kept until the others have had it. Who is ahead
 * waits for those behind, as far as the window reaches; who does not get on at all is left behind after a while, and
 * reads for himself from then on.
 */
#ifndef WILD_SATCHEL_SHARED_H
#define WILD_SATCHEL_SHARED_H

#include "wild_satchel/port.h"

WS_BEGIN

enum { WS_READERS_MOST = 64 };
struct ws_shared;

/**
 * A window for `readers` of them, numbered from 0.
 *
 * @param window    bytes that it keeps at most; it holds what readers may be apart
 * @param patience  seconds by the port's steady clock that others wait for one who does not get on
 * @return WS_E_RANGE for none, or over WS_READERS_MOST; WS_E_NOMEM
 */
WS_CHECKED enum ws_status ws_shared_open(struct ws_port *port, size_t readers, size_t window, double patience,
                                         struct ws_shared **shared, struct ws_error *error);
/** After its views. NULL is accepted. */
void ws_shared_close(struct ws_shared *shared);

/** `base` as one reader sees it: a source like any other, which borrows both. Views of one base share what they read.
 *  Until ws_shared_begin(), and after ws_shared_leave(), a view reads for itself alone. */
WS_CHECKED enum ws_status ws_shared_view(struct ws_shared *shared, size_t reader, const struct ws_source *base,
                                         struct ws_source **view, struct ws_error *error);
/** From now on this reader takes part: all that do should begin before the first reads. */
void ws_shared_begin(struct ws_shared *shared, size_t reader);
/** This reader needs no more; nobody waits for it. */
void ws_shared_leave(struct ws_shared *shared, size_t reader);

/** What was read so far. */
struct ws_shared_count {
    uint64_t wanted; /**< bytes that readers who took part asked for */
    uint64_t read;   /**< of their bases, for that */
};
void ws_shared_count(struct ws_shared *shared, struct ws_shared_count *count);

WS_END

#endif
