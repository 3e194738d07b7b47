/* document.h — the JSON documents that this project keeps: their first two keys, and their text. */
#ifndef WS_BASE_DOCUMENT_H
#define WS_BASE_DOCUMENT_H

#include "wild_satchel/base.h"

#include <jansson.h>

/* A document of this "format" and "version". NULL for any other, with the error that says so, which must not be NULL;
 * `again`: how one of this version is had. */
json_t *doc_parse(const char *text, size_t length, const char *format, int version, enum ws_hint again,
                  struct ws_error *error);
/* The document's text; takes `root`, which may be NULL. */
enum ws_status doc_finish(json_t *root, struct ws_text *out, struct ws_error *error);

#endif
