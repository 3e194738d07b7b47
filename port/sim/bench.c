/* bench.c — bench files, and the folder in which a bench's state lives. */
#include "wild_satchel/port/linux.h"
#include "port/sim/internal.h"

#include <errno.h>
#include <fcntl.h>
#include <jansson.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>
#include <time.h>
#include <unistd.h>

static enum ws_status bad(struct ws_error *error, const char *where, const char *key, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the bench file's \"%s\" %s", key, what);
    if (where[0]) ws_fail_where(error, "%s", where);
    return ws_fail_next(error, "docs/bench-format.md describes every key");
}

/* A key of a drive, as data: where its value goes. */
enum value { TEXT, SIZE, REAL, FLAG, KNOWN, WORD32 };
static const struct {
    const char *name;
    enum value value;
    size_t offset, room;
    double most;
} drive_keys[] = {
#define AT(member) offsetof(struct ws_sim_drive, member)
    {"name", TEXT, AT(name), 64, 0},
    {"like", TEXT, AT(like), 64, 0},
    {"model", TEXT, AT(facts.model), 64, 0},
    {"vendor", TEXT, AT(facts.vendor), 64, 0},
    {"serial", TEXT, AT(facts.serial), 64, 0},
    {"bus", TEXT, AT(facts.bus), 32, 0},
    {"in_use_by", TEXT, AT(facts.in_use_by), 256, 0},
    {"removable", KNOWN, AT(facts.removable), 0, 0},
    {"internal", KNOWN, AT(facts.internal), 0, 0},
    {"system", FLAG, AT(facts.system), 0, 0},
    {"write_protected", FLAG, AT(facts.read_only), 0, 0},
    {"size_bytes", SIZE, AT(facts.size), 0, 1.8e13},
    {"sector_bytes", WORD32, AT(facts.logical_sector), 0, 4096},
    {"holds_bytes", SIZE, AT(holds), 0, 1.8e13},
    {"beyond", TEXT, AT(beyond), 16, 0},
    {"repeats_bytes", SIZE, AT(repeats), 0, 1.8e13},
    {"write_bytes_s", REAL, AT(write_rate), 0, 1e11},
    {"read_bytes_s", REAL, AT(read_rate), 0, 1e11},
    {"small_write_s", REAL, AT(small_write_s), 0, 60},
    {"cache_bytes", SIZE, AT(cache), 0, 1 << 30},
    {"bad_at_bytes", SIZE, AT(bad_at), 0, 1.8e13},
    {"bad_bytes", SIZE, AT(bad_length), 0, 1.8e13},
    {"garbles_at_bytes", SIZE, AT(garbles_at), 0, 1.8e13},
    {"garbles_bytes", SIZE, AT(garbles_length), 0, 1.8e13},
    {"bus_bits_s", SIZE, AT(facts.bus_bits_s), 0, 1e12},
    {"erase_bytes", WORD32, AT(facts.erase_unit), 0, 1 << 28},
    {"pulled_after_bytes", SIZE, AT(pull_after), 0, 1.8e13},
    {"cut_at_write", SIZE, AT(cut_at_write), 0, 1e12},
    {"pulled", FLAG, AT(pulled), 0, 0},
    {"plugged_at_s", REAL, AT(plugged_at), 0, 1e9},
    {"place", TEXT, AT(facts.place), 64, 0},
#undef AT
};
enum { DRIVE_KEYS = sizeof drive_keys / sizeof drive_keys[0] };

