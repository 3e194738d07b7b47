/* blank.c — an ordinary drive again: one FAT32 or exFAT volume, nothing left of what stood at the drive's ends. */
#include "build/internal.h"

#include "wild_satchel/exfat.h"
#include "wild_satchel/fat.h"

#include <string.h>

enum { ENDS = 1 << 20, LEAST = 64 << 20, LEAST_LARGE = 300 << 20 }; /* FAT32 has at least 65,525 clusters */
#define MBR_MOST (2ull << 40)

static enum ws_status zero(struct ws_layout *layout, uint64_t at, uint64_t end, const struct ws_source *zeros,
                           struct ws_error *error) {
    return end > at ? ws_layout_add(layout, at, end - at, zeros, 0, WS_PHASE_BODY, error) : WS_OK;
}

/* Zeros wherever the volume writes nothing in the first megabyte of itself and in the last of the drive: signatures of
 * other formats stand there. */
static enum ws_status add_zeros(struct ws_blank *b, const struct ws_layout *volume, uint64_t from, uint64_t to,
                                const struct ws_source *zeros, struct ws_error *error) {
    uint64_t at = from;
    for (size_t i = 0; i < ws_layout_count(volume); i++) {
        const struct ws_extent *e = ws_layout_extent(volume, i);
        if (e->at + e->length <= at) continue;
        if (e->at >= to) break;
        if (e->at > at) WS_TRY(zero(b->layout, at, e->at, zeros, error));
        at = ws_max_u64(at, e->at + e->length);
    }
    return zero(b->layout, at, ws_max_u64(at, to), zeros, error);
}

static enum ws_status compose_volume(struct ws_blank *b, const struct ws_blank_params *params, uint32_t sector,
                                     uint32_t align, struct ws_layout *layout, struct ws_error *error) {
    uint32_t serial = ws_load_le32(params->id.byte);
    uint64_t hidden = b->volume_at / sector;
    size_t label = strlen(params->label);
    uint64_t size = 0;
    if (params->exfat) {
        struct ws_exfat_params p = {.size = b->volume_size,
                                    .cluster = params->cluster,
                                    .align = align > ENDS ? align : ENDS,
                                    .serial = serial,
                                    .sector = sector,
                                    .hidden_sectors = hidden,
                                    .made_at = params->made_at};
        if (label >= sizeof p.label) return ws_fail(error, WS_E_USAGE, "an exFAT label has at most 11 characters");
        memcpy(p.label, params->label, label + 1);
        return ws_exfat_compose(&p, b->tree, b->volume_at, layout, &b->free_bytes, error);
    }
    struct ws_fat_params p = {.size = b->volume_size,
                              .bits = 32,
                              .cluster = params->cluster,
                              .align = align,
                              .serial = serial,
                              .sector = sector,
                              .hidden_sectors = hidden,
                              .made_at = params->made_at};
    if (label >= sizeof p.label) return ws_fail(error, WS_E_USAGE, "a FAT label has at most 11 characters");
    memcpy(p.label, params->label, label + 1);
    return ws_fat_compose(&p, b->tree, b->volume_at, layout, &size, &b->free_bytes, error);
}

static enum ws_status compose(struct ws_blank *b, const struct ws_drive_facts *facts,
                              const struct ws_blank_params *params, struct ws_layout *volume, struct ws_error *error) {
    struct ws_table table;
    struct ws_source *zeros = NULL;
    struct ws_guid id;
    unsigned number;
    bool gpt = facts->size > MBR_MOST;
    uint32_t align = params->erase_unit >= 4096 && (params->erase_unit & (params->erase_unit - 1)) == 0 &&
                             params->erase_unit <= 16u << 20
                         ? params->erase_unit
                         : 65536;
    WS_TRY(compose_volume(b, params, facts->logical_sector, align, b->layout, error));
    WS_TRY(compose_volume(b, params, facts->logical_sector, align, volume, error));
    WS_TRY(ws_layout_seal(volume, error));
    WS_TRY(ws_source_zeros(2 * ENDS, &zeros, error));
    WS_TRY(ws_layout_own(b->layout, zeros, error));
    if (gpt) ws_table_new_gpt(&table, facts->size, facts->logical_sector, &params->id);
    else ws_table_new_mbr(&table, facts->size, facts->logical_sector, ws_load_le32(params->id.byte + 4));
    WS_TRY(zero(b->layout, ws_table_front_bytes(&table), b->volume_at, zeros, error));
    WS_TRY(add_zeros(b, volume, b->volume_at, b->volume_at + ENDS, zeros, error));
    WS_TRY(add_zeros(b, volume, facts->size - ENDS, facts->size - ws_table_back_bytes(&table), zeros, error));
    WS_TRY(ws_guid_derive(&params->id, "partition", &id, error));
    WS_TRY(ws_table_add(&table, b->volume_at, b->volume_size, params->exfat ? "exfat" : "data", &id, params->label,
                        &number, error));
    WS_TRY(ws_table_compose(&table, b->layout, error));
    return ws_layout_seal(b->layout, error);
}

