/* save.c — what is remembered, as an archive; and read from one again (docs/kept-format.md). */
#include "base/bytes.h"
#include "base/document.h"
#include "fs/archive/content.h"
#include "fs/archive/write.h"
#include "keep/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const char format_name[] = "wild-satchel-kept";
static const char state_folder[] = "kept", document_name[] = "kept.json";

static enum ws_status put_document(struct archive_out *out, const struct ws_saved_facts *f, int64_t time,
                                   struct ws_error *error) {
    json_t *root =
        json_pack("{s:s, s:i, s:s, s:b, s:s, s:s, s:I, s:I, s:I, s:I, s:I, s:s}", "format", format_name, "version", 1,
                  "family", f->family, "whole", f->whole, "label", f->label, "volume", f->volume, "saved_at",
                  (json_int_t)f->saved_at, "files", (json_int_t)f->files, "bytes", (json_int_t)f->bytes, "left_out",
                  (json_int_t)f->left_out, "lost", (json_int_t)f->lost, "sha256", f->sha256);
    char *text = root ? json_dumps(root, JSON_INDENT(1)) : NULL;
    enum ws_status status = text ? archive_out_text(out, document_name, text, time, error)
                                 : ws_fail(error, WS_E_NOMEM, "out of memory for a document");
    free(text);
    json_decref(root);
    return status;
}

/* Of a damaged drive: what of each file was not there to be read. */
struct unread {
    struct ws_kept *kept;
    uint64_t bytes;
};

static void note_unread(void *context, const char *path) {
    struct unread *u = context;
    char size[32], seen[4096];
    size_t count;
    uint64_t now;
    (void)ws_source_unread(u->kept->forgiving, &count, &now);
    if (now == u->bytes) return;
    ws_visible(path, seen, sizeof seen);
    ws_findings_add(&u->kept->lost, WS_WARNING, "%s: %s of it could not be read, and are zeros", seen,
                    ws_size_counted(now - u->bytes, size, sizeof size));
    u->bytes = now;
}

static enum ws_status put_lost(struct archive_out *out, struct ws_kept *k, struct ws_saved_facts *f,
                               struct ws_error *error) {
    struct ws_text text = {0};
    f->lost = k->lost.count;
    for (size_t i = 0; i < k->lost.count; i++) ws_text_printf(&text, "%s\n", k->lost.list[i].text);
    enum ws_status status = ws_text_status(&text, error);
    if (status == WS_OK && f->lost) status = archive_out_text(out, "lost.txt", text.data, f->saved_at, error);
    ws_text_free(&text);
    return status;
}

enum ws_status ws_kept_save(struct ws_kept *k, struct ws_port *port, ws_archive_sink sink, void *context,
                            ws_progress_call on_progress, void *progress_context, struct ws_saved_facts *f,
                            struct ws_error *error) {
    struct archive_out *out = NULL;
    memset(f, 0, sizeof *f);
    const bool lost_top = k->forgiving && !ws_kept_top(k); /* then all that is left goes in, as it is arranged */
    f->whole = k->memory.system || k->otherwise || lost_top;
    struct ws_node *top = f->whole ? ws_tree_root(k->tree) : (struct ws_node *)(uintptr_t)ws_kept_top(k);
    if (!top) {
        ws_fail(error, WS_E_NOTFOUND, "nothing is remembered yet: the system has not started with this place");
        return ws_fail_next(error, "start it once");
    }
    (void)snprintf(f->family, sizeof f->family, "%s",
                   k->memory.system   ? "system"
                   : k->memory.family ? k->memory.family->word
                                      : "");
    (void)snprintf(f->label, sizeof f->label, "%s", k->facts.label);
    ws_guid_text(&k->facts.id, f->volume);
    f->saved_at = port->ops->wall_clock(port);
    struct archive_tally tally = {.port = port, .on_progress = on_progress, .context = progress_context};
    for (const struct ws_node *n = top; n; n = ws_tree_next_below(n, top))
        tally.total += n->same_as ? 0 : ws_node_stored(n);
    struct unread unread = {.kept = k};
    size_t count;
    if (k->forgiving) {
        (void)ws_source_unread(k->forgiving, &count, &unread.bytes);
        tally.on_file = note_unread;
        tally.file_context = &unread;
    }
    WS_TRY(archive_out_open(sink, context, &out, error));
    enum ws_status status = archive_out_tree(out, k->tree, top, state_folder, &tally, error);
    f->files = tally.files;
    f->bytes = tally.bytes;
    f->left_out = tally.left_out;
    archive_out_digest(out, f->sha256);
    if (status == WS_OK && k->forgiving) status = put_lost(out, k, f, error);
    if (status == WS_OK) status = put_document(out, f, f->saved_at, error);
    return archive_out_close(out, status, error);
}

