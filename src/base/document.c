/* document.c — the JSON documents that this project keeps: their first two keys, and their text. */
#include "base/document.h"

#include <stdlib.h>
#include <string.h>

static int add_text(const char *bytes, size_t length, void *context) {
    ws_text_add(context, bytes, length);
    return 0;
}

enum ws_status doc_finish(json_t *root, struct ws_text *out, struct ws_error *error) {
    const size_t had = out->length;
    const bool good = root && json_dump_callback(root, add_text, out, JSON_INDENT(2) | JSON_PRESERVE_ORDER) == 0;
    json_decref(root);
    if (!good) {
        if (out->data) out->data[out->length = had] = '\0';
        return ws_fail(error, WS_E_NOMEM, "out of memory for a document, or a name in it is not UTF-8");
    }
    ws_text_puts(out, "\n");
    return ws_text_status(out, error);
}

json_t *doc_parse(const char *text, size_t length, const char *format, int version, enum ws_hint again,
                  struct ws_error *error) {
    json_error_t where;
    json_t *root = json_loadb(text, length, JSON_REJECT_DUPLICATES, &where);
    if (!root) {
        ws_fail(error, WS_E_FORMAT, "this is not a JSON document: %s", where.text);
        ws_fail_where(error, "line %d, column %d", where.line, where.column);
        return NULL;
    }
    json_t *v = json_is_object(root) ? json_object_get(root, "version") : NULL;
    const char *f = json_is_object(root) ? json_string_value(json_object_get(root, "format")) : NULL;
    if (f && strcmp(f, format) == 0 && json_integer_value(v) == version) return root;
    if (!f || strcmp(f, format) != 0) {
        ws_fail(error, WS_E_FORMAT, "this JSON document is another one: its \"format\" is not \"%s\"", format);
        ws_fail_next(error, "give the right file: each kind of document has its own \"format\"");
    } else {
        ws_fail(error, WS_E_UNSUPPORTED,
                "the document is of version %" JSON_INTEGER_FORMAT ", this program reads version %d",
                json_integer_value(v), version);
        if (again != WS_HINT_NONE) ws_fail_hint(error, again, "", "make it again");
    }
    json_decref(root);
    return NULL;
}
