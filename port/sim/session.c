/* session.c — a running live system: an upper tree of changes over a lower one, and a small shell to make changes. */
#include "port/sim/internal.h"
#include "wild_satchel/ext4.h"

#include "base/bytes.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { CONTENT_MOST = 64 << 20, WORDS_MOST = 64 };

struct sim_session {
    struct ws_drive *drive;
    const struct sim_start *start;
    struct ws_source *root_slice, *volume;
    struct ws_tree *lower; /* may be empty when the root image is of a kind not read here */
    struct ws_tree *kept;  /* the persistence volume's tree, or one in memory */
    struct ws_node *upper; /* folder of `kept` that holds the changes */
    int64_t now;           /* by the PC's clock, when it started */
    int last;              /* result of the last command */
    bool ended;
};

/* The root image's tree, if it is an ext4 file laid down in one piece. */
static void open_lower(struct sim_session *s, const struct ws_source *source) {
    struct ws_ext4_facts facts;
    size_t n = strlen(s->start->root_path);
    if (n < 5 ||
        (strcmp(s->start->root_path + n - 5, ".ext4") != 0 && strcmp(s->start->root_path + n - 4, ".img") != 0))
        return;
    if (ws_source_slice(source, s->start->medium_at, source->size - s->start->medium_at, &s->root_slice, NULL) != WS_OK)
        return;
    if (ws_ext4_probe(s->root_slice, &facts, NULL) == WS_OK) (void)ws_ext4_read(s->root_slice, &s->lower, NULL, NULL);
}

/* The volume written back the way a running system does: as a transaction of its journal. */
static enum ws_status sink_write(void *context, uint64_t at, const void *bytes, size_t length, struct ws_error *error) {
    struct sim_session *s = context;
    return s->drive->ops->write(s->drive, s->start->volume_at + at, bytes, length, error);
}

static enum ws_status sink_flush(void *context, struct ws_error *error) {
    struct sim_session *s = context;
    return s->drive->ops->flush(s->drive, error);
}

/* A volume left with changes in its journal is put in order first, as a mount does. */
static enum ws_status recover(struct sim_session *s, struct ws_error *error) {
    struct ws_ext4_facts facts;
    struct ws_source *whole = NULL;
    uint64_t replayed = 0;
    WS_TRY(ws_ext4_probe(s->volume, &facts, error));
    if (!facts.needs_recovery) return WS_OK;
    WS_TRY(ws_ext4_recovered(s->volume, &whole, &replayed, error));
    uint8_t block[4096];
    uint8_t now[4096];
    enum ws_status status = WS_OK;
    for (uint64_t at = 4096; at + 4096 <= facts.size && replayed; at += 4096) {
        WS_GO(ws_source_read(whole, at, block, sizeof block, error));
        WS_GO(ws_source_read(s->volume, at, now, sizeof now, error));
        if (memcmp(block, now, sizeof block) != 0) WS_GO(sink_write(s, at, block, sizeof block, error));
    }
    WS_GO(sink_flush(s, error));
    WS_GO(ws_source_read(whole, 0, block, sizeof block, error));
    uint8_t *super = block + 1024;
    ws_store_le32(super + 0x60, ws_load_le32(super + 0x60) & ~4u);
    ws_store_le32(super + 0x3fc, ws_crc32c(0xffffffff, super, 0x3fc));
    WS_GO(sink_write(s, 0, block, sizeof block, error));
    WS_GO(sink_flush(s, error));
done:
    ws_source_close(whole);
    return status;
}

/* What a mount leaves in the superblock: one more, its time, and that it is not shut down. */
static enum ws_status mark(struct sim_session *s, bool mounts, bool in_use, struct ws_error *error) {
    uint8_t block[4096];
    uint8_t *super = block + 1024;
    WS_TRY(ws_source_read(s->volume, 0, block, sizeof block, error));
    if (mounts) ws_store_le16(super + 0x34, (uint16_t)(ws_load_le16(super + 0x34) + 1));
    ws_store_le32(super + 0x2c, (uint32_t)s->now);
    ws_store_le32(super + 0x30, (uint32_t)s->now);
    ws_store_le32(super + 0x60, (ws_load_le32(super + 0x60) & ~4u) | (in_use ? 4u : 0));
    ws_store_le32(super + 0x3fc, ws_crc32c(0xffffffff, super, 0x3fc));
    WS_TRY(sink_write(s, 0, block, sizeof block, error));
    return sink_flush(s, error);
}

