/* write.c — a virtual disk as something that can be written to: the same for all formats, given their tables. */
#include "container/write.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static const struct disk_format *const formats[] = {&disk_qcow2, &disk_vhdx, &disk_vmdk, &disk_vhd};
enum { FORMATS = sizeof formats / sizeof formats[0], STEP = 4096 };

const char *ws_container_of_name(const char *path) {
    const char *dot = strrchr(path, '.');
    for (size_t i = 0; i < FORMATS && dot && !strchr(dot, '/'); i++)
        if (strcmp(dot + 1, formats[i]->word) == 0) return formats[i]->word;
    return NULL;
}

enum ws_status disk_put_zeros(const struct ws_disk_file *file, uint64_t at, uint64_t length, struct ws_error *error) {
    static const uint8_t zeros[65536];
    for (uint64_t done = 0; done < length; done += sizeof zeros)
        WS_TRY(disk_put(file, at + done, zeros, (size_t)ws_min_u64(sizeof zeros, length - done), error));
    return WS_OK;
}

enum ws_status disk_only_read(struct ws_error *error) {
    ws_fail(error, WS_E_UNSUPPORTED, "this virtual disk is of a form that is read here, and not changed");
    return ws_fail_next(error, "make a new one, or turn it into a plain image first");
}

enum ws_status ws_container_create(const struct ws_disk_file *file, const char *format, uint64_t size,
                                   const struct ws_guid *id, int64_t made_at, struct ws_error *error) {
    for (size_t i = 0; i < FORMATS; i++) {
        if (strcmp(format, formats[i]->word) != 0) continue;
        if (size < 1 << 20) return ws_fail(error, WS_E_RANGE, "a virtual disk of under 1 MiB is of no use");
        WS_TRY(formats[i]->create(file, size, id, made_at, error));
        return file->ops->flush(file, error);
    }
    return ws_fail(error, WS_E_USAGE, "\"%s\" is no virtual disk that is made here", format);
}

static enum ws_status load_places(struct ws_disk *d, struct ws_error *error) {
    const struct disk_format *f = d->format;
    uint8_t raw[STEP];
    if (d->units * sizeof *d->place > WRITE_TABLE_MOST)
        return ws_fail(error, WS_E_UNSUPPORTED, "this virtual disk is too large to be changed here");
    d->place = calloc((size_t)d->units + 1, sizeof *d->place);
    if (!d->place) return ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    for (uint64_t unit = 0; unit < d->units;) { /* as many entries as stand in a row */
        const uint64_t at = f->entry_at(d, unit);
        uint64_t count = 1;
        while (unit + count < d->units && (count + 1) * f->entry <= sizeof raw &&
               f->entry_at(d, unit + count) == at + count * f->entry)
            count++;
        WS_TRY(disk_get(d->file, at, raw, (size_t)count * f->entry, error));
        for (uint64_t i = 0; i < count; i++) {
            uint64_t *place = &d->place[unit + i];
            if (!f->decode(d, raw + i * f->entry, place)) return disk_only_read(error);
            if (!*place) continue;
            if (*place > UINT64_MAX / 2 || *place < d->before)
                return ws_fail(error, WS_E_FORMAT, "the virtual disk is damaged: a unit lies outside the file");
            d->end = ws_max_u64(d->end, ws_round_up(*place + d->unit, d->align));
        }
        unit += count;
    }
    return WS_OK;
}

enum ws_status ws_disk_open(const struct ws_disk_file *file, const struct ws_guid *id, struct ws_disk **disk,
                            struct ws_error *error) {
    struct ws_disk *d = calloc(1, sizeof *d);
    enum ws_status status = WS_E_NOTFOUND;
    if (!d) return ws_fail(error, WS_E_NOMEM, "out of memory for a virtual disk");
    for (size_t i = 0; i < FORMATS && status == WS_E_NOTFOUND; i++) {
        memset(d, 0, sizeof *d);
        d->file = file;
        d->id = *id;
        d->format = formats[i];
        status = formats[i]->open(d, error);
    }
    if (status == WS_OK) status = load_places(d, error);
    d->flushed_end = d->end;
    d->first_new = UINT64_MAX;
    if (status == WS_OK) *disk = d;
    else ws_disk_close(d);
    return status;
}

void ws_disk_close(struct ws_disk *d) {
    if (d) free(d->place);
    free(d);
}

uint64_t ws_disk_size(const struct ws_disk *d) { return d->size; }

