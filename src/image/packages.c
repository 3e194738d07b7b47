/* packages.c — the package database of a system that is not running: dpkg's status file (deb-control(5) fields). */
#include "base/bytes.h"
#include "wild_satchel/sizing.h"
#include "wild_satchel/squashfs.h"

#include <ctype.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { STATUS_MOST = 64 << 20 };

struct stanza {
    bool installed, kernel, kernel_part;
    uint64_t bytes;
};

static bool field(const char *line, size_t length, const char *name, const char **value, size_t *value_length) {
    size_t n = strlen(name);
    if (length < n || memcmp(line, name, n) != 0) return false;
    *value = line + n;
    *value_length = length - n;
    while (*value_length > 0 && **value == ' ') (*value)++, (*value_length)--;
    return true;
}

static bool begins(const char *value, size_t length, const char *prefix) {
    size_t n = strlen(prefix);
    return length > n && memcmp(value, prefix, n) == 0;
}

static void take_line(const char *line, size_t length, struct stanza *s) {
    const char *v;
    size_t n;
    if (field(line, length, "Package:", &v, &n)) {
        /* linux-image-amd64 only points to the kernel of the day; a digit follows in real ones */
        bool image = begins(v, n, "linux-image-") && isdigit((unsigned char)v[12]);
        s->kernel = image;
        s->kernel_part = image || (begins(v, n, "linux-modules-") && strncmp(v, "linux-modules-extra", 19) != 0) ||
                         begins(v, n, "linux-modules-extra-");
    } else if (field(line, length, "Status:", &v, &n)) {
        s->installed = n > 13 && memcmp(v + n - 13, " ok installed", 13) == 0;
    } else if (field(line, length, "Installed-Size:", &v, &n)) {
        uint64_t kib = 0;
        for (size_t i = 0; i < n && isdigit((unsigned char)v[i]) && kib < 1ull << 40; i++)
            kib = kib * 10 + (uint64_t)(v[i] - '0');
        s->bytes = kib * 1024;
    }
}

enum ws_status ws_packages_read(const struct ws_tree *root, struct ws_packages *p, struct ws_error *error) {
    char *text = NULL;
    size_t length = 0;
    uint32_t kernels = 0;
    struct stanza s = {0};
    memset(p, 0, sizeof *p);
    const struct ws_node *status = ws_tree_find(root, "var/lib/dpkg/status");
    if (!status || !status->content) return WS_OK;
    WS_TRY(ws_source_load(status->content, STATUS_MOST, &text, &length, error));
    for (size_t at = 0; at <= length + 1;) { /* the end counts as a blank line too */
        const char *end = at < length ? memchr(text + at, '\n', length - at) : NULL;
        size_t n = end ? (size_t)(end - text) - at : at < length ? length - at : 0;
        if (n == 0) { /* a blank line ends a package */
            p->count += s.installed;
            p->installed_bytes += s.installed ? s.bytes : 0;
            kernels += s.installed && s.kernel;
            p->kernel_bytes += s.installed && s.kernel_part ? s.bytes : 0;
            memset(&s, 0, sizeof s);
        } else {
            take_line(text + at, n, &s);
        }
        at += n + 1;
    }
    free(text);
    if (kernels) p->kernel_bytes /= kernels;
    p->known = p->count > 0;
    if (p->known) (void)snprintf(p->source, sizeof p->source, "dpkg");
    return WS_OK;
}

enum ws_status ws_packages_of_image(const struct ws_image *image, struct ws_packages *p, struct ws_error *error) {
    struct ws_tree *root = NULL;
    const struct ws_source *content = image->kind == WS_IMAGE_ROOT ? image->source : NULL;
    memset(p, 0, sizeof *p);
    if (!content && image->iso && image->root_path[0]) {
        const struct ws_node *n = ws_tree_find_any_case(ws_iso_tree(image->iso), image->root_path);
        content = n ? n->content : NULL;
    }
    if (!content) return WS_OK;
    enum ws_status status = ws_squashfs_read(content, &root, NULL, error);
    if (status == WS_E_NOTFOUND) status = ws_ext4_read(content, &root, NULL, error);
    /* some other kind of root, or a compression not built in: nothing is known of it */
    if (status == WS_E_NOTFOUND || status == WS_E_UNSUPPORTED) return WS_OK;
    WS_TRY(status);
    status = ws_packages_read(root, p, error);
    ws_tree_close(root);
    return status;
}