static enum ws_status read_value(json_t *value, size_t k, struct ws_sim_drive *d, const char *where,
                                 struct ws_error *error) {
    void *out = (char *)d + drive_keys[k].offset;
    const char *key = drive_keys[k].name;
    bool number = json_is_number(value);
    double real = json_number_value(value);
    switch (drive_keys[k].value) {
    case TEXT:
        if (!json_is_string(value)) return bad(error, where, key, "must be text");
        if (json_string_length(value) >= drive_keys[k].room) return bad(error, where, key, "is too long");
        memcpy(out, json_string_value(value), json_string_length(value) + 1);
        return WS_OK;
    case FLAG:
        if (!json_is_boolean(value)) return bad(error, where, key, "must be true or false");
        *(bool *)out = json_is_true(value);
        return WS_OK;
    case KNOWN:
        if (!json_is_boolean(value) && !json_is_null(value))
            return bad(error, where, key, "must be true, false or null");
        *(enum ws_known *)out = json_is_null(value) ? WS_UNKNOWN : json_is_true(value) ? WS_YES : WS_NO;
        return WS_OK;
    default: break;
    }
    if (!number || real < 0 || real > drive_keys[k].most) return bad(error, where, key, "is not a possible number");
    if (drive_keys[k].value == REAL) *(double *)out = real;
    else if (!json_is_integer(value)) return bad(error, where, key, "must be a whole number");
    else if (drive_keys[k].value == WORD32) *(uint32_t *)out = (uint32_t)json_integer_value(value);
    else *(uint64_t *)out = (uint64_t)json_integer_value(value);
    return WS_OK;
}

static json_t *find_named(json_t *list, const char *name) {
    size_t i;
    json_t *one;
    json_array_foreach(list, i, one) {
        const char *other = json_string_value(json_object_get(one, "name"));
        if (other && strcmp(other, name) == 0) return one;
    }
    return NULL;
}

/* Fill a drive: first what the one it is like says, then what it says itself. */
static enum ws_status fill_drive(json_t *list, json_t *object, int depth, struct ws_sim_drive *d,
                                 struct ws_error *error) {
    const char *name = json_string_value(json_object_get(object, "name"));
    const char *like = json_string_value(json_object_get(object, "like"));
    const char *key;
    json_t *value;
    if (depth > WS_SIM_MOST) return bad(error, name ? name : "", "like", "goes round in a circle");
    if (like) {
        json_t *other = find_named(list, like);
        if (!other) return bad(error, name ? name : "", "like", "names a drive that is not on this bench");
        WS_TRY(fill_drive(list, other, depth + 1, d, error));
    }
    json_object_foreach(object, key, value) {
        size_t k = 0;
        while (k < DRIVE_KEYS && strcmp(drive_keys[k].name, key) != 0) k++;
        if (k == DRIVE_KEYS) return bad(error, name ? name : "", key, "is not a key of a drive");
        WS_TRY(read_value(value, k, d, name ? name : "", error));
    }
    return WS_OK;
}

static enum ws_status finish_drive(struct ws_sim_drive *d, struct ws_error *error) {
    struct ws_drive_facts *f = &d->facts;
    if (!d->name[0]) return bad(error, "", "name", "is missing from a drive");
    if (f->logical_sector != 512 && f->logical_sector != 4096)
        return bad(error, d->name, "sector_bytes", "must be 512 or 4096");
    if (f->size < 1 << 20 || f->size % f->logical_sector)
        return bad(error, d->name, "size_bytes", "must be whole sectors and at least 1 MiB");
    if (d->holds == 0) d->holds = f->size;
    if (d->holds > f->size || d->holds < 1 << 20 || d->holds % 512)
        return bad(error, d->name, "holds_bytes", "must be whole sectors of 512 between 1 MiB and the size");
    if (!d->beyond[0]) (void)snprintf(d->beyond, sizeof d->beyond, "wraps");
    if (strcmp(d->beyond, "wraps") != 0 && strcmp(d->beyond, "drops") != 0 && strcmp(d->beyond, "repeats") != 0)
        return bad(error, d->name, "beyond", "must be \"wraps\", \"drops\" or \"repeats\"");
    if (strcmp(d->beyond, "repeats") == 0 && (d->repeats < 4096 || d->repeats > d->holds))
        return bad(error, d->name, "repeats_bytes", "must lie between 4096 and what the drive holds");
    if (d->write_rate <= 0 || d->read_rate <= 0)
        return bad(error, d->name, "write_bytes_s", "and read_bytes_s must be set");
    f->kind = WS_DRIVE_SIMULATED;
    f->physical_sector = 4096;
    if (!f->model[0]) (void)snprintf(f->model, sizeof f->model, "%s", d->name);
    (void)snprintf(f->id, sizeof f->id, "%s", d->name);
    return ws_drive_short_name(f, error);
}