enum ws_status ws_disk_read(const struct ws_disk *d, uint64_t at, void *buffer, size_t length, struct ws_error *error) {
    uint8_t *out = buffer;
    if (!ws_inside(at, length, d->size)) return ws_fail(error, WS_E_RANGE, "past the end of the virtual disk");
    while (length > 0) {
        const uint64_t inside = at % d->unit, place = d->place[at / d->unit];
        const size_t step = (size_t)ws_min_u64(length, d->unit - inside);
        /* a last unit may be cut short in the file: it ends where what was written ends */
        const uint64_t there = place ? d->file->ops->size(d->file) : 0;
        const size_t have = place && place + inside < there ? (size_t)ws_min_u64(step, there - place - inside) : 0;
        if (have) WS_TRY(disk_get(d->file, place + inside, out, have, error));
        memset(out + have, 0, step - have);
        out += step;
        at += step;
        length -= step;
    }
    return WS_OK;
}

static bool is_zero(const uint8_t *bytes, size_t length) {
    return bytes[0] == 0 && memcmp(bytes, bytes + 1, length - 1) == 0;
}

/* A new unit at the file's end, with its own head, if its format has one: all of it is there. */
static enum ws_status place_unit(struct ws_disk *d, uint64_t unit, struct ws_error *error) {
    uint8_t ones[STEP];
    const uint64_t at = ws_round_up(d->end, d->align);
    memset(ones, 0xff, sizeof ones);
    for (uint32_t done = 0; done < d->before; done += STEP)
        WS_TRY(disk_put(d->file, at + done, ones, (size_t)ws_min_u64(STEP, d->before - done), error));
    d->place[unit] = at + d->before;
    d->end = ws_round_up(at + d->before + d->unit, d->align);
    d->first_new = ws_min_u64(d->first_new, unit);
    d->end_new = ws_max_u64(d->end_new, unit + 1);
    return WS_OK;
}

enum ws_status ws_disk_write(struct ws_disk *d, uint64_t at, const void *bytes, size_t length, struct ws_error *error) {
    const uint8_t *from = bytes;
    if (!ws_inside(at, length, d->size)) return ws_fail(error, WS_E_RANGE, "past the end of the virtual disk");
    if (!d->begun && d->format->begin) WS_TRY(d->format->begin(d, error));
    d->begun = true;
    while (length > 0) {
        const uint64_t inside = at % d->unit, unit = at / d->unit;
        const size_t step = (size_t)ws_min_u64(length, d->unit - inside);
        if (d->place[unit] || !is_zero(from, step)) {
            if (!d->place[unit]) WS_TRY(place_unit(d, unit, error));
            WS_TRY(disk_put(d->file, d->place[unit] + inside, from, step, error));
        }
        from += step;
        at += step;
        length -= step;
    }
    return WS_OK;
}

/* Entries of units in a row, to the table and its copy. */
static enum ws_status put_entries(struct ws_disk *d, struct ws_error *error) {
    const struct disk_format *f = d->format;
    uint8_t raw[STEP];
    for (uint64_t unit = d->first_new; unit < d->end_new;) {
        const uint64_t at = f->entry_at(d, unit);
        uint64_t count = 0;
        while (unit + count < d->end_new && (count + 1) * f->entry <= sizeof raw &&
               f->entry_at(d, unit + count) == at + count * f->entry) {
            f->encode(d, d->place[unit + count], raw + count * f->entry);
            count++;
        }
        WS_TRY(disk_put(d->file, at, raw, (size_t)count * f->entry, error));
        if (d->table[1])
            WS_TRY(disk_put(d->file, at - d->table[0] + d->table[1], raw, (size_t)count * f->entry, error));
        unit += count;
    }
    return WS_OK;
}

enum ws_status ws_disk_flush(struct ws_disk *d, struct ws_error *error) {
    if (!d->begun) return WS_OK;
    const uint64_t size = d->file->ops->size(d->file);
    if (size < d->end) WS_TRY(disk_put_zeros(d->file, d->end - 1, 1, error)); /* a last unit is whole */
    WS_TRY(d->file->ops->flush(d->file, error));
    if (d->first_new < d->end_new) WS_TRY(put_entries(d, error));
    if (d->format->finish) WS_TRY(d->format->finish(d, error));
    WS_TRY(d->file->ops->flush(d->file, error));
    d->first_new = UINT64_MAX;
    d->end_new = 0;
    d->flushed_end = d->end;
    d->begun = false;
    return WS_OK;
}
