/* named.c — by what a start menu names its medium, its label or its identifier: found, and put right where the medium
 * gets another. */
#include "wild_satchel/live.h"

#include <ctype.h>
#include <stdio.h>
#include <string.h>

enum { LABEL_MOST = 128 };

/* Blanks stand in kernel parameters as udev writes them into its names: "\x20". */
static void escape(const char *label, char *out, size_t room) {
    size_t n = 0;
    for (; *label && n + 5 < room; label++) {
        if (*label == ' ') n += (size_t)snprintf(out + n, room - n, "\\x20");
        else out[n++] = *label;
    }
    out[n] = '\0';
}

static void unescape(const char *text, size_t length, char *out, size_t room) {
    size_t n = 0;
    for (size_t i = 0; i < length && n + 1 < room; i++) {
        bool blank = length - i >= 4 && strncmp(text + i, "\\x20", 4) == 0;
        out[n++] = blank ? ' ' : text[i];
        if (blank) i += 3;
    }
    out[n] = '\0';
}

bool ws_live_wants_label(const struct ws_live_family *family) {
    return family->file_parameters && strstr(family->file_parameters, "{label}");
}

const char *ws_live_parameters(const struct ws_live_family *family, const char *volume, char *out, size_t room) {
    char label[LABEL_MOST * 4];
    const char *words = volume && family->file_parameters ? family->file_parameters : family->parameters;
    const char *place = strstr(words, "{label}");
    escape(volume ? volume : "", label, sizeof label);
    if (place) (void)snprintf(out, room, "%.*s%s%s", (int)(place - words), words, label, place + strlen("{label}"));
    else (void)snprintf(out, room, "%s", words);
    return out;
}

bool ws_parameters_medium(const char *parameters, enum ws_named_by by, char *name, size_t room) {
    static const char *const starts[2][6] = {
        {"root=live:CDLABEL=", "root=live:LABEL=", "root=CDLABEL=", "root=LABEL=", "root=live:/dev/disk/by-label/"},
        {"root=live:UUID=", "root=UUID=", "root=live:/dev/disk/by-uuid/"}};
    for (const char *p = parameters; *p;) {
        size_t length = strcspn(p, " \t");
        for (size_t i = 0; starts[by][i]; i++) {
            size_t n = strlen(starts[by][i]);
            if (length <= n || strncmp(p, starts[by][i], n) != 0) continue;
            unescape(p + n, length - n, name, room);
            return true;
        }
        p += length + (p[length] != '\0');
    }
    return false;
}

/* Does the old name stand here, in this spelling, and end here: at its closing quote, if it is quoted? */
static bool stands(const char *text, size_t length, size_t at, const char *old, char quote) {
    size_t n = strlen(old);
    if (n == 0 || length - at < n || strncmp(text + at, old, n) != 0) return false;
    if (quote) return at + n < length && text[at + n] == quote;
    return at + n == length || isspace((unsigned char)text[at + n]) || strchr(":,;)", text[at + n]);
}

/* Does a line that begins here look for volumes, as GRUB's do? */
static bool is_search(const char *text, size_t length, size_t at) {
    while (at < length && (text[at] == ' ' || text[at] == '\t')) at++;
    return length - at > 6 && strncmp(text + at, "search", 6) == 0;
}

/* Do the bytes before this one end with the word, in letters of any size? */
static bool follows(const char *text, size_t at, const char *word) {
    size_t n = strlen(word);
    if (at < n) return false;
    for (size_t i = 0; i < n; i++)
        if (tolower((unsigned char)text[at - n + i]) != word[i]) return false;
    return true;
}

static bool is_assigned(const char *text, size_t at, enum ws_named_by by) {
    static const char *const words[2][2] = {{"label=", "/by-label/"}, {"uuid=", "/by-uuid/"}};
    return follows(text, at, words[by][0]) || follows(text, at, words[by][1]);
}

size_t ws_menu_rename(const char *text, size_t length, enum ws_named_by by, const char *old, const char *now,
                      struct ws_text *out) {
    char old_escaped[LABEL_MOST * 4];
    char now_escaped[LABEL_MOST * 4];
    size_t replaced = 0;
    bool search = false;
    escape(old, old_escaped, sizeof old_escaped);
    escape(now, now_escaped, sizeof now_escaped);
    for (size_t i = 0; i < length; i++) {
        char before = i ? text[i - 1] : '\n';
        if (before == '\n') search = is_search(text, length, i);
        bool quoted = before == '"' || before == '\'';
        const char *spelt = stands(text, length, i, old_escaped, quoted ? before : 0) ? old_escaped
                            : quoted && stands(text, length, i, old, before)          ? old
                                                                                      : NULL;
        bool assigned = spelt && is_assigned(text, quoted ? i - 1 : i, by);
        if (!assigned && !(spelt && search && (quoted || isspace((unsigned char)before)))) {
            ws_text_add(out, text + i, 1);
            continue;
        }
        bool bare = !assigned && !quoted && strchr(now, ' ');
        ws_text_printf(out, bare ? "\"%s\"" : "%s", assigned && !quoted ? now_escaped : now);
        i += strlen(spelt) - 1;
        replaced++;
    }
    return replaced;
}
