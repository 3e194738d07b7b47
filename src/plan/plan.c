/* plan.c — a plan's parts handed out, and its document. */
#include "plan/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { FORMAT_VERSION = 4 };
static const char format_name[] = "wild-satchel-plan";
static const char checksum_key[] = "document_sha256";

enum ws_status ws_plan_moved(struct ws_plan *p, const char *path, struct ws_error *error) {
    struct ws_input *image = &p->request.input[WS_INPUT_IMAGE];
    if (!image->path[0]) return ws_fail(error, WS_E_USAGE, "this plan is made from no image");
    if (strlen(path) >= sizeof image->path)
        return ws_fail(error, WS_E_RANGE, "a plan keeps paths of at most %zu bytes", sizeof image->path - 1);
    (void)snprintf(image->path, sizeof image->path, "%s", path);
    image->touched_at = image->is_drive ? 0 : -1; /* at no time that there is: it is looked at anew */
    return WS_OK;
}

void ws_plan_free(struct ws_plan *plan) {
    if (plan) ws_findings_free(&plan->findings);
    free(plan);
}

void ws_plan_drive_of(const struct ws_drive_facts *f, struct ws_plan_drive *d) {
    memset(d, 0, sizeof *d);
    (void)snprintf(d->name, sizeof d->name, "%s", f->short_name);
    (void)snprintf(d->model, sizeof d->model, "%s", f->model);
    (void)snprintf(d->serial, sizeof d->serial, "%s", f->serial);
    (void)snprintf(d->seen_at, sizeof d->seen_at, "%s", f->id);
    d->size = f->size;
    d->sector = f->logical_sector;
    d->erase = f->erase_unit;
}

const struct ws_request *ws_plan_request(const struct ws_plan *p) { return &p->request; }
const struct ws_plan_drive *ws_plan_drive(const struct ws_plan *p) { return &p->drive; }
const struct ws_plan_facts *ws_plan_facts(const struct ws_plan *p) { return &p->facts; }
const struct ws_live_family *ws_plan_family(const struct ws_plan *p) { return p->family; }
const struct ws_outlook *ws_plan_outlooks(const struct ws_plan *p) { return p->outlook; }
const struct ws_findings *ws_plan_findings(const struct ws_plan *p) { return &p->findings; }

const struct ws_volume *ws_plan_volumes(const struct ws_plan *p, size_t *count) {
    *count = p->volumes;
    return p->volume;
}
const struct ws_plan_edit *ws_plan_edits(const struct ws_plan *p, size_t *count) {
    *count = p->edits;
    return p->edit;
}
const struct ws_plan_part *ws_plan_parts(const struct ws_plan *p, size_t *count) {
    *count = p->parts;
    return p->part;
}
const struct ws_plan_choice *ws_plan_choices(const struct ws_plan *p, size_t *count) {
    *count = p->choices;
    return p->choice;
}

const struct ws_carried *ws_plan_carried(const struct ws_plan *p, size_t *count) {
    *count = p->carried.rows;
    return p->carried.row;
}

bool ws_plan_is_live(const struct ws_plan *p) {
    return p->facts.kind == WS_KIND_LIVE_WHOLE || p->facts.kind == WS_KIND_LIVE_FILES;
}

struct ws_volume *plan_volume(struct ws_plan *p, enum ws_role role) {
    for (size_t i = 0; i < p->volumes; i++)
        if (p->volume[i].role == role) return &p->volume[i];
    return NULL;
}

const struct ws_volume *ws_plan_volume(const struct ws_plan *p, enum ws_role role) {
    return plan_volume((struct ws_plan *)(uintptr_t)p, role);
}

struct ws_volume *plan_add_volume(struct ws_plan *p, enum ws_role role) {
    struct ws_volume *v = &p->volume[p->volumes++]; /* there is room for each role */
    memset(v, 0, sizeof *v);
    v->role = role;
    return v;
}

const struct ws_outlook *ws_plan_outlook(const struct ws_plan *plan, const struct ws_pc_facts *pc) {
    return &plan->outlook[pc->firmware == WS_FIRMWARE_BIOS ? 0 : pc->secure_boot ? 2 : 1];
}

static const char *kind_word(unsigned i) { return ws_kind_name((enum ws_kind)i); }
static const char *role_word(unsigned i) { return ws_role_name((enum ws_role)i); }
static const char *table_word(unsigned i) { return ws_table_kind_name((enum ws_table_kind)i); }
static const char *firmware_word(unsigned i) { return i == WS_FIRMWARE_UEFI ? "uefi" : "bios"; }