/* What the document says; its texts are looked at before they are used. */
static bool read_document(const char *text, size_t length, struct ws_saved_facts *f) {
    json_t *root = json_loadb(text, length, JSON_REJECT_DUPLICATES, NULL);
    const char *family = NULL, *label = NULL, *volume = NULL, *sha256 = NULL, *format = NULL;
    json_int_t at = 0, files = 0, bytes = 0, left_out = 0;
    int whole = 0, version = 0;
    bool good =
        root &&
        json_unpack(root, "{s:s, s:i, s:s, s:b, s:s, s:s, s:I, s:I, s:I, s:I, s:s}", "format", &format, "version",
                    &version, "family", &family, "whole", &whole, "label", &label, "volume", &volume, "saved_at", &at,
                    "files", &files, "bytes", &bytes, "left_out", &left_out, "sha256", &sha256) == 0 &&
        strcmp(format, format_name) == 0 && version == 1 && strlen(family) < sizeof f->family &&
        strlen(label) < sizeof f->label && strlen(volume) < sizeof f->volume && strlen(sha256) == 64 && files >= 0 &&
        bytes >= 0 && left_out >= 0;
    if (good) {
        *f = (struct ws_saved_facts){.whole = whole != 0,
                                     .saved_at = at,
                                     .files = (uint64_t)files,
                                     .bytes = (uint64_t)bytes,
                                     .left_out = (uint64_t)left_out};
        (void)snprintf(f->family, sizeof f->family, "%s", family);
        (void)snprintf(f->label, sizeof f->label, "%s", label);
        (void)snprintf(f->volume, sizeof f->volume, "%s", volume);
        (void)snprintf(f->sha256, sizeof f->sha256, "%s", sha256);
    }
    json_decref(root);
    return good;
}

static enum ws_status take_document(struct ws_saved *s, struct ws_error *error) {
    const struct ws_node *n = ws_tree_find(s->archive, document_name);
    char *text = NULL;
    size_t length = 0;
    bool good = n && n->content && ws_source_load(n->content, 65536, &text, &length, error) == WS_OK &&
                read_document(text, length, &s->facts);
    free(text);
    if (good && ws_tree_find(s->archive, state_folder)) return WS_OK;
    ws_fail(error, WS_E_FORMAT, "this archive is no saved state%s", n ? ", or one of a newer version" : "");
    return ws_fail_next(error, "give one that was saved here");
}

enum ws_status ws_saved_open(const struct ws_source *archive, const struct ws_archive_store *store,
                             struct ws_saved **out, struct ws_error *error) {
    struct ws_saved *s = calloc(1, sizeof *s);
    char hex[WS_HASH_HEX] = "";
    if (!s) return ws_fail(error, WS_E_NOMEM, "out of memory for a saved state");
    enum ws_status status = WS_OK;
    WS_GO(archive_read_whole(archive, store, &s->archive, error));
    WS_GO(take_document(s, error));
    WS_GO(ws_tree_cut(s->archive, ws_tree_find(s->archive, state_folder), &s->state, error));
    WS_GO(archive_digest_of(s->state, hex, error));
    if (strcmp(hex, s->facts.sha256) != 0) {
        ws_fail(error, WS_E_DIFFERENT, "the saved state is not what was saved: its digest is another");
        status = ws_fail_next(error, "use another copy of it");
    }
done:
    if (status == WS_OK) *out = s;
    else ws_saved_close(s);
    return status;
}

void ws_saved_close(struct ws_saved *s) {
    if (!s) return;
    ws_tree_close(s->state);
    ws_tree_close(s->archive);
    free(s);
}

const struct ws_saved_facts *ws_saved_facts(const struct ws_saved *s) { return &s->facts; }
