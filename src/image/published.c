/* published.c — lists of checksums, in the two styles that are in use. */
#include "wild_satchel/published.h"

#include <ctype.h>
#include <string.h>

static const struct {
    size_t digits;
    enum ws_hash_kind kind;
    const char *name, *tag; /* tag: as BSD lists call it */
} kinds[] = {{32, WS_HASH_MD5, "MD5", "MD5"},
             {40, WS_HASH_SHA1, "SHA-1", "SHA1"},
             {64, WS_HASH_SHA256, "SHA-256", "SHA256"},
             {128, WS_HASH_SHA512, "SHA-512", "SHA512"}};
enum { KINDS = sizeof kinds / sizeof kinds[0] };

const char *ws_hash_name(enum ws_hash_kind kind) { return kinds[kind].name; }

const char *const *ws_published_suffixes(void) {
    static const char *const names[] = {".sha512", ".sha512sum", ".sha256", ".sha256sum",
                                        ".sha1",   ".md5",       ".md5sum", NULL};
    return names;
}
const char *const *ws_published_lists(void) {
    static const char *const names[] = {
        "SHA512SUMS",    "SHA256SUMS", "SHA512SUM", "SHA256SUM", "sha512sums.txt", "sha256sums.txt", "sha512sum.txt",
        "sha256sum.txt", "CHECKSUM",   "CHECKSUMS", "SHA1SUMS",  "MD5SUMS",        "md5sum.txt",     NULL};
    return names;
}
const char *const *ws_published_signatures(void) {
    static const char *const names[] = {".asc", ".sig", ".sign", ".gpg", NULL};
    return names;
}

static bool take_digest(const char *text, size_t length, struct ws_published *p) {
    for (size_t k = 0; k < KINDS; k++) {
        if (kinds[k].digits != length) continue;
        for (size_t i = 0; i < length; i++) {
            if (!isxdigit((unsigned char)text[i])) return false;
            p->hex[i] = (char)tolower((unsigned char)text[i]);
        }
        p->hex[length] = '\0';
        p->kind = kinds[k].kind;
        return true;
    }
    return false;
}

enum ws_status ws_published_digest(const char *text, struct ws_published *p, struct ws_error *error) {
    size_t n = strlen(text);
    if (take_digest(text, n, p)) return WS_OK;
    for (size_t i = 0; i < n; i++)
        if (!isxdigit((unsigned char)text[i]))
            return ws_fail(error, WS_E_USAGE, "\"%c\" is not a hexadecimal digit", text[i]);
    ws_fail(error, WS_E_USAGE, "a published checksum has 32, 40, 64 or 128 hexadecimal digits, this one has %zu", n);
    return ws_fail_next(error, "copy the whole checksum, without the file's name");
}

/* Does the listed name mean this file? Escapes: "\\" and "\n", in lines that begin with a backslash. */
static bool same_name(const char *listed, size_t length, bool escaped, const char *name) {
    size_t start = length;
    while (start > 0 && listed[start - 1] != '/') start--;
    for (size_t i = start; i < length; i++, name++) {
        char c = listed[i];
        if (escaped && c == '\\' && i + 1 < length) c = listed[++i] == 'n' ? '\n' : listed[i];
        if (*name == '\0' || *name != c) return false;
    }
    return *name == '\0';
}

/* "SHA256 (name) = HEX" */
static bool bsd_line(const char *line, size_t length, const char *name, struct ws_published *p) {
    for (size_t k = 0; k < KINDS; k++) {
        size_t tag = strlen(kinds[k].tag);
        if (length < tag + kinds[k].digits + 6 || memcmp(line, kinds[k].tag, tag) != 0 ||
            memcmp(line + tag, " (", 2) != 0)
            continue;
        size_t tail = length - kinds[k].digits;
        if (memcmp(line + tail - 4, ") = ", 4) != 0) return false;
        return same_name(line + tag + 2, tail - 4 - tag - 2, false, name) &&
               take_digest(line + tail, kinds[k].digits, p);
    }
    return false;
}

static bool plain_line(const char *line, size_t length, const char *name, struct ws_published *p) {
    bool escaped = length > 0 && line[0] == '\\';
    size_t digits = 0;
    if (escaped) line++, length--;
    while (digits < length && isxdigit((unsigned char)line[digits])) digits++;
    size_t at = digits;
    while (at < length && (line[at] == ' ' || line[at] == '\t')) at++;
    if (at < length && at > digits && line[at] == '*') at++;
    if (at < length && (at == digits || !same_name(line + at, length - at, escaped, name))) return false;
    return take_digest(line, digits, p);
}

enum ws_status ws_published_find(const char *list, size_t length, const char *name, struct ws_published *best,
                                 struct ws_error *error) {
    const char *slash = strrchr(name, '/');
    bool found = false;
    if (slash) name = slash + 1;
    for (const char *line = list; line < list + length;) {
        const char *end = memchr(line, '\n', (size_t)(list + length - line));
        struct ws_published p;
        if (!end) end = list + length;
        size_t n = (size_t)(end - line);
        while (n > 0 && isspace((unsigned char)line[n - 1])) n--;
        if ((bsd_line(line, n, name, &p) || plain_line(line, n, name, &p)) && (!found || p.kind > best->kind)) {
            *best = p;
            found = true;
        }
        line = end + 1;
    }
    if (found) return WS_OK;
    ws_fail(error, WS_E_NOTFOUND, "the list of checksums does not name \"%.100s\"", name);
    return ws_fail_next(error, "compare the file's name with the list; it may have been renamed after the download");
}