static json_t *pack_findings(const void *field) {
    const struct ws_findings *f = field;
    json_t *list = json_array();
    for (size_t i = 0; i < f->count; i++)
        json_array_append_new(
            list, json_pack("{s:s, s:s}", "weight", ws_weight_name(f->list[i].weight), "text", f->list[i].text));
    return list;
}

static enum ws_status read_findings(json_t *list, const char *key, void *field, struct ws_error *error) {
    size_t i;
    json_t *one;
    if (!json_is_array(list)) return rows_bad(error, key, "", "must be a list");
    json_array_foreach(list, i, one) {
        const char *word = json_string_value(json_object_get(one, "weight"));
        const char *text = json_string_value(json_object_get(one, "text"));
        int weight = WS_NOTE;
        while (word && weight <= WS_FAULT && strcmp(word, ws_weight_name((enum ws_weight)weight)) != 0) weight++;
        if (!word || !text || weight > WS_FAULT || json_object_size(one) != 2)
            return rows_bad(error, key, "", "must be a list of \"weight\" and \"text\"");
        ws_findings_add(field, (enum ws_weight)weight, "%s", text);
    }
    return WS_OK;
}

#define FIELD(member) ROW_FIELD(struct ws_plan, member)
#define LIST_OF(member, number, most_, rows_)                                                                          \
    ROW_FIELD(struct ws_plan, member), .rows = (rows_), .count = ROW_COUNT(rows_),                                     \
                                       .each = sizeof(((struct ws_plan *)0)->member[0]),                               \
                                       .number_at = offsetof(struct ws_plan, number), .most = (most_)

