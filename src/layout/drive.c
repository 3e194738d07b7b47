/* drive.c — what is the same for every drive: its short name, whether it may be written, reading it as a source. */
#include "base/bytes.h"
#include "wild_satchel/port.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum ws_status ws_drive_short_name(struct ws_drive_facts *facts, struct ws_error *error) {
    static const char letters[33] = "0123456789abcdefghjkmnpqrstvwxyz"; /* no letter that reads like a digit */
    char identity[256];
    char hex[WS_HASH_HEX];
    size_t n = 0;
    const char *from = facts->model[0] ? facts->model : "drive";
    for (; *from && n < 24; from++) {
        char c = *from >= 'A' && *from <= 'Z' ? (char)(*from - 'A' + 'a') : *from;
        bool plain = (c >= 'a' && c <= 'z') || (c >= '0' && c <= '9');
        if (plain) facts->short_name[n++] = c;
        else if (n > 0 && facts->short_name[n - 1] != '-') facts->short_name[n++] = '-';
    }
    if (n > 0 && facts->short_name[n - 1] != '-') facts->short_name[n++] = '-';
    (void)snprintf(identity, sizeof identity, "%s|%s|%s|%llu", facts->vendor, facts->model, facts->serial,
                   (unsigned long long)facts->size);
    WS_TRY(ws_hash_bytes(WS_HASH_SHA256, identity, strlen(identity), hex, error));
    unsigned long bits = 0;
    for (int i = 0; i < 5; i++) bits = bits << 4 | (unsigned long)(hex[i] <= '9' ? hex[i] - '0' : hex[i] - 'a' + 10);
    for (int i = 0; i < 4; i++) {
        facts->short_name[n++] = letters[bits & 31];
        bits >>= 5;
    }
    facts->short_name[n] = '\0';
    return WS_OK;
}

enum ws_status ws_drive_may_write(const struct ws_drive_facts *facts, const struct ws_target_rules *rules,
                                  struct ws_error *error) {
    const char *next = "choose another drive; `satchel drives` shows which may be used";
    if (facts->system) {
        ws_fail(error, WS_E_REFUSED, "this drive holds the running system");
    } else if (facts->in_use_by[0]) {
        ws_fail(error, WS_E_REFUSED, "this drive is in use by %s", facts->in_use_by);
        next = "close what uses it and unmount it first";
    } else if (facts->internal != WS_NO) {
        ws_fail(error, WS_E_REFUSED, "%s",
                facts->internal == WS_YES ? "this drive is built into the machine"
                                          : "it cannot be told whether this drive is built into the machine");
    } else if (facts->read_only) {
        ws_fail(error, WS_E_REFUSED, "this drive is write-protected");
        next = "move its write-protect switch, or choose another drive";
    } else if (facts->size == 0) {
        ws_fail(error, WS_E_REFUSED, "this drive shows no medium");
        next = "put a card or medium in";
    } else if (facts->removable != WS_YES && !rules->allow_external_disk) {
        ws_fail(error, WS_E_REFUSED, "this is an external hard drive or SSD, which may hold somebody's files");
        next = "if it is really meant, say so with --external-disk";
    } else {
        return WS_OK;
    }
    ws_fail_where(error, "%s", facts->short_name);
    return ws_fail_next(error, "%s", next);
}

struct drive_source {
    struct ws_drive *drive;
    uint32_t sector;
};

static enum ws_status drive_source_read(const struct ws_source *source, uint64_t at, void *buffer, size_t length,
                                        struct ws_error *error) {
    const struct drive_source *d = source->state;
    uint64_t first = at / d->sector * d->sector;
    uint64_t end = ws_round_up(at + length, d->sector);
    if (first == at && end == at + length) return d->drive->ops->read(d->drive, at, buffer, length, error);
    char *whole = malloc((size_t)(end - first));
    if (!whole) return ws_fail(error, WS_E_NOMEM, "out of memory for a read of %zu bytes", length);
    enum ws_status status = d->drive->ops->read(d->drive, first, whole, (size_t)(end - first), error);
    if (status == WS_OK) memcpy(buffer, whole + (at - first), length);
    free(whole);
    return status;
}

static void drive_source_close(struct ws_source *source) { free(source->state); }

static const struct ws_source_ops drive_source_ops = {drive_source_read, drive_source_close};

enum ws_status ws_source_drive(struct ws_drive *drive, struct ws_source **source, struct ws_error *error) {
    struct ws_drive_facts facts;
    WS_TRY(drive->ops->describe(drive, &facts, error));
    struct drive_source *d = malloc(sizeof *d);
    if (!d) return ws_fail(error, WS_E_NOMEM, "out of memory for a drive");
    d->drive = drive;
    d->sector = facts.logical_sector;
    enum ws_status status = ws_source_make(&drive_source_ops, facts.size / d->sector * d->sector, d, source, error);
    if (status != WS_OK) free(d);
    return status;
}
