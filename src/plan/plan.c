/* plan.c — the plan document: written, read strictly, held against what follows from it. */
#include "plan/internal.h"

#include <inttypes.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { FORMAT_VERSION = 1 };
static const char format_name[] = "wild-satchel-plan";

const char *ws_plan_kind_name(enum ws_plan_kind kind) { return kind == WS_PLAN_LIVE ? "live" : "replica"; }

const char *ws_arrangement_name(enum ws_arrangement a) { return a == WS_ARRANGE_FILES ? "files" : "whole"; }

static const char *const uefi_codes[] = {"auto", "image", "own"};
const char *ws_uefi_code_name(enum ws_uefi_code code) { return uefi_codes[code]; }

static const char *const places[] = {"partition", "file", "none"};
const char *ws_persistence_place_name(enum ws_persistence_place place) { return places[place]; }

void ws_plan_free(struct ws_plan *plan) { ws_findings_free(&plan->findings); }

static json_t *parts_json(const struct ws_plan *p) {
    json_t *list = json_array();
    for (size_t i = 0; i < p->parts; i++)
        json_array_append_new(list, json_pack("{s:s, s:s, s:i, s:I, s:I}", "what", p->part[i].what, "label",
                                              p->part[i].label, "partition", (int)p->part[i].number, "at_bytes",
                                              (json_int_t)p->part[i].at, "size_bytes", (json_int_t)p->part[i].length));
    return list;
}

static json_t *edits_json(const struct ws_plan *p) {
    json_t *list = json_array();
    for (size_t i = 0; i < p->edits; i++)
        json_array_append_new(list, json_pack("{s:s, s:s, s:b}", "path", p->edit[i].path, "change", p->edit[i].what,
                                              "moved_behind", p->edit[i].behind));
    return list;
}

static json_t *choices_json(const struct ws_plan *p) {
    json_t *list = json_array();
    for (size_t i = 0; i < p->choices; i++)
        json_array_append_new(list, json_pack("{s:s, s:s, s:s}", "what", p->choice[i].what, "choice",
                                              p->choice[i].choice, "why", p->choice[i].why));
    return list;
}

static json_t *outlooks_json(const struct ws_plan *p) {
    json_t *list = json_array();
    for (size_t i = 0; i < WS_OUTLOOKS; i++)
        json_array_append_new(list, json_pack("{s:s, s:b, s:b, s:s}", "firmware",
                                              p->outlook[i].firmware == WS_FIRMWARE_UEFI ? "uefi" : "bios",
                                              "secure_boot", p->outlook[i].secure_boot, "starts", p->outlook[i].starts,
                                              "why", p->outlook[i].why));
    return list;
}

/* An asked size: a number of bytes, or "rest". */
static json_t *asked_json(uint64_t bytes) {
    return bytes == WS_PLAN_REST ? json_string("rest") : json_integer((json_int_t)bytes);
}

static json_t *findings_json(const struct ws_findings *f) {
    json_t *list = json_array();
    for (size_t i = 0; i < f->count; i++)
        json_array_append_new(
            list, json_pack("{s:s, s:s}", "weight", ws_weight_name(f->list[i].weight), "text", f->list[i].text));
    return list;
}

/* A document is UTF-8, and a path must be found again by what it holds. */
static enum ws_status check_paths(const struct ws_plan *p, struct ws_error *error) {
    const char *const paths[] = {p->image_path, p->overlay_from, p->drive_seen_at};
    for (size_t i = 0; i < sizeof paths / sizeof paths[0]; i++) {
        json_t *text = json_string(paths[i]);
        bool good = text != NULL;
        json_decref(text);
        if (good) continue;
        ws_fail(error, WS_E_UNSUPPORTED, "a plan cannot hold this path: it is not UTF-8");
        ws_fail_where(error, "%s", paths[i]);
        return ws_fail_next(error, "rename it");
    }
    return WS_OK;
}

static const char checksum_key[] = "document_sha256";

/* Of all else in the document: keys sorted, no blanks. A plan is carried out as it was made and shown, or not at all.
 */
