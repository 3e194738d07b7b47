/* vhdx.h — the log of a VHDX. */
#ifndef WS_CONTAINER_VHDX_H
#define WS_CONTAINER_VHDX_H

#include "container/internal.h"

/* vhdx_log.c: the file as it is once its log is done; NULL where there is nothing in it.
 * @return WS_E_FORMAT for a log without which the file cannot be read, and which is damaged */
enum ws_status vhdx_replay(const struct container *c, const uint8_t *header, struct ws_source **patched,
                           struct ws_error *error);

#endif