enum ws_status ws_blank_prepare(const struct ws_drive_facts *facts, const struct ws_blank_params *params,
                                struct ws_blank *b, struct ws_error *error) {
    struct ws_layout *volume = NULL;
    enum ws_status status;
    memset(b, 0, sizeof *b);
    WS_TRY(build_check_sector(facts->logical_sector, facts->short_name, error));
    uint64_t least = facts->logical_sector > 512 && !params->exfat ? LEAST_LARGE : LEAST;
    if (facts->size < least)
        return ws_fail(error, WS_E_SPACE, "a drive under %u MiB is too small for a volume, with sectors of %u bytes",
                       (unsigned)(least >> 20), facts->logical_sector);
    if (facts->size > MBR_MOST && !params->exfat) {
        ws_fail(error, WS_E_RANGE, "a FAT32 volume ends at 2 TiB");
        ws_fail_where(error, "%s", facts->short_name);
        return ws_fail_next(error, "ask for exFAT, which does not");
    }
    b->volume_at = ENDS;
    uint64_t tail = facts->size > MBR_MOST ? ENDS : 0; /* where a GPT keeps its backup */
    b->volume_size = (facts->size - ENDS - tail) / 4096 * 4096;
    WS_GO(ws_tree_create(&b->tree, error));
    WS_GO(ws_layout_create(facts->size, &b->layout, error));
    WS_GO(ws_layout_create(facts->size, &volume, error));
    status = compose(b, facts, params, volume, error);
done:
    ws_layout_close(volume);
    if (status != WS_OK) ws_blank_free(b);
    return status;
}

struct blanking {
    struct ws_blank *blank;
    struct ws_port *port;
    struct ws_drive *drive;
    const struct ws_build_options *options;
    struct ws_build_result *result;
    const char *name;
};

static enum ws_status compare(const struct blanking *k, enum ws_check_scope scope, struct ws_error *error) {
    struct ws_check_options c = {
        .scope = scope, .on_progress = k->options->on_progress, .context = k->options->context};
    struct ws_check_result seen;
    WS_TRY(ws_check(k->port, k->blank->layout, k->drive, &c, &seen, error));
    seen.seconds += k->result->check.seconds;
    seen.checked += k->result->check.checked;
    k->result->check = seen;
    if (seen.equal) return WS_OK;
    ws_fail(error, WS_E_DIFFERENT, "what reads back is not what was written: first at byte %llu",
            (unsigned long long)seen.different_at);
    ws_fail_where(error, "%s", k->name);
    return ws_fail_next(error, "do not use this drive: it loses data, or is smaller than it says");
}

/* As with any build: a drive that does not read back right gets no table. */
static enum ws_status before_seal(void *context, struct ws_error *error) {
    return compare(context, WS_CHECK_BEFORE_SEAL, error);
}

enum ws_status ws_blank_carry_out(struct ws_blank *b, struct ws_port *port, struct ws_drive *drive,
                                  const struct ws_build_options *options, struct ws_build_result *result,
                                  struct ws_error *error) {
    struct ws_drive_facts now;
    struct ws_target_rules rules = {options->allow_external_disk};
    struct blanking k = {b, port, drive, options, result, now.short_name};
    struct ws_write_options w = {.on_progress = options->on_progress,
                                 .context = options->context,
                                 .before_seal = before_seal,
                                 .hook_context = &k};
    memset(result, 0, sizeof *result);
    WS_TRY(drive->ops->describe(drive, &now, error));
    if (now.size != ws_layout_size(b->layout))
        return ws_fail(error, WS_E_REFUSED, "this is not the drive it was meant for: its size differs");
    WS_TRY(ws_drive_may_be_target(port, &now, &rules, error));
    WS_TRY(ws_drive_confirmed(&now, options->confirm, error));
    WS_TRY(ws_write(port, b->layout, drive, &w, &result->write, error));
    WS_TRY(compare(&k, WS_CHECK_SEAL, error));
    result->checked = true;
    return WS_OK;
}

void ws_blank_free(struct ws_blank *b) {
    ws_layout_close(b->layout);
    ws_tree_close(b->tree);
    memset(b, 0, sizeof *b);
}