static bool checksum_of(json_t *root, char hex[WS_HASH_HEX]) {
    char *text = json_dumps(root, JSON_COMPACT | JSON_SORT_KEYS | JSON_ENSURE_ASCII);
    bool good = text && ws_hash_bytes(WS_HASH_SHA256, text, strlen(text), hex, NULL) == WS_OK;
    free(text);
    return good;
}

enum ws_status ws_plan_to_json(const struct ws_plan *p, struct ws_text *out, struct ws_error *error) {
    char id[37];
    WS_TRY(check_paths(p, error));
    json_t *root = json_pack(
        "{s:s, s:i, s:s, s:s, s:s, s:I, s:I, s:s, s:{s:s, s:I, s:s, s:I}, s:{s:s, s:s, s:s, s:s, s:I, s:i, s:i}, "
        "s:{s:I, s:s, s:s, s:s}, s:{s:o, s:s, s:i}, s:{s:I}, s:{s:s, s:s, s:i, s:b}, s:o, s:s}",
        "format", format_name, "version", (int)FORMAT_VERSION, "kind", ws_plan_kind_name(p->kind), "arrangement",
        ws_arrangement_name(p->arrangement), "id", ws_guid_text(&p->id, id), "made_at", (json_int_t)p->made_at,
        "system_asked_bytes", (json_int_t)p->system_asked, "system_format", p->system_exfat ? "exfat" : "fat32",
        "image", "path", p->image_path, "size_bytes", (json_int_t)p->image_size, "sha256", p->image_sha256,
        "touched_at", (json_int_t)p->image_touched_at, "drive", "name", p->drive_name, "model", p->drive_model,
        "serial", p->drive_serial, "seen_at", p->drive_seen_at, "size_bytes", (json_int_t)p->drive_size, "sector_bytes",
        (int)p->drive_sector, "erase_bytes", (int)p->drive_erase, "persistence", "asked_bytes",
        (json_int_t)p->persistence_asked, "place", ws_persistence_place_name(p->persistence_place), "from",
        p->overlay_from, "from_sha256", p->overlay_sha256, "data", "asked_bytes", asked_json(p->data_asked), "label",
        p->data_label, "cluster_bytes", (int)p->data_cluster, "swap", "asked_bytes", (json_int_t)p->swap_asked, "start",
        "uefi_code", ws_uefi_code_name(p->uefi_code), "check", ws_check_name(p->check), "menu_seconds",
        (int)p->menu_seconds, "gpt", (int)p->table_gpt, "rules", plan_rules_json(&p->rules), "family",
        p->own_family.document);
    json_t *result = json_pack(
        "{s:s, s:s, s:s, s:i, s:I, s:I, s:I, s:I, s:i, s:I, s:I, s:i, s:I, s:I, s:i, s:s, s:I, s:I, s:I, s:i, s:I, "
        "s:I, s:I, s:i, "
        "s:I, s:s, s:o, s:o, s:o, s:o, s:o}",
        "image_title", p->image_title, "live_family", p->family ? p->family->word : "", "table",
        ws_table_kind_name(p->table), "align_bytes", (int)p->align, "image_end_bytes", (json_int_t)p->image_end,
        "system_at_bytes", (json_int_t)p->system_at, "system_size_bytes", (json_int_t)p->system_size,
        "system_free_bytes", (json_int_t)p->system_free, "system_partition", (int)p->system_number, "start_at_bytes",
        (json_int_t)p->start_at, "start_size_bytes", (json_int_t)p->start_size, "start_partition", (int)p->start_number,
        "persistence_at_bytes", (json_int_t)p->persistence_at, "persistence_size_bytes",
        (json_int_t)p->persistence_size, "persistence_partition", (int)p->persistence_number, "persistence_label",
        p->persistence_size && p->family ? p->family->label : "", "persistence_free_bytes",
        (json_int_t)p->persistence_free, "data_at_bytes", (json_int_t)p->data_at, "data_size_bytes",
        (json_int_t)p->data_size, "data_partition", (int)p->data_number, "data_free_bytes", (json_int_t)p->data_free,
        "swap_at_bytes", (json_int_t)p->swap_at, "swap_size_bytes", (json_int_t)p->swap_size, "swap_partition",
        (int)p->swap_number, "write_bytes", (json_int_t)p->bytes_written, "layout_sha256", p->fingerprint, "edits",
        edits_json(p), "parts", parts_json(p), "choices", choices_json(p), "starts", outlooks_json(p), "findings",
        findings_json(&p->findings));
    char *text = NULL;
    char checksum[WS_HASH_HEX];
    if (root && result && json_object_set(root, "result", result) == 0 && checksum_of(root, checksum) &&
        json_object_set_new(root, checksum_key, json_string(checksum)) == 0)
        text = json_dumps(root, JSON_INDENT(2) | JSON_PRESERVE_ORDER);
    json_decref(root);
    json_decref(result);
    if (!text) return ws_fail(error, WS_E_NOMEM, "out of memory for a plan document, or a name in it is not UTF-8");
    ws_text_puts(out, text);
    ws_text_puts(out, "\n");
    free(text);
    return ws_text_status(out, error);
}

