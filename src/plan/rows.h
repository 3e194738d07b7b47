/* rows.h — a structure and its JSON object as one table: each row drives writing, strict reading and comparing. */
#ifndef WS_PLAN_ROWS_H
#define WS_PLAN_ROWS_H

#include "wild_satchel/base.h"

#include <jansson.h>
#include <stddef.h>

enum row_kind {
    ROW_TEXT,   /* an array of characters */
    ROW_SHA256, /* the same, holding 64 hexadecimal digits or nothing */
    ROW_NUMBER, /* any integer type, 0 to `most` */
    ROW_BOOL,
    ROW_WORD,   /* an enumeration: one of `words` words */
    ROW_GUID,   /* a struct ws_guid */
    ROW_OBJECT, /* a structure inside: `rows` */
    ROW_LIST, /* an array of structures, `rows` each, `each` bytes apart, their number at `number_at`; `most` at most */
    ROW_CALL  /* by functions of its own */
};

struct row {
    const char *key;
    enum row_kind kind;
    size_t at, size; /* of the field in the structure; bytes */
    bool told;       /* said to people; not compared */
    uint64_t most;
    const char *(*word)(unsigned);
    unsigned words;
    const struct row *rows;
    size_t count; /* of `rows` */
    size_t each, number_at;
    json_t *(*pack)(const void *field);
    enum ws_status (*read)(json_t *value, const char *key, void *field, struct ws_error *error);
};

#define ROW_FIELD(type, field) .at = offsetof(type, field), .size = sizeof(((type *)0)->field)
#define ROW_COUNT(rows) (sizeof(rows) / sizeof *(rows))

/* The object; NULL when memory is out, or a text is not UTF-8. */
json_t *rows_pack(const struct row *rows, size_t count, const void *base);
/* Every key must be there, none besides. `section` leads to this object ("result.volumes[1]"), "" for the document. */
enum ws_status rows_read(json_t *object, const char *section, const struct row *rows, size_t count, void *base,
                         struct ws_error *error);
/* @return WS_E_FORMAT with the first key whose values differ, and both */
enum ws_status rows_compare(const char *section, const struct row *rows, size_t count, const void *read,
                            const void *worked_out, struct ws_error *error);
/* WS_E_FORMAT: the document's "section.key" `what`. */
enum ws_status rows_bad(struct ws_error *error, const char *section, const char *key, const char *what);

#endif