enum ws_status sim_session_open(struct ws_drive *drive, const struct ws_source *source, const struct sim_start *start,
                                int64_t now, struct sim_session **session, struct ws_error *error) {
    struct sim_session *s = calloc(1, sizeof *s);
    enum ws_status status = WS_OK;
    if (!s) return ws_fail(error, WS_E_NOMEM, "out of memory for a session");
    s->drive = drive;
    s->start = start;
    s->now = now;
    open_lower(s, source);
    if (!s->lower) WS_GO(ws_tree_create(&s->lower, error));
    if (start->volume_size) {
        WS_GO(ws_source_slice(source, start->volume_at, start->volume_size, &s->volume, error));
        /* A drive that cannot be written is mounted all the same, and what is changed on it is lost. */
        if (recover(s, error) == WS_OK) (void)mark(s, true, true, error);
        WS_GO(ws_ext4_read(s->volume, &s->kept, NULL, error));
    } else {
        WS_GO(ws_tree_create(&s->kept, error));
    }
    s->upper = ws_tree_root(s->kept);
    if (!start->family) goto done; /* a full system changes its own root */
    WS_GO(ws_tree_folder(s->kept, start->family->changes, &s->upper, error));
    struct ws_node *work = NULL;
    WS_GO(ws_tree_folder(s->kept, start->family->work, &work, error));
done:
    if (status == WS_OK) *session = s;
    else sim_session_close(s);
    return status;
}

void sim_session_close(struct sim_session *s) {
    if (!s) return;
    ws_tree_close(s->kept);
    ws_tree_close(s->lower);
    ws_source_close(s->volume);
    ws_source_close(s->root_slice);
    free(s);
}

/* The node a path shows in the merged view: the upper one, else the lower one unless something above hides it. */
static const struct ws_node *merged(const struct sim_session *s, const char *path, const struct ws_node **up,
                                    const struct ws_node **low) {
    const struct ws_node *upper = s->upper;
    const struct ws_node *lower = ws_tree_root(s->lower);
    char name[256];
    for (;;) {
        while (*path == '/') path++;
        size_t n = strcspn(path, "/");
        if (n == 0) break;
        if (n > 255) return NULL;
        memcpy(name, path, n);
        name[n] = '\0';
        path += n;
        const struct ws_node *u = upper ? ws_node_child(upper, name) : NULL;
        const struct ws_node *l = lower ? ws_node_child(lower, name) : NULL;
        if (u && (ws_node_is_whiteout(u) || u->kind != WS_NODE_FOLDER)) l = ws_node_is_whiteout(u) ? NULL : l;
        if (u && ws_node_is_whiteout(u)) {
            *up = u;
            *low = l;
            if (*path) return NULL;
            return NULL;
        }
        upper = u;
        lower = l;
        if (!u && !l) break;
    }
    *up = upper;
    *low = lower;
    return upper ? upper : lower;
}

/* As the kernel's overlay marks what it takes up from the layer below. */
static enum ws_status take_up(struct sim_session *s, struct ws_node *node, struct ws_error *error) {
    return ws_tree_set_xattr(s->kept, node, "trusted.overlay.origin", "", 0, error);
}

static enum ws_status upper_folder(struct sim_session *s, const char *path, size_t length, struct ws_node **folder,
                                   struct ws_error *error) {
    struct ws_node *at = s->upper;
    const struct ws_node *low = ws_tree_root(s->lower);
    char name[256];
    const char *end = path + length;
    while (path < end) {
        while (path < end && *path == '/') path++;
        size_t n = 0;
        while (path + n < end && path[n] != '/') n++;
        if (n == 0) break;
        if (n > 255) return ws_fail(error, WS_E_RANGE, "a name is too long");
        memcpy(name, path, n);
        name[n] = '\0';
        path += n;
        struct ws_node *next = ws_node_child(at, name);
        if (next && next->kind != WS_NODE_FOLDER) {
            ws_tree_drop(s->kept, next);
            next = NULL;
        }
        if (!next) {
            WS_TRY(ws_tree_add(s->kept, at, name, WS_NODE_FOLDER, &next, error));
            at->mtime = next->mtime = next->born = s->now;
            low = low ? ws_node_child(low, name) : NULL;
            if (low) WS_TRY(take_up(s, next, error));
        } else {
            low = low ? ws_node_child(low, name) : NULL;
        }
        at = next;
    }
    *folder = at;
    return WS_OK;
}