/* One key of the document and where it goes. */
struct key {
    const char *name;
    enum { TEXT, NUMBER, LIST } kind;
    void *out;
    size_t room;   /* TEXT: bytes */
    uint64_t most; /* NUMBER: largest value that makes sense */
};

static enum ws_status bad_key(struct ws_error *error, const char *section, const char *key, const char *what) {
    ws_fail(error, WS_E_FORMAT, "the plan's \"%s%s%s\" %s", section, section[0] ? "." : "", key, what);
    return ws_fail_next(error, "make the plan again with `satchel plan`");
}

static enum ws_status read_keys(json_t *object, const char *section, const struct key *keys, size_t count,
                                struct ws_error *error) {
    const char *name;
    json_t *value;
    if (!json_is_object(object))
        return bad_key(error, "", section[0] ? section : "document", "is missing or no object");
    json_object_foreach(object, name, value) {
        size_t i = 0;
        while (i < count && strcmp(keys[i].name, name) != 0) i++;
        if (i == count) return bad_key(error, section, name, "is not a key of this format");
    }
    for (size_t i = 0; i < count; i++) {
        const struct key *k = &keys[i];
        value = json_object_get(object, k->name);
        if (!value) return bad_key(error, section, k->name, "is missing");
        if (k->kind == TEXT) {
            if (!json_is_string(value)) return bad_key(error, section, k->name, "must be text");
            if (json_string_length(value) >= k->room || strlen(json_string_value(value)) != json_string_length(value))
                return bad_key(error, section, k->name, "is too long");
            memcpy(k->out, json_string_value(value), json_string_length(value) + 1);
        } else if (k->kind == NUMBER) {
            if (!json_is_integer(value)) return bad_key(error, section, k->name, "must be a whole number");
            json_int_t n = json_integer_value(value);
            if (n < 0 || (uint64_t)n > k->most) return bad_key(error, section, k->name, "is not possible");
            *(uint64_t *)k->out = (uint64_t)n;
        } else if (k->out) {
            *(json_t **)k->out = value;
        }
    }
    return WS_OK;
}

static enum ws_status read_asked(json_t *value, uint64_t *out, struct ws_error *error) {
    const char *word = json_string_value(value);
    if (word && strcmp(word, "rest") == 0) {
        *out = WS_PLAN_REST;
        return WS_OK;
    }
    json_int_t n = json_integer_value(value);
    if (!json_is_integer(value) || n < 0 || n > (json_int_t)1 << 45)
        return bad_key(error, "data", "asked_bytes", "must be a possible number of bytes or \"rest\"");
    *out = (uint64_t)n;
    return WS_OK;
}

/* A word out of a few. @return its place */
static enum ws_status read_word(const char *section, const char *key, const char *word, const char *(*name)(unsigned),
                                unsigned count, unsigned *out, struct ws_error *error) {
    for (unsigned i = 0; i < count; i++)
        if (strcmp(word, name(i)) == 0) {
            *out = i;
            return WS_OK;
        }
    return bad_key(error, section, key, "is not a word of this format");
}

static const char *uefi_word(unsigned i) { return ws_uefi_code_name((enum ws_uefi_code)i); }
static const char *place_word(unsigned i) { return ws_persistence_place_name((enum ws_persistence_place)i); }
static const char *check_word(unsigned i) { return ws_check_name((enum ws_check_at_start)i); }

