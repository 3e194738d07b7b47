/* look.c — a drive looked at as an original: its volumes, and what can be done with each. */
#include "base/bytes.h"
#include "twin/internal.h"
#include "wild_satchel/contents.h"
#include "wild_satchel/iso9660.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { EDGE = 1 << 20 };

const char *ws_twin_way_name(enum ws_twin_way way) {
    static const char *const names[] = {"anew", "as-it-is", "empty"};
    return names[way];
}

static void count(struct ws_original_volume *v) {
    for (const struct ws_node *n = ws_tree_next(ws_tree_root(v->tree)); n; n = ws_tree_next(n)) {
        v->files++;
        if (n->kind == WS_NODE_FILE) v->bytes += ws_node_stored(n);
    }
}

/* Its files are not read here; its allocation may be. */
static enum ws_status look_at_used(struct ws_original_volume *v, struct ws_error *error) {
    struct ws_error why = {0};
    char size[32];
    enum ws_status status = ws_used_look(v->slice, &v->used, &why);
    if (status == WS_E_NOMEM || status == WS_E_READ) {
        if (error) *error = why;
        return status;
    }
    v->bytes = v->used.bytes;
    if (status == WS_OK)
        (void)snprintf(v->why, sizeof v->why, "its files are not read here, but what of it is in use: %s",
                       ws_size_counted(v->used.bytes, size, sizeof size));
    else ws_used_free(&v->used);
    if (status == WS_E_UNSUPPORTED || status == WS_E_FORMAT)
        (void)snprintf(v->why, sizeof v->why, "all of it, for what is in use cannot be told: %.110s", why.what);
    return WS_OK;
}

/* Of files that nobody shares and nobody locks a copy is as good; of all else its bytes are. */
static enum ws_status look_at(struct ws_original_volume *v, const char *system, struct ws_error *error) {
    struct ws_error why = {0};
    (void)snprintf(v->system, sizeof v->system, "%s", system);
    v->way = WS_TWIN_AS_IT_IS;
    v->format = ws_format_of(v->slice, &v->facts);
    if (!v->format) {
        (void)snprintf(v->why, sizeof v->why, "%s",
                       strcmp(system, "unknown") == 0 ? "no file system known here"
                       : strcmp(system, "empty") == 0 ? "nothing is seen on it"
                                                      : "its files are not read here");
        return look_at_used(v, error);
    }
    (void)snprintf(v->system, sizeof v->system, "%s", v->facts.system);
    if (strcmp(v->format->word, "swap") == 0) {
        v->way = WS_TWIN_EMPTY;
        return WS_OK;
    }
    if (!v->format->read || !v->format->compose) {
        (void)snprintf(v->why, sizeof v->why, "it is not made here");
        return WS_OK;
    }
    enum ws_status status = v->format->read(v->slice, &v->tree, &v->facts, &why);
    if (status == WS_E_NOMEM || status == WS_E_READ) {
        if (error) *error = why;
        return status;
    }
    if (status != WS_OK) (void)snprintf(v->why, sizeof v->why, "its files cannot be read: %.120s", why.what);
    else v->way = WS_TWIN_ANEW;
    if (v->tree) count(v);
    return WS_OK;
}

static enum ws_status add_volume(struct ws_original *o, const struct ws_partition *place, const char *system,
                                 struct ws_error *error) {
    struct ws_original_volume *v = &o->volume[o->volumes];
    if (o->volumes == WS_ORIGINAL_MOST) {
        ws_fail(error, WS_E_UNSUPPORTED, "it has more than %d volumes", WS_ORIGINAL_MOST);
        return ws_fail_hint(error, WS_HINT_EXACT, "", "take it byte for byte");
    }
    v->place = *place;
    if (!ws_inside(place->at, place->length, o->source->size)) {
        ws_fail(error, WS_E_FORMAT, "partition %u reaches past its end: this is not all of a drive", place->number);
        return ws_fail_next(error, "take the whole of it");
    }
    o->volumes++;
    WS_TRY(ws_source_slice(o->source, place->at, place->length, &v->slice, error));
    return look_at(v, system, error);
}

static const char *system_at(const struct ws_contents *c, uint64_t at) {
    for (size_t i = 0; i < c->parts; i++)
        if (c->part[i].at == at) return c->part[i].system;
    return "unknown";
}

static enum ws_status look_at_all(struct ws_original *o, const struct ws_contents *c, struct ws_error *error) {
    static const char bios_code[] = "21686148-6449-6e6f-744e-656564454649";
    const struct ws_partition *list[WS_VOLUME_PLACES];
    const size_t places = ws_table_volumes(&o->table, list);
    char type[37];
    for (size_t i = 0; i < places; i++) {
        if (i && list[i]->at < list[i - 1]->at + list[i - 1]->length) {
            ws_fail(error, WS_E_UNSUPPORTED, "its partitions %u and %u lie over each other", list[i - 1]->number,
                    list[i]->number);
            return ws_fail_hint(error, WS_HINT_EXACT, "", "take it byte for byte");
        }
        (void)ws_guid_text(&list[i]->type, type);
        if (strcmp(type, bios_code) == 0) continue; /* our own stands elsewhere */
        WS_TRY(add_volume(o, list[i], system_at(c, list[i]->at), error));
    }
    if (places || c->blank || strcmp(system_at(c, 0), "unknown") == 0) return WS_OK;
    const struct ws_partition whole = {.length = o->source->size};
    return add_volume(o, &whole, system_at(c, 0), error);
}