static enum ws_status read_pc(json_t *object, struct ws_sim_pc *pc, struct ws_error *error) {
    const char *key;
    json_t *value;
    const char *firmware = json_string_value(json_object_get(object, "firmware"));
    const char *name = json_string_value(json_object_get(object, "name"));
    if (!name || !name[0] || strlen(name) >= sizeof pc->name) return bad(error, "", "name", "is missing from a PC");
    (void)snprintf(pc->name, sizeof pc->name, "%s", name);
    if (!firmware || (strcmp(firmware, "bios") != 0 && strcmp(firmware, "uefi") != 0))
        return bad(error, name, "firmware", "must be \"bios\" or \"uefi\"");
    pc->firmware = strcmp(firmware, "uefi") == 0 ? WS_FIRMWARE_UEFI : WS_FIRMWARE_BIOS;
    json_object_foreach(object, key, value) {
        if (strcmp(key, "secure_boot") == 0) {
            if (!json_is_boolean(value)) return bad(error, name, key, "must be true or false");
            pc->secure_boot = json_is_true(value);
        } else if (strcmp(key, "name") != 0 && strcmp(key, "firmware") != 0) {
            return bad(error, name, key, "is not a key of a PC");
        }
    }
    if (pc->secure_boot && pc->firmware == WS_FIRMWARE_BIOS)
        return bad(error, name, "secure_boot", "needs the firmware \"uefi\"");
    return WS_OK;
}

static enum ws_status parse_root(json_t *root, struct ws_bench *bench, struct ws_error *error) {
    const char *format = json_string_value(json_object_get(root, "format"));
    json_t *drives = json_object_get(root, "drives");
    json_t *pcs = json_object_get(root, "pcs");
    const char *key;
    json_t *value;
    json_t *one;
    size_t i;
    if (!format || strcmp(format, "wild-satchel-bench") != 0)
        return bad(error, "", "format", "must be \"wild-satchel-bench\"");
    if (json_integer_value(json_object_get(root, "version")) != 1) return bad(error, "", "version", "must be 1");
    json_object_foreach(root, key, value) {
        static const char *const known[] = {"format", "version", "drives", "pcs", "seed", "clock_s", "began"};
        size_t k = 0;
        while (k < 7 && strcmp(known[k], key) != 0) k++;
        if (k == 7) return bad(error, "", key, "is not a key of this format");
        if (k >= 4 && (!json_is_number(value) || json_number_value(value) < 0))
            return bad(error, "", key, "must be a number");
    }
    if (!json_is_array(drives) || json_array_size(drives) > WS_SIM_MOST)
        return bad(error, "", "drives", "must be a list of at most 64 drives");
    if (!json_is_array(pcs) || json_array_size(pcs) > WS_SIM_MOST)
        return bad(error, "", "pcs", "must be a list of at most 64 PCs");
    bench->seed = (uint64_t)json_integer_value(json_object_get(root, "seed"));
    bench->clock_s = json_number_value(json_object_get(root, "clock_s"));
    bench->began = json_integer_value(json_object_get(root, "began"));
    json_array_foreach(drives, i, one) {
        struct ws_sim_drive *d = &bench->drive[bench->drives];
        if (!json_is_object(one)) return bad(error, "", "drives", "must hold objects");
        d->facts.logical_sector = 512;
        d->facts.internal = WS_NO;
        d->facts.removable = WS_YES;
        WS_TRY(fill_drive(drives, one, 0, d, error));
        if (!json_object_get(one, "model")) d->facts.model[0] = '\0'; /* another name is another model */
        if (!json_object_get(one, "place")) d->facts.place[0] = '\0';
        WS_TRY(finish_drive(d, error));
        if (ws_bench_drive(bench, d->name)) return bad(error, d->name, "name", "is used by two drives");
        bench->drives++;
    }
    json_array_foreach(pcs, i, one) {
        struct ws_sim_pc *pc = &bench->pc[bench->pcs];
        if (!json_is_object(one)) return bad(error, "", "pcs", "must hold objects");
        WS_TRY(read_pc(one, pc, error));
        if (ws_bench_pc(bench, pc->name)) return bad(error, pc->name, "name", "is used by two PCs");
        bench->pcs++;
    }
    return WS_OK;
}

