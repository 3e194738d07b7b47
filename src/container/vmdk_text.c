/* vmdk_text.c — a VMDK's descriptor: lines of text that say what it is made of (Virtual Disk Format 5.0, "The
 * Descriptor File"). */
#include "container/vmdk.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const char *next_line(const char *line) {
    const char *end = strchr(line, '\n');
    return end ? end + 1 : line + strlen(line);
}

bool vmdk_value(const char *text, const char *key, char *out, size_t room) {
    const size_t n = strlen(key);
    for (const char *line = text; *line; line = next_line(line)) {
        const char *p = line + strspn(line, " \t");
        if (strncmp(p, key, n) != 0) continue;
        p += n;
        p += strspn(p, " \t");
        if (*p++ != '=') continue;
        p += strspn(p, " \t");
        const bool quoted = *p == '"';
        p += quoted;
        (void)snprintf(out, room, "%.*s", (int)strcspn(p, quoted ? "\"\r\n" : " \t\r\n"), p);
        return true;
    }
    return false;
}

static bool is_access(const char *p) {
    static const char *const ways[] = {"RW ", "RDONLY ", "NOACCESS "};
    for (size_t i = 0; i < 3; i++)
        if (strncmp(p, ways[i], strlen(ways[i])) == 0) return true;
    return false;
}

bool vmdk_next_extent(const char **text, struct vmdk_line *line) {
    for (const char *p = *text; *p;) {
        const char *begin = p + strspn(p, " \t");
        p = next_line(p);
        *text = p;
        if (!is_access(begin)) continue;
        char *end;
        memset(line, 0, sizeof *line);
        begin = strchr(begin, ' ') + 1;
        line->sectors = strtoull(begin, &end, 10);
        end += strspn(end, " \t");
        const size_t n = strcspn(end, " \t\r\n");
        (void)snprintf(line->kind, sizeof line->kind, "%.*s", (int)ws_min_u64(n, sizeof line->kind - 1), end);
        const char *quote = memchr(end, '"', strcspn(end, "\r\n"));
        if (!quote) return true;
        const size_t length = strcspn(quote + 1, "\"\r\n");
        if (length >= sizeof line->name) return true;
        memcpy(line->name, quote + 1, length);
        line->offset = strtoull(quote + 1 + length + (quote[1 + length] == '"'), NULL, 10);
        return true;
    }
    return false;
}
