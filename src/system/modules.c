/* modules.c — drivers read from a root, as a kernel takes them. */
#include "system/modules.h"

#include "wild_satchel/archive.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { MODULE_MOST = 8 << 20 };

static const char *const packings[] = {"", ".xz", ".zst", ".gz"};

const struct ws_node *module_find(const struct ws_tree *root, const char *version, const char *path) {
    for (size_t i = 0; i < sizeof packings / sizeof packings[0]; i++) {
        char full[512];
        if ((size_t)snprintf(full, sizeof full, "/lib/modules/%.96s/%s%s", version, path, packings[i]) >= sizeof full)
            return NULL;
        const struct ws_node *n = ws_system_find(root, full);
        if (n && n->kind == WS_NODE_FILE && n->content) return n;
    }
    return NULL;
}

/* What is behind `start` of a text is the module. */
struct keeping {
    struct ws_text *out;
    size_t start;
};

static enum ws_status keep(void *context, uint64_t at, const void *bytes, size_t length, struct ws_error *error) {
    const struct keeping *k = context;
    if (at + length > MODULE_MOST) return ws_fail(error, WS_E_FORMAT, "a driver unpacks to more than 8 MiB");
    while (k->out->length < k->start + at) ws_text_add(k->out, "", 1); /* zeros that were left out */
    ws_text_add(k->out, bytes, length);
    return ws_text_status(k->out, error);
}

enum ws_status module_unpack(const struct ws_node *module, struct ws_text *out, struct ws_error *error) {
    static const char elf[] = "\x7f"
                              "ELF";
    struct keeping k = {out, out->length};
    const char *dot = strrchr(module->name, '.');
    uint64_t size;
    if (dot && strcmp(dot, ".ko") != 0) {
        WS_TRY(ws_unpack(module->content, keep, &k, &size, error));
    } else {
        char *bytes = NULL;
        size_t length = 0;
        WS_TRY(ws_source_load(module->content, MODULE_MOST, &bytes, &length, error));
        enum ws_status status = keep(&k, 0, bytes, length, error);
        free(bytes);
        WS_TRY(status);
    }
    if (out->length < k.start + 4 || memcmp(out->data + k.start, elf, 4) != 0)
        return ws_fail(error, WS_E_FORMAT, "this is no driver, packed or not");
    return WS_OK;
}