/* What a volume laid down anew holds: names, kinds, owners, times, places. Of the others what stands at their ends. */
static enum ws_status hash_volume(const struct ws_original_volume *v, struct ws_hash *hash, char *room,
                                  struct ws_error *error) {
    uint8_t raw[40];
    ws_store_le64(raw, v->place.at);
    ws_store_le64(raw + 8, v->place.length);
    ws_hash_add(hash, raw, 16);
    ws_hash_add(hash, v->facts.id, strlen(v->facts.id) + 1);
    ws_hash_add(hash, v->facts.label, strlen(v->facts.label) + 1);
    if (v->tree) ws_tree_hash(v->tree, hash);
    if (v->way != WS_TWIN_AS_IT_IS) return WS_OK;
    for (size_t i = 0; i < v->used.count; i++) {
        ws_store_le64(raw, v->used.stretch[i].at);
        ws_store_le64(raw + 8, v->used.stretch[i].length);
        ws_hash_add(hash, raw, 16);
    }
    const uint64_t size = v->slice->size;
    const uint64_t ends[] = {0, size > EDGE ? size - EDGE : 0};
    for (size_t i = 0; i < 2; i++) {
        const size_t length = (size_t)ws_min_u64(EDGE, size);
        WS_TRY(ws_source_read(v->slice, ends[i], room, length, error));
        ws_hash_add(hash, room, length);
    }
    return WS_OK;
}

static enum ws_status note_state(struct ws_original *o, struct ws_error *error) {
    struct ws_hash *hash = NULL;
    char *room = malloc(EDGE);
    enum ws_status status = room ? ws_hash_open(WS_HASH_SHA256, &hash, error)
                                 : ws_fail(error, WS_E_NOMEM, "out of memory for an original's state");
    for (size_t i = 0; i < o->volumes && status == WS_OK; i++) status = hash_volume(&o->volume[i], hash, room, error);
    if (status == WS_OK) ws_hash_hex(hash, o->state);
    ws_hash_close(hash);
    free(room);
    return status;
}

/* A live image laid down whole has an ISO 9660 file system over its own partitions. */
static enum ws_status refuse_whole(const struct ws_contents *c, struct ws_error *error) {
    for (size_t i = 0; i < c->parts; i++) {
        if (c->part[i].at >= EDGE || strcmp(c->part[i].system, "ISO 9660") != 0) continue;
        ws_fail(error, WS_E_UNSUPPORTED,
                "a live image lies on it whole: its start-up code counts on every byte's place");
        return ws_fail_hint(error, WS_HINT_EXACT, "", "take it byte for byte");
    }
    return WS_OK;
}

static enum ws_status nothing_there(struct ws_error *error) {
    ws_fail(error, WS_E_NOTFOUND,
            "there is nothing on it that a twin could have: no partition, no file system known here");
    return ws_fail_hint(error, WS_HINT_EXACT, "", "take it byte for byte");
}

enum ws_status ws_original_open(const struct ws_source *source, uint32_t sector, struct ws_original *o,
                                struct ws_error *error) {
    memset(o, 0, sizeof *o);
    o->source = source;
    o->sector = sector;
    if (source->size < sector) return nothing_there(error);
    struct ws_contents *c = malloc(sizeof *c);
    if (!c) return ws_fail(error, WS_E_NOMEM, "out of memory for an original");
    enum ws_status status = ws_contents_look(source, sector, false, c, error);
    if (status == WS_OK && c->unfinished)
        status = ws_fail(error, WS_E_REFUSED, "a build or a change of it was begun and never finished");
    if (status == WS_OK) status = refuse_whole(c, error);
    if (status == WS_OK) status = ws_table_read(source, sector, &o->table, &o->findings, error);
    if (status == WS_OK) status = look_at_all(o, c, error);
    free(c);
    WS_TRY(status);
    if (o->volumes == 0) return nothing_there(error);
    WS_TRY(note_state(o, error));
    return twin_find_system(o, error);
}

enum ws_status ws_original_complete(struct ws_original *o, struct ws_error *error) {
    if (o->volumes == 0) return ws_fail(error, WS_E_NOTFOUND, "there is nothing that a twin could have");
    for (size_t i = 0; i < o->volumes; i++)
        if (o->volume[i].tree) count(&o->volume[i]);
    return twin_find_system(o, error);
}

void ws_original_close(struct ws_original *o) {
    for (size_t i = 0; i < o->volumes; i++) {
        ws_tree_close(o->volume[i].tree);
        ws_used_free(&o->volume[i].used);
        ws_source_close(o->volume[i].slice);
    }
    ws_findings_free(&o->findings);
    memset(o, 0, sizeof *o);
}
