/* batch.h — one request carried out on many drives at once.
 *
 * Each drive has a build of its own, with its own identifiers, sizes and plan. What is laid down is read, and unpacked,
 * once for all that start together, and at their common pace: so all of them take the time of the slowest. What goes
 * wrong with one is its own affair.
 *
 *     ws_batch_open(port, &request, input, &batch, &error);
 *     for each drive: ws_batch_add(batch, &setting, &number, &error);      // decided; nothing is written
 *     show ws_batch_build(batch, number), ask
 *     ws_batch_start(batch, start, count, &error);                          // all of them
 *     while any is under way: ws_batch_look(batch, number, &state), port->ops->pause(port, 0.1)
 *     for each drive: ws_batch_end(batch, number, &result, &error);
 *     ws_batch_close(batch);
 *
 * All calls come from one thread. A port without pause() does one drive after the other, inside ws_batch_start().
 */
#ifndef WILD_SATCHEL_BATCH_H
#define WILD_SATCHEL_BATCH_H

#include "wild_satchel/build.h"
#include "wild_satchel/shared.h"

WS_BEGIN

enum { WS_BATCH_MOST = WS_READERS_MOST }; /**< drives in one batch, those that are done among them */
struct ws_batch;

/** Begin: request and port are as for ws_build_prepare(), the inputs are borrowed until it is closed. */
WS_CHECKED enum ws_status ws_batch_open(struct ws_port *port, const struct ws_request *request,
                                        const struct ws_source *const input[WS_INPUTS_MOST], struct ws_batch **batch,
                                        struct ws_error *error);
/** Stops nothing: what is under way is waited for. NULL is accepted. */
void ws_batch_close(struct ws_batch *batch);

/**
 * Decide the request for one more drive, as ws_build_prepare() does; the setting's inputs are the batch's own. Also
 * while others are being written.
 * @param number  out: which one it is from now on
 * @return WS_E_RANGE for more than WS_BATCH_MOST
 */
WS_CHECKED enum ws_status ws_batch_add(struct ws_batch *batch, const struct ws_build_setting *setting, size_t *number,
                                       struct ws_error *error);
/** The build of one, for its plan and its passwords; the batch's own. NULL once it was dropped. */
struct ws_build *ws_batch_build(struct ws_batch *batch, size_t number);
/** This one is not wanted after all, or is done with: what it took is freed, and its number is given to another. Not
 *  while it is under way. */
void ws_batch_drop(struct ws_batch *batch, size_t number);

struct ws_batch_start {
    size_t number;
    struct ws_drive *drive;          /**< open for writing; borrowed until ws_batch_end() */
    struct ws_build_options options; /**< its on_progress is not called: see ws_batch_look(); `pieces` and texts are
                                        borrowed until then, too. before_write() is called by another task */
};
/** Begin to write these, each as ws_build_carry_out() does. Those of one call share what they read; the first call's
 *  find out for all others whether the inputs are still the planned ones.
 *  One that failed may begin again, from where it got to: its drive is opened anew.
 *  @return WS_E_USAGE for one that is under way, or done: none was begun */
WS_CHECKED enum ws_status ws_batch_start(struct ws_batch *batch, const struct ws_batch_start *start, size_t count,
                                         struct ws_error *error);

struct ws_batch_state {
    bool begun, ended;
    struct ws_progress progress; /**< as it was told last */
    enum ws_status status;       /**< once it has ended */
};
void ws_batch_look(struct ws_batch *batch, size_t number, struct ws_batch_state *state);
/** Ask one to stop between two writes, as ws_progress_call does. */
void ws_batch_stop(struct ws_batch *batch, size_t number);
/** Wait for one. @return what became of it, see ws_build_carry_out() */
WS_CHECKED enum ws_status ws_batch_end(struct ws_batch *batch, size_t number, struct ws_build_result *result,
                                       struct ws_error *error);
/** What was read for all of them, and what each would have read for itself. */
void ws_batch_count(struct ws_batch *batch, struct ws_shared_count *count);

WS_END

#endif