static enum ws_status put_file(struct sim_session *s, const char *path, const char *bytes, size_t length, bool append,
                               struct ws_error *error) {
    const struct ws_node *up = NULL;
    const struct ws_node *low = NULL;
    const struct ws_node *was = merged(s, path, &up, &low);
    struct ws_text text = {0};
    struct ws_node *folder = NULL;
    struct ws_node *file = NULL;
    struct ws_source *content = NULL;
    enum ws_status status = WS_OK;
    const char *slash = strrchr(path, '/');
    if (strncmp(path, "/proc/", 6) == 0) return WS_OK; /* the kernel's, and no file */
    if (append && was && was->kind == WS_NODE_FILE && was->content) {
        char *old = NULL;
        size_t old_length = 0;
        WS_TRY(ws_source_load(was->content, 1 << 20, &old, &old_length, error));
        ws_text_add(&text, old, old_length);
        free(old);
    }
    ws_text_add(&text, bytes, length);
    uint16_t mode = was && was->kind == WS_NODE_FILE ? was->mode : 0644;
    WS_GO(upper_folder(s, path, slash ? (size_t)(slash - path) : 0, &folder, error));
    file = ws_node_child(folder, slash ? slash + 1 : path);
    if (file && file->kind != WS_NODE_FILE) {
        ws_tree_drop(s->kept, file);
        file = NULL;
    }
    if (!file) {
        WS_GO(ws_tree_add(s->kept, folder, slash ? slash + 1 : path, WS_NODE_FILE, &file, error));
        folder->mtime = file->born = s->now;
        if (low && low->kind == WS_NODE_FILE) WS_GO(take_up(s, file, error));
    }
    WS_GO(ws_source_memory(text.data ? text.data : "", text.length, &content, error));
    WS_GO(ws_tree_own(s->kept, content, error));
    file->content = content;
    file->mode = mode;
    file->mtime = s->now;
done:
    ws_text_free(&text);
    return status;
}

static enum ws_status remove_path(struct sim_session *s, const char *path, bool *found, struct ws_error *error) {
    const struct ws_node *up = NULL;
    const struct ws_node *low = NULL;
    const char *slash = strrchr(path, '/');
    *found = merged(s, path, &up, &low) != NULL;
    if (!*found) return WS_OK;
    struct ws_node *folder = NULL;
    struct ws_node *mark = NULL;
    WS_TRY(upper_folder(s, path, slash ? (size_t)(slash - path) : 0, &folder, error));
    struct ws_node *old = ws_node_child(folder, slash ? slash + 1 : path);
    if (old) ws_tree_drop(s->kept, old);
    folder->mtime = s->now;
    if (low) {
        WS_TRY(ws_tree_add(s->kept, folder, slash ? slash + 1 : path, WS_NODE_CHAR, &mark, error));
        mark->mode = 0;
    }
    return WS_OK;
}

static enum ws_status commit(struct sim_session *s, bool ends, struct ws_error *error) {
    struct ws_ext4_geometry g;
    struct ws_ext4_facts facts;
    struct ws_layout *target = NULL;
    struct ws_ext4_params params = {.over = s->volume}; /* what a file holds stays where it is */
    enum ws_status status;
    if (!s->volume) return WS_OK; /* everything is in memory, and stays there */
    WS_TRY(mark(s, false, false, error));
    WS_TRY(ws_ext4_probe(s->volume, &facts, error));
    params.made_at = facts.made_at;
    params.mounts = (uint16_t)(facts.mounts ? facts.mounts : 1); /* it was, to be written at all */
    WS_TRY(ws_ext4_measure(&params, s->kept, &g, error));
    if ((uint64_t)g.groups * g.inodes_a_group != facts.inodes)
        WS_GO(ws_fail(error, WS_E_UNSUPPORTED, "a simulated session writes only to volumes made by this library"));
    WS_GO(ws_layout_create(s->volume->size, &target, error));
    WS_GO(ws_ext4_compose(&g, 0, target, WS_PHASE_BODY, error));
    WS_GO(ws_layout_seal(target, error));
    struct ws_ext4_sink sink = {sink_write, sink_flush, s};
    WS_GO(ws_ext4_commit(s->volume, target, &sink, error));
    status = mark(s, false, !ends, error);
done:
    ws_layout_close(target);
    ws_ext4_geometry_free(&g);
    return status;
}

/* The shell: words with quotes and backslashes, > and >>, ; between commands, $? for the last result. */
struct command {
    char word[WORDS_MOST][512];
    size_t words;
    char to[512];
    bool append;
};

