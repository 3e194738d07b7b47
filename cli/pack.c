/* pack.c — JSON documents put together like json_pack() does it, but text from outside can be any bytes. */
#include "cli/cli.h"

#include <stdarg.h>
#include <string.h>

json_t *cli_text(const char *text) {
    struct ws_text clean = {0};
    json_t *made = json_string(text);
    if (made) return made;
    ws_text_visible(&clean, text);
    made = json_string(clean.data ? clean.data : "");
    ws_text_free(&clean);
    return made;
}

struct packing {
    const char *at; /* in the format */
    va_list list;
};

static json_t *object(struct packing *p);

static json_t *value(struct packing *p) {
    switch (*p->at++) {
    case 's': return cli_text(va_arg(p->list, const char *));
    case 'i': return json_integer(va_arg(p->list, int));
    case 'I': return json_integer(va_arg(p->list, json_int_t));
    case 'f': return json_real(va_arg(p->list, double));
    case 'b': return json_boolean(va_arg(p->list, int));
    case 'o': return va_arg(p->list, json_t *);
    case '{': return object(p);
    default: return NULL;
    }
}

/* What stands behind the brace: "s:s, s:i}". A value that could not be made is null: the document is there all the
 * same. */
static json_t *object(struct packing *p) {
    json_t *made = json_object();
    for (;;) {
        p->at += strspn(p->at, " ,:");
        if (!*p->at || *p->at++ == '}') return made; /* else it is the key's s */
        const char *key = va_arg(p->list, const char *);
        p->at += strspn(p->at, " :");
        json_t *v = value(p);
        (void)json_object_set_new(made, key, v ? v : json_null());
    }
}

json_t *cli_pack(const char *format, ...) {
    struct packing p = {.at = format + 1};
    va_start(p.list, format);
    json_t *made = object(&p);
    va_end(p.list);
    return made;
}
