/* batch.h — what the builds of one batch have in common. */
#ifndef WS_ASSEMBLE_BATCH_H
#define WS_ASSEMBLE_BATCH_H

#include "assemble/internal.h"
#include "wild_satchel/batch.h"

/* The root for one of them: a copy of the one that was read for all. */
enum ws_status batch_take_root(struct ws_batch *batch, const struct ws_build *build, struct ws_root *root,
                               struct ws_error *error);
/* An input as the caller gave it, behind the views. */
const struct ws_source *batch_input(const struct ws_batch *batch, size_t number);
/* Is it this one's business to find out whether the inputs are still the planned ones? One asks, all others wait. */
bool batch_checks_inputs(struct ws_batch *batch, size_t number);
void batch_inputs_checked(struct ws_batch *batch, size_t number, enum ws_status status, const struct ws_error *error);
enum ws_status batch_await_inputs(struct ws_batch *batch, struct ws_error *error);
/* Of what they were found to hold: each worked out once. */
struct ws_digests *batch_digests(const struct ws_batch *batch);
/* This one reads no more: the others need not wait for it. */
void batch_has_read(struct ws_batch *batch, size_t number);

#endif