static const struct row drive_rows[] = {
    {"name", ROW_TEXT, ROW_FIELD(struct ws_plan_drive, name)},
    {"model", ROW_TEXT, ROW_FIELD(struct ws_plan_drive, model)},
    {"serial", ROW_TEXT, ROW_FIELD(struct ws_plan_drive, serial)},
    {"seen_at", ROW_TEXT, ROW_FIELD(struct ws_plan_drive, seen_at)},
    {"size_bytes", ROW_NUMBER, ROW_FIELD(struct ws_plan_drive, size), .most = INT64_MAX},
    {"sector_bytes", ROW_NUMBER, ROW_FIELD(struct ws_plan_drive, sector), .most = 4096},
    {"erase_bytes", ROW_NUMBER, ROW_FIELD(struct ws_plan_drive, erase), .most = 1 << 30},
};
static const struct row volume_rows[] = {
    {"role", ROW_WORD, ROW_FIELD(struct ws_volume, role), .word = role_word, .words = WS_ROLES},
    {"format", ROW_TEXT, ROW_FIELD(struct ws_volume, format)},
    {"of", ROW_NUMBER, ROW_FIELD(struct ws_volume, of), .most = 1024},
    {"partition", ROW_NUMBER, ROW_FIELD(struct ws_volume, number), .most = 1024},
    {"inside", ROW_WORD, ROW_FIELD(struct ws_volume, inside), .word = role_word, .words = WS_ROLES},
    {"at_bytes", ROW_NUMBER, ROW_FIELD(struct ws_volume, at), .most = INT64_MAX},
    {"size_bytes", ROW_NUMBER, ROW_FIELD(struct ws_volume, size), .most = INT64_MAX},
    {"free_bytes", ROW_NUMBER, ROW_FIELD(struct ws_volume, free_bytes), .most = INT64_MAX},
    {"cluster_bytes", ROW_NUMBER, ROW_FIELD(struct ws_volume, cluster), .most = 32u << 20},
    {"label", ROW_TEXT, ROW_FIELD(struct ws_volume, label)},
    {"locked", ROW_BOOL, ROW_FIELD(struct ws_volume, locked)},
};
static const struct row edit_rows[] = {
    {"path", ROW_TEXT, ROW_FIELD(struct ws_plan_edit, path)},
    {"change", ROW_TEXT, ROW_FIELD(struct ws_plan_edit, what), .told = true},
    {"moved_behind", ROW_BOOL, ROW_FIELD(struct ws_plan_edit, behind)},
};
static const struct row part_rows[] = {
    {"what", ROW_TEXT, ROW_FIELD(struct ws_plan_part, what), .told = true},
    {"label", ROW_TEXT, ROW_FIELD(struct ws_plan_part, label), .told = true},
    {"partition", ROW_NUMBER, ROW_FIELD(struct ws_plan_part, number), .most = 1024},
    {"at_bytes", ROW_NUMBER, ROW_FIELD(struct ws_plan_part, at), .most = INT64_MAX},
    {"size_bytes", ROW_NUMBER, ROW_FIELD(struct ws_plan_part, length), .most = INT64_MAX},
};
static const struct row choice_rows[] = {
    {"what", ROW_TEXT, ROW_FIELD(struct ws_plan_choice, what)},
    {"choice", ROW_TEXT, ROW_FIELD(struct ws_plan_choice, choice)},
    {"why", ROW_TEXT, ROW_FIELD(struct ws_plan_choice, why)},
};
static const char *fate_word(unsigned i) { return ws_fate_name((enum ws_fate)i); }
static const struct row carried_rows[] = {
    {"fate", ROW_WORD, ROW_FIELD(struct ws_carried, fate), .word = fate_word, .words = WS_FATES},
    {"path", ROW_TEXT, ROW_FIELD(struct ws_carried, path)},
    {"what", ROW_TEXT, ROW_FIELD(struct ws_carried, what), .told = true},
    {"files", ROW_NUMBER, ROW_FIELD(struct ws_carried, files), .most = INT64_MAX},
    {"bytes", ROW_NUMBER, ROW_FIELD(struct ws_carried, bytes), .most = INT64_MAX},
};
static const struct row outlook_rows[] = {
    {"firmware", ROW_WORD, ROW_FIELD(struct ws_outlook, firmware), .word = firmware_word, .words = 2},
    {"secure_boot", ROW_BOOL, ROW_FIELD(struct ws_outlook, secure_boot)},
    {"starts", ROW_BOOL, ROW_FIELD(struct ws_outlook, starts)},
    {"why", ROW_TEXT, ROW_FIELD(struct ws_outlook, why), .told = true},
};
static const struct row outlooks_rows[] = {
    {"bios", ROW_OBJECT, FIELD(outlook[0]), .rows = outlook_rows, .count = ROW_COUNT(outlook_rows)},
    {"uefi", ROW_OBJECT, FIELD(outlook[1]), .rows = outlook_rows, .count = ROW_COUNT(outlook_rows)},
    {"secure", ROW_OBJECT, FIELD(outlook[2]), .rows = outlook_rows, .count = ROW_COUNT(outlook_rows)},
};
static const struct row result_rows[] = {
    {"kind", ROW_WORD, FIELD(facts.kind), .word = kind_word, .words = WS_KINDS},
    {"image_title", ROW_TEXT, FIELD(facts.title)},
    {"live_family", ROW_TEXT, FIELD(facts.family)},
    {"table", ROW_WORD, FIELD(facts.table), .word = table_word, .words = WS_TABLE_MBR_FIRST + 1},
    {"align_bytes", ROW_NUMBER, FIELD(facts.align), .most = 1 << 30},
    {"image_end_bytes", ROW_NUMBER, FIELD(facts.image_end), .most = INT64_MAX},
    {"own_uefi", ROW_BOOL, FIELD(facts.own_uefi)},
    {"volumes", ROW_LIST, LIST_OF(volume, volumes, WS_VOLUMES_MOST, volume_rows)},
    {"write_bytes", ROW_NUMBER, FIELD(facts.write_bytes), .most = INT64_MAX},
    {"layout_sha256", ROW_SHA256, FIELD(facts.fingerprint)},
    {"was_sha256", ROW_SHA256, FIELD(facts.was)},
    {"carried", ROW_LIST, LIST_OF(carried.row, carried.rows, WS_CARRIED_MOST, carried_rows)},
    {"edits", ROW_LIST, LIST_OF(edit, edits, PLAN_EDITS_MOST, edit_rows)},
    {"parts", ROW_LIST, LIST_OF(part, parts, PLAN_PARTS_MOST, part_rows)},
    {"choices", ROW_LIST, LIST_OF(choice, choices, PLAN_CHOICES_MOST, choice_rows), .told = true},
    {"starts", ROW_OBJECT, .at = 0, .size = sizeof(struct ws_plan), .rows = outlooks_rows,
     .count = ROW_COUNT(outlooks_rows)},
    {"findings", ROW_CALL, FIELD(findings), .told = true, .pack = pack_findings, .read = read_findings},
};
static const struct row plan_rows[] = {
    {"id", ROW_GUID, FIELD(facts.id)},
    {"made_at", ROW_NUMBER, FIELD(facts.made_at), .most = 1ull << 34},
    {"drive", ROW_OBJECT, FIELD(drive), .rows = drive_rows, .count = ROW_COUNT(drive_rows)},
    {"request", ROW_OBJECT, FIELD(request), .rows = plan_request_rows, .count = PLAN_REQUEST_ROWS},
    {"result", ROW_OBJECT, .at = 0, .size = sizeof(struct ws_plan), .rows = result_rows,
     .count = ROW_COUNT(result_rows)},
};