enum ws_status ws_bench_parse(const char *text, size_t length, struct ws_bench *bench, struct ws_error *error) {
    json_error_t where;
    memset(bench, 0, sizeof *bench);
    json_t *root = json_loadb(text, length, JSON_REJECT_DUPLICATES, &where);
    if (!root || !json_is_object(root)) {
        ws_fail(error, WS_E_FORMAT, "the bench file is not a JSON object: %s", root ? "something else" : where.text);
        if (!root) ws_fail_where(error, "line %d, column %d", where.line, where.column);
        json_decref(root);
        return WS_E_FORMAT;
    }
    enum ws_status status = parse_root(root, bench, error);
    json_decref(root);
    return status;
}

struct ws_sim_drive *ws_bench_drive(struct ws_bench *bench, const char *name) {
    for (size_t i = 0; i < bench->drives; i++)
        if (strcmp(bench->drive[i].name, name) == 0 || strcmp(bench->drive[i].facts.short_name, name) == 0)
            return &bench->drive[i];
    return NULL;
}

struct ws_sim_pc *ws_bench_pc(struct ws_bench *bench, const char *name) {
    for (size_t i = 0; i < bench->pcs; i++)
        if (strcmp(bench->pc[i].name, name) == 0) return &bench->pc[i];
    return NULL;
}

static enum ws_status file_error(struct ws_error *error, const char *what, const char *path) {
    ws_fail(error, WS_E_WRITE, "%s: %s", what, strerror(errno));
    return ws_fail_where(error, "%s", path);
}

bool sim_drive_is_here(struct ws_bench *bench, struct ws_sim_drive *d) {
    if (d->pulled && d->plugged_at > 0 && bench->clock_s >= d->plugged_at) {
        d->pulled = false;
        d->plugged_at = 0;
        (void)ws_bench_save(bench, NULL);
    }
    return !d->pulled;
}

void sim_bench_look_again(struct ws_bench *bench) {
    struct ws_bench *now = NULL;
    if (ws_bench_open(bench->folder, &now, NULL) != WS_OK) return;
    for (size_t i = 0; i < bench->drives && i < now->drives; i++)
        if (!bench->drive[i].plugged_at) bench->drive[i].pulled = now->drive[i].pulled;
    ws_bench_close(now);
}

void sim_drive_path(const struct ws_bench *bench, const struct ws_sim_drive *d, char *out, size_t room) {
    size_t twins = 0; /* drives that look alike share a short name */
    for (const struct ws_sim_drive *o = bench->drive; o < d; o++)
        twins += strcmp(o->facts.short_name, d->facts.short_name) == 0;
    if (twins) (void)snprintf(out, room, "%s/%s-twin-%zu.drive", bench->folder, d->facts.short_name, twins);
    else (void)snprintf(out, room, "%s/%s.drive", bench->folder, d->facts.short_name);
}

enum ws_status ws_bench_create(struct ws_bench *bench, const char *folder, struct ws_error *error) {
    char path[700];
    struct stat s;
    (void)snprintf(bench->folder, sizeof bench->folder, "%s", folder);
    if (strlen(folder) >= sizeof bench->folder) return ws_fail(error, WS_E_RANGE, "the folder's path is too long");
    if (mkdir(folder, 0777) != 0 && errno != EEXIST)
        return file_error(error, "the bench's folder cannot be made", folder);
    (void)snprintf(path, sizeof path, "%s/bench.json", folder);
    if (stat(path, &s) == 0) {
        ws_fail(error, WS_E_REFUSED, "a bench stands in this folder already");
        ws_fail_where(error, "%s", folder);
        return ws_fail_next(error, "choose another folder, or remove this one first");
    }
    bench->began = (int64_t)time(NULL);
    for (size_t i = 0; i < bench->drives; i++) {
        sim_drive_path(bench, &bench->drive[i], path, sizeof path);
        int fd = open(path, O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC, 0666);
        if (fd < 0) return file_error(error, "a simulated drive cannot be made", path);
        int failed = ftruncate(fd, (off_t)bench->drive[i].holds);
        close(fd);
        if (failed) return file_error(error, "a simulated drive cannot be made", path);
    }
    return ws_bench_save(bench, error);
}