static enum ws_status read_start(json_t *object, struct ws_plan *p, struct ws_error *error) {
    char code[16], check[16];
    uint64_t seconds = 0;
    json_t *gpt = NULL;
    unsigned word = 0;
    const struct key keys[] = {{"uefi_code", TEXT, code, sizeof code, 0},
                               {"check", TEXT, check, sizeof check, 0},
                               {"menu_seconds", NUMBER, &seconds, 0, WS_MENU_SECONDS_MOST},
                               {"gpt", LIST, &gpt, 0, 0}};
    WS_TRY(read_keys(object, "start", keys, 4, error));
    if (!json_is_boolean(gpt)) return bad_key(error, "start", "gpt", "must be true or false");
    p->table_gpt = json_is_true(gpt);
    p->menu_seconds = (unsigned)seconds;
    WS_TRY(read_word("start", "uefi_code", code, uefi_word, 3, &word, error));
    p->uefi_code = (enum ws_uefi_code)word;
    WS_TRY(read_word("start", "check", check, check_word, 3, &word, error));
    p->check = (enum ws_check_at_start)word;
    return WS_OK;
}

static bool is_sha256(const char *hex) { return strlen(hex) == 64 && strspn(hex, "0123456789abcdef") == 64; }

static enum ws_status read_findings(json_t *list, struct ws_findings *findings, struct ws_error *error) {
    size_t i;
    json_t *one;
    if (!json_is_array(list)) return bad_key(error, "result", "findings", "must be a list");
    json_array_foreach(list, i, one) {
        const char *word = json_string_value(json_object_get(one, "weight"));
        const char *text = json_string_value(json_object_get(one, "text"));
        int weight = WS_NOTE;
        while (word && weight <= WS_FAULT && strcmp(word, ws_weight_name((enum ws_weight)weight)) != 0) weight++;
        if (!word || !text || weight > WS_FAULT || json_object_size(one) != 2)
            return bad_key(error, "result", "findings", "must be a list of \"weight\" and \"text\"");
        ws_findings_add(findings, (enum ws_weight)weight, "%s", text);
    }
    return WS_OK;
}

static enum ws_status read_result(json_t *object, struct ws_plan *p, struct ws_error *error) {
    json_t *findings = NULL;
    char family[32] = "", table[16] = "", label[40] = "";
    uint64_t number = 0, data_number = 0, swap_number = 0, system_number = 0, start_number = 0, align = 0;
    const struct key keys[] = {
        {"image_title", TEXT, p->image_title, sizeof p->image_title, 0},
        {"live_family", TEXT, family, sizeof family, 0},
        {"table", TEXT, table, sizeof table, 0},
        {"image_end_bytes", NUMBER, &p->image_end, 0, INT64_MAX},
        {"persistence_at_bytes", NUMBER, &p->persistence_at, 0, INT64_MAX},
        {"persistence_size_bytes", NUMBER, &p->persistence_size, 0, INT64_MAX},
        {"persistence_partition", NUMBER, &number, 0, 1024},
        {"persistence_label", TEXT, label, sizeof label, 0},
        {"persistence_free_bytes", NUMBER, &p->persistence_free, 0, INT64_MAX},
        {"align_bytes", NUMBER, &align, 0, 1 << 30},
        {"system_at_bytes", NUMBER, &p->system_at, 0, INT64_MAX},
        {"system_size_bytes", NUMBER, &p->system_size, 0, INT64_MAX},
        {"system_partition", NUMBER, &system_number, 0, 1024},
        {"system_free_bytes", NUMBER, &p->system_free, 0, INT64_MAX},
        {"start_at_bytes", NUMBER, &p->start_at, 0, INT64_MAX},
        {"start_size_bytes", NUMBER, &p->start_size, 0, INT64_MAX},
        {"start_partition", NUMBER, &start_number, 0, 1024},
        {"data_at_bytes", NUMBER, &p->data_at, 0, INT64_MAX},
        {"data_size_bytes", NUMBER, &p->data_size, 0, INT64_MAX},
        {"data_partition", NUMBER, &data_number, 0, 1024},
        {"data_free_bytes", NUMBER, &p->data_free, 0, INT64_MAX},
        {"swap_at_bytes", NUMBER, &p->swap_at, 0, INT64_MAX},
        {"swap_size_bytes", NUMBER, &p->swap_size, 0, INT64_MAX},
        {"swap_partition", NUMBER, &swap_number, 0, 1024},
        {"write_bytes", NUMBER, &p->bytes_written, 0, INT64_MAX},
        {"layout_sha256", TEXT, p->fingerprint, sizeof p->fingerprint, 0},
        {"edits", LIST, NULL, 0, 0},
        {"parts", LIST, NULL, 0, 0},
        {"choices", LIST, NULL, 0, 0},
        {"starts", LIST, NULL, 0, 0},
        {"findings", LIST, &findings, 0, 0},
    };
    WS_TRY(read_keys(object, "result", keys, sizeof keys / sizeof keys[0], error));
    WS_TRY(read_findings(findings, &p->findings, error));
    bool own = p->own_family.document[0] && strcmp(family, p->own_family.family.word) == 0;
    p->family = own ? &p->own_family.family : family[0] ? ws_live_family_find(family) : NULL;
    if (family[0] && !p->family) return bad_key(error, "result", "live_family", "names a family not known here");
    p->persistence_number = (unsigned)number;
    p->data_number = (unsigned)data_number;
    p->swap_number = (unsigned)swap_number;
    p->system_number = (unsigned)system_number;
    p->start_number = (unsigned)start_number;
    p->align = (uint32_t)align;
    bool known = false;
    for (int kind = WS_TABLE_NONE; kind <= WS_TABLE_MBR_FIRST; kind++)
        if (strcmp(table, ws_table_kind_name((enum ws_table_kind)kind)) == 0) {
            p->table = (enum ws_table_kind)kind;
            known = true;
        }
    return known ? WS_OK : bad_key(error, "result", "table", "names no kind of table");
}

