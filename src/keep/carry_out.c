/* carry_out.c — an edit of what is remembered, once worked out, is written through its log and read back. */
#include "base/bytes.h"
#include "fs/archive/write.h"
#include "keep/internal.h"

#include <stdlib.h>
#include <string.h>

enum { MARK = 65536, PAGE = 4096 };

/* What changes when somebody uses the drive: its first sector, and the superblock of the volume. */
enum ws_status keep_hash_marks(const struct ws_kept *k, const struct ws_source *drive, char hex[WS_HASH_HEX],
                               struct ws_error *error) {
    struct ws_hash *hash = NULL;
    uint8_t *mark = malloc(MARK);
    enum ws_status status = mark ? ws_hash_open(WS_HASH_SHA256, &hash, error)
                                 : ws_fail(error, WS_E_NOMEM, "out of memory for a drive's state");
    const uint64_t at[] = {0, k->memory.volume_at, k->memory.volume_at + keep_begin(k)};
    for (size_t i = 0; i < sizeof at / sizeof at[0] && status == WS_OK; i++) {
        const size_t length = (size_t)ws_min_u64(i ? MARK : PAGE, drive->size - at[i]);
        status = ws_source_read(drive, at[i], mark, length, error);
        if (status == WS_OK) ws_hash_add(hash, mark, length);
    }
    if (status == WS_OK) ws_hash_hex(hash, hex);
    ws_hash_close(hash);
    free(mark);
    return status;
}

static enum ws_status check_target(const struct ws_kept *k, struct ws_port *port, struct ws_drive *drive,
                                   const struct ws_kept_options *options, struct ws_error *error) {
    struct ws_drive_facts facts;
    struct ws_source *now = NULL;
    const struct ws_target_rules rules = {options->allow_external_disk};
    char marks[WS_HASH_HEX] = "";
    WS_TRY(drive->ops->describe(drive, &facts, error));
    ws_drive_call(&facts, options->confirm);
    WS_TRY(ws_drive_may_be_target(port, &facts, &rules, error));
    WS_TRY(ws_drive_confirmed(&facts, options->confirm, error));
    WS_TRY(ws_source_drive(drive, &now, error));
    enum ws_status status = keep_hash_marks(k, now, marks, error);
    const bool other = status == WS_OK && (strcmp(marks, k->marks) != 0 || !keep_log_as_it_was(k));
    if (status == WS_OK && !other) status = keep_taken_as_it_was(k, now, error);
    ws_source_close(now);
    if (status != WS_E_DIFFERENT) WS_TRY(status);
    if (status == WS_OK && !other) return WS_OK;
    ws_fail(error, WS_E_REFUSED, "the drive was used a moment ago");
    ws_fail_where(error, "%s", facts.short_name);
    return ws_fail_next(error, "do it again from the beginning; nothing was written");
}

/* Of a volume that was made anew: does it hold what the other one did? */
static enum ws_status same_content(const struct ws_kept *k, struct ws_drive *drive, struct ws_error *error) {
    struct ws_source *now = NULL, *slice = NULL;
    struct ws_tree *tree = NULL;
    char content[WS_HASH_HEX] = "";
    enum ws_status status;
    WS_GO(ws_source_drive(drive, &now, error));
    WS_GO(ws_source_slice(now, k->to.at, k->to.length, &slice, error));
    WS_GO(ws_ext4_read(slice, &tree, NULL, error));
    WS_GO(archive_digest_of(tree, content, error));
    if (strcmp(content, k->content) != 0) {
        ws_fail(error, WS_E_DIFFERENT, "what is remembered does not read back as it was");
        status = ws_fail_next(error, "save what is on this drive: it loses data");
    }
done:
    ws_tree_close(tree);
    ws_source_close(slice);
    ws_source_close(now);
    return status;
}

/* All that is written, as it is meant, or as a drive has it. */
static enum ws_status hash_written(const struct ws_kept *k, const struct ws_source *drive, char hex[WS_HASH_HEX],
                                   struct ws_error *error) {
    enum { STEP = 1 << 20 };
    struct ws_hash *hash = NULL;
    uint8_t *bytes = malloc(STEP);
    enum ws_status status =
        bytes ? ws_hash_open(WS_HASH_SHA256, &hash, error) : ws_fail(error, WS_E_NOMEM, "out of memory for comparing");
    for (size_t i = 0; status == WS_OK && i < ws_layout_count(k->layout); i++) {
        const struct ws_extent *e = ws_layout_extent(k->layout, i);
        for (uint64_t done = 0; done < e->length;) {
            const size_t n = (size_t)ws_min_u64(STEP, e->length - done);
            WS_GO(ws_source_read(drive ? drive : e->from, (drive ? e->at : e->from_at) + done, bytes, n, error));
            ws_hash_add(hash, bytes, n);
            done += n;
        }
    }
    if (status == WS_OK) ws_hash_hex(hash, hex);
done:
    ws_hash_close(hash);
    free(bytes);
    return status;
}

/* What others put on a volume, or the header of a lock, came from places that are written over by now. */
static enum ws_status same_as_meant(const struct ws_kept *k, struct ws_drive *drive, const char *meant,
                                    struct ws_error *error) {
    struct ws_source *now = NULL;
    char is[WS_HASH_HEX] = "";
    WS_TRY(ws_source_drive(drive, &now, error));
    const enum ws_status status = hash_written(k, now, is, error);
    ws_source_close(now);
    WS_TRY(status);
    if (strcmp(is, meant) == 0) return WS_OK;
    ws_fail(error, WS_E_DIFFERENT, "what reads back is not what was written");
    return ws_fail_next(error, "save what is on this drive: it loses data");
}

enum ws_status ws_kept_carry_out(struct ws_kept *k, struct ws_port *port, struct ws_drive *drive,
                                 const struct ws_kept_options *options, struct ws_write_result *result,
                                 struct ws_error *error) {
    struct ws_write_options w = {.on_progress = options->on_progress, .context = options->context};
    const struct ws_check_options look = {.on_progress = options->on_progress, .context = options->context};
    struct ws_check_result seen = {0};
    char meant[WS_HASH_HEX];
    memset(result, 0, sizeof *result);
    if (!k->layout) return ws_fail(error, WS_E_USAGE, "no edit of what is remembered was worked out");
    WS_TRY(check_target(k, port, drive, options, error));
    const bool over = k->laid || (k->lock && k->way == KEEP_LATER) || keep_sooner(k) || (k->taking && k->renewed) ||
                      (k->geometry.anew && k->way != KEEP_STAYS);
    if (over) WS_TRY(hash_written(k, NULL, meant, error));
    WS_TRY(ws_change_in(port, k->layout, k->log, k->logs, drive, &w, result, error));
    if (over) WS_TRY(same_as_meant(k, drive, meant, error));
    if (keep_remade(k) && !k->lock)
        return same_content(k, drive, error); /* where it came from is written over by now */
    if (over) return WS_OK;
    struct ws_layout *lasting = NULL;
    enum ws_status status = keep_lasting(k, &lasting, error);
    if (status == WS_OK) status = ws_check(port, lasting, drive, &look, &seen, error);
    ws_layout_close(lasting);
    WS_TRY(status);
    if (seen.equal) return WS_OK;
    ws_fail(error, WS_E_DIFFERENT, "what reads back at byte %llu is not what was written",
            (unsigned long long)seen.different_at);
    return ws_fail_next(error, "save what is on this drive: it loses data");
}