static json_t *drive_json(const struct ws_sim_drive *d) {
    json_t *object = json_object();
    for (size_t k = 0; k < DRIVE_KEYS; k++) {
        const void *at = (const char *)d + drive_keys[k].offset;
        json_t *value = NULL;
        switch (drive_keys[k].value) {
        case TEXT: value = strcmp(drive_keys[k].name, "like") == 0 ? NULL : json_string(at); break;
        case FLAG: value = json_boolean(*(const bool *)at); break;
        case KNOWN: {
            enum ws_known known = *(const enum ws_known *)at;
            value = known == WS_UNKNOWN ? json_null() : json_boolean(known == WS_YES);
            break;
        }
        case REAL: value = json_real(*(const double *)at); break;
        case WORD32: value = json_integer(*(const uint32_t *)at); break;
        case SIZE: value = json_integer((json_int_t) * (const uint64_t *)at); break;
        }
        if (value) json_object_set_new(object, drive_keys[k].name, value);
    }
    return object;
}

enum ws_status ws_bench_save(const struct ws_bench *bench, struct ws_error *error) {
    char path[700];
    json_t *drives = json_array();
    json_t *pcs = json_array();
    for (size_t i = 0; i < bench->drives; i++) json_array_append_new(drives, drive_json(&bench->drive[i]));
    for (size_t i = 0; i < bench->pcs; i++)
        json_array_append_new(pcs, json_pack("{s:s, s:s, s:b}", "name", bench->pc[i].name, "firmware",
                                             bench->pc[i].firmware == WS_FIRMWARE_UEFI ? "uefi" : "bios", "secure_boot",
                                             bench->pc[i].secure_boot));
    json_t *root = json_pack("{s:s, s:i, s:I, s:f, s:I, s:o, s:o}", "format", "wild-satchel-bench", "version", 1,
                             "seed", (json_int_t)bench->seed, "clock_s", bench->clock_s, "began",
                             (json_int_t)bench->began, "drives", drives, "pcs", pcs);
    (void)snprintf(path, sizeof path, "%s/bench.json", bench->folder);
    struct ws_keep keep = {.format = "wild-satchel-bench"};
    char *text = root ? json_dumps(root, JSON_INDENT(2)) : NULL;
    json_decref(root);
    if (!text) return ws_fail(error, WS_E_NOMEM, "out of memory for the bench's state");
    enum ws_status status = ws_linux_keep(path, text, strlen(text), &keep, error);
    free(text);
    return status;
}

enum ws_status ws_bench_open(const char *folder, struct ws_bench **out, struct ws_error *error) {
    char path[700];
    (void)snprintf(path, sizeof path, "%.600s/bench.json", folder);
    FILE *file = fopen(path, "rb");
    if (!file) {
        ws_fail(error, WS_E_NOTFOUND, "there is no bench in this folder");
        ws_fail_where(error, "%s", folder);
        return ws_fail_next(error, "set one up: satchel bench setup BENCHFILE --bench %.100s", folder);
    }
    struct ws_text text = {0};
    char buffer[4096];
    size_t got;
    while ((got = fread(buffer, 1, sizeof buffer, file)) > 0) ws_text_add(&text, buffer, got);
    fclose(file);
    struct ws_bench *bench = malloc(sizeof *bench);
    enum ws_status status = bench && !text.failed
                                ? ws_bench_parse(text.data ? text.data : "", text.length, bench, error)
                                : ws_fail(error, WS_E_NOMEM, "out of memory for a bench");
    ws_text_free(&text);
    if (status != WS_OK) {
        free(bench);
        return status;
    }
    (void)snprintf(bench->folder, sizeof bench->folder, "%s", folder);
    *out = bench;
    return WS_OK;
}

void ws_bench_close(struct ws_bench *bench) { free(bench); }