enum ws_status ws_plan_from_json(const char *text, size_t length, struct ws_plan *p, struct ws_error *error) {
    char format[32], kind[16], arrangement[16], id[40], place[16], family[WS_FAMILY_TEXT] = "", system[16];
    uint64_t version = 0, made_at = 0, sector = 0, erase = 0, cluster = 0, touched = 0;
    json_t *image = NULL, *drive = NULL, *persistence = NULL, *data = NULL, *swap = NULL, *start = NULL, *rules = NULL,
           *result = NULL;
    json_t *data_asked = NULL;
    char checksum[WS_HASH_HEX], is[WS_HASH_HEX];
    json_error_t where;
    enum ws_status status;
    memset(p, 0, sizeof *p);
    json_t *root = json_loadb(text, length, JSON_REJECT_DUPLICATES, &where);
    if (!root) {
        ws_fail(error, WS_E_FORMAT, "the plan is not a JSON document: %s", where.text);
        return ws_fail_where(error, "line %d, column %d", where.line, where.column);
    }
    json_t *v = json_is_object(root) ? json_object_get(root, "version") : NULL;
    const char *f = json_is_object(root) ? json_string_value(json_object_get(root, "format")) : NULL;
    if (!f || strcmp(f, format_name) != 0)
        WS_GO(
            ws_fail(error, WS_E_FORMAT, "this JSON document is not a plan: its \"format\" is not \"%s\"", format_name));
    if (json_integer_value(v) != FORMAT_VERSION)
        WS_GO(ws_fail(error, WS_E_UNSUPPORTED,
                      "the plan is of version %" JSON_INTEGER_FORMAT ", this program reads version %d",
                      json_integer_value(v), (int)FORMAT_VERSION));
    const struct key top[] = {
        {"format", TEXT, format, sizeof format, 0},
        {"version", NUMBER, &version, 0, FORMAT_VERSION},
        {"kind", TEXT, kind, sizeof kind, 0},
        {"arrangement", TEXT, arrangement, sizeof arrangement, 0},
        {"system_format", TEXT, system, sizeof system, 0},
        {"system_asked_bytes", NUMBER, &p->system_asked, 0, 1ull << 45},
        {"id", TEXT, id, sizeof id, 0},
        {"made_at", NUMBER, &made_at, 0, 1ull << 34},
        {"image", LIST, &image, 0, 0},
        {"drive", LIST, &drive, 0, 0},
        {"persistence", LIST, &persistence, 0, 0},
        {"data", LIST, &data, 0, 0},
        {"swap", LIST, &swap, 0, 0},
        {"start", LIST, &start, 0, 0},
        {"rules", LIST, &rules, 0, 0},
        {"family", TEXT, family, sizeof family, 0},
        {"result", LIST, &result, 0, 0},
        {checksum_key, TEXT, checksum, sizeof checksum, 0},
    };
    WS_GO(read_keys(root, "", top, sizeof top / sizeof top[0], error));
    const struct key image_keys[] = {{"path", TEXT, p->image_path, sizeof p->image_path, 0},
                                     {"size_bytes", NUMBER, &p->image_size, 0, INT64_MAX},
                                     {"sha256", TEXT, p->image_sha256, sizeof p->image_sha256, 0},
                                     {"touched_at", NUMBER, &touched, 0, 1ull << 44}};
    WS_GO(read_keys(image, "image", image_keys, 4, error));
    p->image_touched_at = (int64_t)touched;
    const struct key drive_keys[] = {{"name", TEXT, p->drive_name, sizeof p->drive_name, 0},
                                     {"model", TEXT, p->drive_model, sizeof p->drive_model, 0},
                                     {"serial", TEXT, p->drive_serial, sizeof p->drive_serial, 0},
                                     {"seen_at", TEXT, p->drive_seen_at, sizeof p->drive_seen_at, 0},
                                     {"size_bytes", NUMBER, &p->drive_size, 0, INT64_MAX},
                                     {"sector_bytes", NUMBER, &sector, 0, 4096},
                                     {"erase_bytes", NUMBER, &erase, 0, 1 << 30}};
    WS_GO(read_keys(drive, "drive", drive_keys, 7, error));
    const struct key persistence_keys[] = {{"asked_bytes", NUMBER, &p->persistence_asked, 0, WS_EXT4_MOST},
                                           {"place", TEXT, place, sizeof place, 0},
                                           {"from", TEXT, p->overlay_from, sizeof p->overlay_from, 0},
                                           {"from_sha256", TEXT, p->overlay_sha256, sizeof p->overlay_sha256, 0}};
    WS_GO(read_keys(persistence, "persistence", persistence_keys, 4, error));
    unsigned word = 0;
    WS_GO(read_word("persistence", "place", place, place_word, 3, &word, error));
    p->persistence_place = (enum ws_persistence_place)word;
    const struct key data_keys[] = {{"asked_bytes", LIST, &data_asked, 0, 0},
                                    {"label", TEXT, p->data_label, sizeof p->data_label, 0},
                                    {"cluster_bytes", NUMBER, &cluster, 0, 65536}};
    WS_GO(read_keys(data, "data", data_keys, 3, error));
    p->data_cluster = (uint32_t)cluster;
    WS_GO(read_asked(data_asked, &p->data_asked, error));
    const struct key swap_keys[] = {{"asked_bytes", NUMBER, &p->swap_asked, 0, 1ull << 42}};
    WS_GO(read_keys(swap, "swap", swap_keys, 1, error));
    WS_GO(read_start(start, p, error));
    WS_GO(plan_read_rules(rules, &p->rules, error));
    if (family[0]) WS_GO(ws_own_family_read(family, strlen(family), &p->own_family, error));
    p->made_at = (int64_t)made_at;
    p->drive_erase = (uint32_t)erase;
    p->drive_sector = (uint32_t)sector;
    if (sector < 512 || (sector & (sector - 1))) WS_GO(bad_key(error, "drive", "sector_bytes", "is not possible"));
    if (strcmp(kind, "live") != 0 && strcmp(kind, "replica") != 0)
        WS_GO(bad_key(error, "", "kind", "must be \"live\" or \"replica\""));
    p->kind = strcmp(kind, "live") == 0 ? WS_PLAN_LIVE : WS_PLAN_REPLICA;
    if (strcmp(arrangement, "whole") != 0 && strcmp(arrangement, "files") != 0)
        WS_GO(bad_key(error, "", "arrangement", "must be \"whole\" or \"files\""));
    if (strcmp(system, "fat32") != 0 && strcmp(system, "exfat") != 0)
        WS_GO(bad_key(error, "", "system_format", "must be \"fat32\" or \"exfat\""));
    p->system_exfat = strcmp(system, "exfat") == 0;
    p->arrangement = strcmp(arrangement, "files") == 0 ? WS_ARRANGE_FILES : WS_ARRANGE_WHOLE;
    if (!ws_guid_parse(id, &p->id)) WS_GO(bad_key(error, "", "id", "is not a GUID"));
    if (p->overlay_from[0] && !is_sha256(p->overlay_sha256))
        WS_GO(bad_key(error, "persistence", "from_sha256", "is not a SHA-256 checksum"));
    if (!is_sha256(p->image_sha256)) WS_GO(bad_key(error, "image", "sha256", "is not a SHA-256 checksum"));
    WS_GO(read_result(result, p, error));
    (void)json_object_del(root, checksum_key);
    if (!checksum_of(root, is)) WS_GO(ws_fail(error, WS_E_NOMEM, "out of memory for a plan"));
    if (strcmp(is, checksum) != 0)
        WS_GO(bad_key(error, "", checksum_key, "does not go with the rest of the document: it was edited"));
done:
    json_decref(root);
    if (status != WS_OK) ws_plan_free(p);
    return status;
}