static const char *parse_command(const char *p, int last, struct command *c) {
    memset(c, 0, sizeof *c);
    char *out = NULL;
    size_t n = 0;
    bool redirect = false;
    char quote = 0;
    for (;; p++) {
        bool end = *p == '\0' || (!quote && *p == ';');
        if (end || (!quote && (*p == ' ' || *p == '>'))) {
            if (out) out[n] = '\0';
            if (out && redirect) redirect = false;
            out = NULL;
            if (end) return *p ? p + 1 : NULL;
            if (*p == '>') {
                c->append = p[1] == '>';
                p += c->append;
                redirect = true;
            }
            continue;
        }
        if (!out) {
            if (!redirect && c->words == WORDS_MOST) continue;
            out = redirect ? c->to : c->word[c->words++];
            n = 0;
        }
        if (quote ? *p == quote : *p == '"' || *p == '\'') {
            quote = quote ? 0 : *p;
        } else if (!quote && p[0] == '\\' && p[1]) { /* the character behind it is itself */
            if (n < 511) out[n++] = *++p;
        } else if (quote != '\'' && p[0] == '$' && p[1] == '?') {
            n += (size_t)snprintf(out + n, 512 - n, "%d", last);
            p++;
        } else if (n < 511) {
            out[n++] = *p;
        }
    }
}

static void escapes(struct ws_text *out, const char *p) {
    for (; *p; p++) {
        if (p[0] == '\\' && p[1] == 'n') {
            ws_text_puts(out, "\n");
            p++;
        } else if (p[0] == '\\' && p[1] == '\\') {
            ws_text_puts(out, "\\");
            p++;
        } else {
            ws_text_add(out, p, 1);
        }
    }
}

static enum ws_status run_command(struct sim_session *s, const struct command *c, int depth, struct ws_text *out,
                                  struct ws_error *error);

static enum ws_status run_program(struct sim_session *s, const struct ws_node *n, const char *path, int depth,
                                  struct ws_text *out, struct ws_error *error) {
    char *text = NULL;
    size_t length = 0;
    if (!(n->mode & 0111) || depth > 4) {
        ws_text_printf(out, "%s: Permission denied\n", path);
        s->last = 126;
        return WS_OK;
    }
    WS_TRY(ws_source_load(n->content, 65536, &text, &length, error));
    enum ws_status status = WS_OK;
    for (char *line = strtok(text, "\n"); line && status == WS_OK; line = strtok(NULL, "\n")) {
        struct command *c = malloc(sizeof *c);
        if (!c) break;
        if (line[0] != '#') {
            (void)parse_command(line, s->last, c);
            if (c->words) status = run_command(s, c, depth + 1, out, error);
        }
        free(c);
    }
    free(text);
    return status;
}

static enum ws_status show_file(struct sim_session *s, const char *path, bool hash, struct ws_text *out,
                                struct ws_error *error) {
    const struct ws_node *up = NULL;
    const struct ws_node *low = NULL;
    if (!hash && strcmp(path, "/proc/cmdline") == 0) {
        ws_text_printf(out, "%s\n", s->start->parameters);
        return WS_OK;
    }
    const struct ws_node *n = merged(s, path, &up, &low);
    if (!n || n->kind != WS_NODE_FILE) {
        ws_text_printf(out, "%s: No such file\n", path);
        s->last = 1;
        return WS_OK;
    }
    if (hash) {
        char hex[WS_HASH_HEX];
        struct ws_source *none = NULL;
        WS_TRY(ws_source_zeros(0, &none, error));
        enum ws_status status = ws_source_hash(n->content ? n->content : none, WS_HASH_SHA256, hex, error);
        ws_source_close(none);
        WS_TRY(status);
        ws_text_printf(out, "%s  %s\n", hex, path);
    } else if (n->content) {
        char *bytes = NULL;
        size_t length = 0;
        WS_TRY(ws_source_load(n->content, 1 << 20, &bytes, &length, error));
        ws_text_add(out, bytes, length);
        free(bytes);
    }
    s->last = 0;
    return WS_OK;
}

