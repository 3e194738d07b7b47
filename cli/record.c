/* record.c — what `satchel build` keeps beside a plan: what was read back, in pieces; and a drive checked against it.
 */
#include "cli/record.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <string.h>
#include <unistd.h>

enum { VERSION = 2, RECORD_MOST = 256 << 20 };
const char record_format[] = "wild-satchel-built";

static json_t *pieces_json(const struct ws_pieces *pieces) {
    json_t *list = json_array();
    for (size_t i = 0; i < pieces->count; i++) {
        const struct ws_digest_piece *p = &pieces->list[i];
        char hex[65];
        for (size_t k = 0; k < 32; k++) (void)snprintf(hex + 2 * k, 3, "%02x", p->sha256[k]);
        json_array_append_new(list, json_pack("[I, I, s, s]", (json_int_t)p->at, (json_int_t)p->length,
                                              ws_role_name((enum ws_role)p->part), hex));
    }
    return list;
}

json_t *record_json(const struct ws_plan *p, const struct ws_build_result *r) {
    return cli_pack("{s:s, s:i, s:s, s:s, s:s, s:I, s:s, s:I, s:I, s:f, s:f, s:b, s:I, s:f, s:o, s:o, s:s}", "format",
                    record_format, "version", (int)VERSION, "kind", ws_kind_name(ws_plan_facts(p)->kind), "drive",
                    ws_plan_drive(p)->name, "serial", ws_plan_drive(p)->serial, "written_bytes",
                    (json_int_t)r->write.written, "begun", ws_begun_name(r->write.begun), "continued_at_bytes",
                    (json_int_t)r->write.continued_at, "compared_bytes", (json_int_t)r->write.compared, "write_seconds",
                    r->write.seconds, "flush_seconds", r->write.flush_seconds, "checked", r->checked, "checked_bytes",
                    (json_int_t)r->check.checked, "check_seconds", r->check.seconds, "drive_sha256",
                    cli_hash_json(r->check.sha256), "image_sha256", cli_hash_json(r->image_sha256), "layout_sha256",
                    ws_plan_facts(p)->fingerprint);
}

enum ws_status record_forget(const char *path, struct ws_error *error) {
    if (!ws_linux_is_document(path, record_format) || unlink(path) == 0) return WS_OK;
    ws_fail(error, WS_E_WRITE, "the record of an older build cannot be removed, and would no longer be true");
    ws_fail_where(error, "%s", path);
    return ws_fail_next(error, "remove it; nothing was written");
}

enum ws_status record_keep(struct cli *cli, const char *path, json_t *record, const struct ws_pieces *pieces,
                           const struct cli_never *never) {
    json_t *whole = json_copy(record);
    char *text = NULL;
    if (whole && json_object_set_new(whole, "pieces", pieces_json(pieces)) == 0)
        text = json_dumps(whole, JSON_COMPACT | JSON_PRESERVE_ORDER);
    json_decref(whole);
    if (!text) return ws_fail(&cli->error, WS_E_NOMEM, "out of memory for a record");
    enum ws_status status = cli_keep(cli, path, text, strlen(text), record_format, false, never);
    free(text);
    return status;
}

static enum ws_status bad(struct cli *cli, const char *what) {
    ws_fail(&cli->error, WS_E_FORMAT, "the record's %s", what);
    return ws_fail_next(&cli->error, "it was edited or cut; check with the plan instead: --plan PLAN");
}

static bool read_hex(const char *hex, uint8_t out[32]) {
    if (!hex || strlen(hex) != 64 || strspn(hex, "0123456789abcdef") != 64) return false;
    for (size_t k = 0; k < 32; k++) {
        unsigned byte = 0;
        (void)sscanf(hex + 2 * k, "%2x", &byte);
        out[k] = (uint8_t)byte;
    }
    return true;
}

static enum ws_status read_piece(struct cli *cli, json_t *one, struct ws_pieces *pieces) {
    struct ws_digest_piece p = {0};
    json_int_t at = json_integer_value(json_array_get(one, 0));
    json_int_t length = json_integer_value(json_array_get(one, 1));
    const char *role = json_string_value(json_array_get(one, 2));
    while (role && p.part < WS_ROLES && strcmp(role, ws_role_name((enum ws_role)p.part)) != 0) p.part++;
    if (json_array_size(one) != 4 || at < 0 || length <= 0 || length > WS_DIGEST_BYTES || !role || p.part == WS_ROLES ||
        !read_hex(json_string_value(json_array_get(one, 3)), p.sha256))
        return bad(cli, "pieces are a list of [byte, length, part, SHA-256]");
    p.at = (uint64_t)at;
    p.length = (uint32_t)length;
    return ws_pieces_add(pieces, &p, &cli->error);
}

enum ws_status record_load(struct cli *cli, const char *path, struct record *record) {
    struct ws_text text = {0};
    json_error_t where;
    memset(record, 0, sizeof *record);
    enum ws_status status = cli_read_document(cli, path, RECORD_MOST, "built", &text);
    json_t *root = status == WS_OK ? json_loadb(text.data ? text.data : "", text.length, 0, &where) : NULL;
    ws_text_free(&text);
    const char *format = json_string_value(json_object_get(root, "format"));
    const char *drive = json_string_value(json_object_get(root, "drive"));
    json_t *list = json_object_get(root, "pieces");
    size_t i;
    json_t *one;
    if (status == WS_OK && (!format || strcmp(format, record_format) != 0)) {
        ws_fail(&cli->error, WS_E_FORMAT, "this is no record of a build");
        status = ws_fail_next(&cli->error, "`satchel build PLAN` keeps one in PLAN.built");
    } else if (status == WS_OK && json_integer_value(json_object_get(root, "version")) != VERSION) {
        ws_fail(&cli->error, WS_E_UNSUPPORTED, "the record is of another version and holds no digests in pieces");
        status = ws_fail_next(&cli->error, "check with the plan instead: --plan PLAN");
    } else if (status == WS_OK && (!drive || !json_is_array(list) || json_array_size(list) == 0)) {
        status = bad(cli, "drive or pieces are missing: that build was not checked");
    }
    const char *kind = json_string_value(json_object_get(root, "kind"));
    if (status == WS_OK) (void)snprintf(record->drive, sizeof record->drive, "%s", drive);
    for (int k = 0; kind && k < WS_KINDS; k++)
        if (strcmp(kind, ws_kind_name((enum ws_kind)k)) == 0) record->kind = (enum ws_kind)k;
    record->forgets = true; /* unless something was written to remember on */
    json_array_foreach(list, i, one) {
        if (status == WS_OK) status = read_piece(cli, one, &record->pieces);
        if (status == WS_OK && record->pieces.list[i].part == WS_ROLE_PERSISTENCE) record->forgets = false;
    }
    const char *said = json_string_value(json_object_get(root, "drive_sha256"));
    char is[WS_HASH_HEX];
    if (status == WS_OK) status = ws_pieces_root(&record->pieces, is, &cli->error);
    if (status == WS_OK && record->kind != WS_KIND_REPLICA && (!said || strcmp(said, is) != 0))
        status = bad(cli, "pieces do not go with its digest");
    json_decref(root);
    if (status != WS_OK) {
        ws_fail_where(&cli->error, "%s", path);
        ws_pieces_free(&record->pieces);
    }
    return status;
}