void ws_plan_take_findings(struct ws_plan *plan, const struct ws_plan *read) {
    for (size_t i = 0; i < read->findings.count; i++) {
        const struct ws_finding *f = &read->findings.list[i];
        bool have = false;
        for (size_t k = 0; k < plan->findings.count; k++) have |= strcmp(plan->findings.list[k].text, f->text) == 0;
        if (!have) ws_findings_add(&plan->findings, f->weight, "%s", f->text);
    }
}

enum ws_status ws_plan_same_results(const struct ws_plan *a, const struct ws_plan *b, struct ws_error *error) {
    const struct {
        const char *key;
        uint64_t read, worked_out;
    } numbers[] = {
        {"image_end_bytes", a->image_end, b->image_end},
        {"persistence_at_bytes", a->persistence_at, b->persistence_at},
        {"persistence_size_bytes", a->persistence_size, b->persistence_size},
        {"persistence_partition", a->persistence_number, b->persistence_number},
        {"persistence_free_bytes", a->persistence_free, b->persistence_free},
        {"align_bytes", a->align, b->align},
        {"system_at_bytes", a->system_at, b->system_at},
        {"system_size_bytes", a->system_size, b->system_size},
        {"system_partition", a->system_number, b->system_number},
        {"system_free_bytes", a->system_free, b->system_free},
        {"start_at_bytes", a->start_at, b->start_at},
        {"start_size_bytes", a->start_size, b->start_size},
        {"start_partition", a->start_number, b->start_number},
        {"data_at_bytes", a->data_at, b->data_at},
        {"data_size_bytes", a->data_size, b->data_size},
        {"data_partition", a->data_number, b->data_number},
        {"data_free_bytes", a->data_free, b->data_free},
        {"swap_at_bytes", a->swap_at, b->swap_at},
        {"swap_size_bytes", a->swap_size, b->swap_size},
        {"swap_partition", a->swap_number, b->swap_number},
        {"write_bytes", a->bytes_written, b->bytes_written},
    };
    for (size_t i = 0; i < sizeof numbers / sizeof numbers[0]; i++)
        if (numbers[i].read != numbers[i].worked_out) {
            ws_fail(error, WS_E_FORMAT,
                    "the plan's \"result.%s\" is %" PRIu64 ", but from what it asks for follows %" PRIu64,
                    numbers[i].key, numbers[i].read, numbers[i].worked_out);
            return ws_fail_next(error, "it was edited by hand or the image has changed; make the plan again");
        }
    if (a->table != b->table) return bad_key(error, "result", "table", "does not follow from the image");
    if ((a->family == NULL) != (b->family == NULL) || (a->family && strcmp(a->family->word, b->family->word) != 0))
        return bad_key(error, "result", "live_family", "does not follow from the image");
    if (strcmp(a->fingerprint, b->fingerprint) != 0)
        return bad_key(error, "result", "layout_sha256", "does not follow from what the plan asks for");
    return WS_OK;
}