/* fallocate -l SIZE PATH: of what one transaction takes. */
static enum ws_status take_room(struct sim_session *s, const struct command *c, struct ws_error *error) {
    enum { MOST = 8 << 20 };
    const uint64_t size = c->words == 4 ? strtoull(c->word[2], NULL, 10) : 0;
    if (!size) return ws_fail(error, WS_E_USAGE, "fallocate -l SIZE PATH");
    if (size > MOST) return ws_fail(error, WS_E_UNSUPPORTED, "fallocate: a simulated session takes 8 MiB at most");
    char *bytes = malloc((size_t)size);
    if (!bytes) return ws_fail(error, WS_E_NOMEM, "out of memory for a file");
    memset(bytes, '.', (size_t)size); /* what holds zeros alone would take no room */
    enum ws_status status = put_file(s, c->word[3], bytes, (size_t)size, false, error);
    free(bytes);
    return status;
}

static enum ws_status run_command(struct sim_session *s, const struct command *c, int depth, struct ws_text *out,
                                  struct ws_error *error) {
    const char *name = c->word[0];
    const char *last_word = c->word[c->words - 1];
    struct ws_text printed = {0};
    const struct ws_node *up = NULL;
    const struct ws_node *low = NULL;
    enum ws_status status = WS_OK;
    s->last = 0;
    if (strcmp(name, "echo") == 0 || strcmp(name, "printf") == 0) {
        for (size_t i = 1; i < c->words; i++) {
            if (i > 1) ws_text_puts(&printed, " ");
            if (name[0] == 'p') escapes(&printed, c->word[i]);
            else ws_text_puts(&printed, c->word[i]);
        }
        if (name[0] == 'e') ws_text_puts(&printed, "\n");
    } else if (strcmp(name, "cat") == 0 || strcmp(name, "sha256sum") == 0) {
        WS_GO(show_file(s, last_word, name[0] == 's', &printed, error));
    } else if (strcmp(name, "mkdir") == 0) {
        struct ws_node *folder = NULL;
        WS_GO(upper_folder(s, last_word, strlen(last_word), &folder, error));
    } else if (strcmp(name, "rm") == 0) {
        bool found = false;
        bool quiet = strcmp(c->word[1], "-f") == 0 || strcmp(c->word[1], "-rf") == 0;
        WS_GO(remove_path(s, last_word, &found, error));
        if (!found && !quiet) ws_text_printf(&printed, "rm: %s: No such file\n", last_word);
        s->last = found || quiet ? 0 : 1;
    } else if (strcmp(name, "chmod") == 0) {
        const struct ws_node *n = merged(s, last_word, &up, &low);
        if (n && n == up) ((struct ws_node *)n)->mode = 0755;
        s->last = n ? 0 : 1;
    } else if (strcmp(name, "fallocate") == 0) {
        WS_GO(take_room(s, c, error));
    } else if (strcmp(name, "test") == 0) { /* -e PATH */
        s->last = merged(s, last_word, &up, &low) ? 0 : 1;
    } else if (strcmp(name, "sync") == 0 || strcmp(name, "poweroff") == 0) {
        WS_GO(commit(s, name[0] == 'p', error));
        s->ended = name[0] == 'p';
    } else if (strcmp(name, "true") == 0 || strcmp(name, "stty") == 0) {
        /* nothing */
    } else {
        const struct ws_node *n = name[0] == '/' ? merged(s, name, &up, &low) : NULL;
        if (n && n->kind == WS_NODE_FILE) {
            WS_GO(run_program(s, n, name, depth, &printed, error));
        } else {
            ws_text_printf(&printed, "sh: %s: not found\n", name);
            s->last = 127;
        }
    }
    if (c->to[0]) WS_GO(put_file(s, c->to, printed.data ? printed.data : "", printed.length, c->append, error));
    else ws_text_add(out, printed.data ? printed.data : "", printed.length);
done:
    ws_text_free(&printed);
    return status;
}

enum ws_status sim_session_line(struct sim_session *s, const char *line, struct ws_text *out, bool *ended,
                                struct ws_error *error) {
    struct command *c = malloc(sizeof *c);
    enum ws_status status = WS_OK;
    if (!c) return ws_fail(error, WS_E_NOMEM, "out of memory for a command");
    while (line && status == WS_OK && !s->ended) {
        line = parse_command(line, s->last, c);
        struct ws_error why = {0};
        if (c->words) status = run_command(s, c, 0, out, &why);
        bool refused = status == WS_E_RANGE || status == WS_E_USAGE || status == WS_E_UNSUPPORTED;
        if (refused) { /* a command that fails is the shell's affair, not the PC's */
            ws_text_printf(out, "sh: %s\n", why.what);
            s->last = 1;
            status = WS_OK;
        } else if (status != WS_OK && error) {
            *error = why;
        }
    }
    free(c);
    *ended = s->ended;
    return status == WS_OK ? ws_text_status(out, error) : status;
}