/* Of all else in the document: keys sorted, no blanks. A plan is carried out as it was made and shown, or not at all.
 */
static bool checksum_of(json_t *root, char hex[WS_HASH_HEX]) {
    char *text = json_dumps(root, JSON_COMPACT | JSON_SORT_KEYS | JSON_ENSURE_ASCII);
    bool good = text && ws_hash_bytes(WS_HASH_SHA256, text, strlen(text), hex, NULL) == WS_OK;
    free(text);
    return good;
}

enum ws_status ws_plan_to_json(const struct ws_plan *p, struct ws_text *out, struct ws_error *error) {
    char checksum[WS_HASH_HEX];
    for (size_t i = 0; i < ws_request_inputs(&p->request); i++)
        WS_TRY(plan_check_path(ws_request_input(&p->request, i)->path, error));
    WS_TRY(plan_check_path(p->drive.seen_at, error));
    json_t *root = json_pack("{s:s, s:i}", "format", format_name, "version", (int)FORMAT_VERSION);
    json_t *rows = rows_pack(plan_rows, ROW_COUNT(plan_rows), p);
    if (root && (!rows || json_object_update(root, rows) != 0 || !checksum_of(root, checksum) ||
                 json_object_set_new(root, checksum_key, json_string(checksum)) != 0)) {
        json_decref(root);
        root = NULL;
    }
    json_decref(rows);
    return doc_finish(root, out, error);
}

static enum ws_status read_plan(json_t *root, struct ws_plan *p, struct ws_error *error) {
    char checksum[WS_HASH_HEX] = "", is[WS_HASH_HEX];
    const char *said = json_string_value(json_object_get(root, checksum_key));
    if (!said || strlen(said) != 64) return rows_bad(error, "", checksum_key, "is missing");
    memcpy(checksum, said, 65);
    (void)json_object_del(root, checksum_key);
    if (!checksum_of(root, is)) return ws_fail(error, WS_E_NOMEM, "out of memory for a plan");
    (void)json_object_del(root, "format");
    (void)json_object_del(root, "version");
    WS_TRY(rows_read(root, "", plan_rows, ROW_COUNT(plan_rows), p, error));
    WS_TRY(plan_check_request(&p->request, error));
    if (p->drive.sector < 512 || (p->drive.sector & (p->drive.sector - 1)))
        return rows_bad(error, "drive", "sector_bytes", "is not possible");
    if (p->request.family[0])
        WS_TRY(ws_own_family_read(p->request.family, strlen(p->request.family), &p->own_family, error));
    bool own = p->request.family[0] && strcmp(p->facts.family, p->own_family.family.word) == 0;
    p->family = own ? &p->own_family.family : p->facts.family[0] ? ws_live_family_find(p->facts.family) : NULL;
    if (p->facts.family[0] && !p->family)
        return rows_bad(error, "result", "live_family", "names a family not known here");
    if (strcmp(is, checksum) != 0)
        return rows_bad(error, "", checksum_key, "does not go with the rest of the document: it was edited");
    return WS_OK;
}

enum ws_status ws_plan_from_json(const char *text, size_t length, struct ws_plan **plan, struct ws_error *error) {
    struct ws_error own;
    if (!error) error = &own;
    json_t *root = doc_parse(text, length, format_name, FORMAT_VERSION, WS_HINT_PLAN_AGAIN, error);
    if (!root) return error->status;
    struct ws_plan *p = calloc(1, sizeof *p);
    enum ws_status status = p ? read_plan(root, p, error) : ws_fail(error, WS_E_NOMEM, "out of memory for a plan");
    json_decref(root);
    if (status == WS_OK) *plan = p;
    else ws_plan_free(p);
    return status;
}

enum ws_status ws_plan_same_results(const struct ws_plan *read, const struct ws_plan *worked_out,
                                    struct ws_error *error) {
    return rows_compare("result", result_rows, ROW_COUNT(result_rows), read, worked_out, error);
}
