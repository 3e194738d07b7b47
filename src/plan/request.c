/* request.c — a request's words and wishes, and its document. */
#include "plan/internal.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

enum { FORMAT_VERSION = 3 };
static const char format_name[] = "wild-satchel-request";

static const char *const kinds[] = {"usual",  "live",  "live-whole", "live-files", "replica",
                                    "system", "blank", "twin",       "renewal"};
static const char *const roles[] = {"drive", "system", "start", "persistence", "data", "swap", "boot"};
static const char *const places[] = {"usual", "partition", "file"};
static const char *const uses[] = {"image", "overlay"};
static const char *const codes[] = {"auto", "image", "own"};
static const char *const wishes[] = {"usual", "mbr", "gpt"};
static const char *const sizes[WS_SIZE_KINDS] = {"usual", "least", NULL, "rest", "none"};

const char *ws_kind_name(enum ws_kind kind) { return kinds[kind]; }
bool ws_kind_is_system(enum ws_kind kind) { return kind == WS_KIND_SYSTEM || kind == WS_KIND_RENEWAL; }
const char *ws_role_name(enum ws_role role) { return roles[role]; }
const char *ws_place_name(enum ws_place place) { return places[place]; }
const char *ws_input_name(enum ws_input_use use) { return uses[use]; }
const char *ws_uefi_code_name(enum ws_uefi_code code) { return codes[code]; }
const char *ws_table_wish_name(enum ws_table_wish wish) { return wishes[wish]; }

size_t ws_request_inputs(const struct ws_request *r) { return WS_INPUTS + r->additions; }
const struct ws_input *ws_request_input(const struct ws_request *r, size_t number) {
    return number < WS_INPUTS ? &r->input[number] : &r->addition[number - WS_INPUTS].file;
}

uint32_t ws_roles_in_use(enum ws_kind kind) {
    return 1u << WS_ROLE_PERSISTENCE | 1u << WS_ROLE_DATA | 1u << WS_ROLE_SWAP |
           (ws_kind_is_system(kind) || kind == WS_KIND_TWIN ? 1u << WS_ROLE_SYSTEM | 1u << WS_ROLE_BOOT : 0);
}

struct ws_size ws_size_of(uint64_t bytes) {
    return (struct ws_size){WS_SIZE_BYTES, bytes};
}

void ws_request_begin(struct ws_request *r, enum ws_kind kind) {
    memset(r, 0, sizeof *r);
    r->kind = kind;
    r->menu_seconds = WS_MENU_SECONDS_USUAL;
}

const struct ws_wanted *ws_request_wanted(const struct ws_request *r, enum ws_role role) {
    for (size_t i = 0; i < r->volumes; i++)
        if (r->volume[i].role == role) return &r->volume[i];
    return NULL;
}

struct ws_wanted *ws_request_want(struct ws_request *r, enum ws_role role) {
    for (size_t i = 0; i < r->volumes; i++)
        if (r->volume[i].role == role) return &r->volume[i];
    struct ws_wanted *w = &r->volume[r->volumes++]; /* there is room for each role */
    memset(w, 0, sizeof *w);
    w->role = role;
    return w;
}

/* "50%", "12.5%" or with a comma; hundredths of a percent. 0: it is none. */
static uint64_t read_part(const char *text) {
    uint64_t part = 0;
    const char *p = text;
    if (*p < '0' || *p > '9') return 0;
    for (; *p >= '0' && *p <= '9' && part <= 10000; p++) part = part * 10 + (uint64_t)(*p - '0');
    part *= 100;
    if (*p == '.' || *p == ',')
        for (uint64_t step = 10; *++p >= '0' && *p <= '9'; step /= 10) part += step * (uint64_t)(*p - '0');
    while (*p == ' ') p++;
    return strcmp(p, "%") == 0 && part <= 10000 ? part : 0;
}

enum ws_status ws_size_read(const char *text, struct ws_size *size, struct ws_error *error) {
    uint64_t bytes = 0;
    *size = (struct ws_size){strcmp(text, "rest") == 0 ? WS_SIZE_REST : WS_SIZE_NONE, 0};
    if (size->kind == WS_SIZE_REST || strcmp(text, "none") == 0) return WS_OK;
    if (strchr(text, '%')) {
        *size = (struct ws_size){WS_SIZE_PART, read_part(text)};
        if (size->bytes) return WS_OK;
        ws_fail(error, WS_E_USAGE, "\"%s\" is no part of a drive", text);
        return ws_fail_next(error, "write more than 0%% and at most 100%%: 50%%");
    }
    WS_TRY(ws_size_parse(text, &bytes, error));
    *size = ws_size_of(bytes);
    return WS_OK;
}

static json_t *pack_size(const void *field) {
    const struct ws_size *s = field;
    char part[16];
    (void)snprintf(part, sizeof part, "%u.%02u%%", (unsigned)(s->bytes / 100), (unsigned)(s->bytes % 100));
    if (s->kind == WS_SIZE_PART) return json_string(part);
    return s->kind == WS_SIZE_BYTES ? json_integer((json_int_t)s->bytes) : json_string(sizes[s->kind]);
}

static enum ws_status read_size(json_t *value, const char *key, void *field, struct ws_error *error) {
    struct ws_size *s = field;
    const char *word = json_string_value(value);
    s->bytes = 0;
    for (unsigned i = 0; word && i < WS_SIZE_KINDS; i++)
        if (sizes[i] && strcmp(word, sizes[i]) == 0) {
            s->kind = (enum ws_size_kind)i;
            return WS_OK;
        }
    if (word && read_part(word)) {
        *s = (struct ws_size){WS_SIZE_PART, read_part(word)};
        return WS_OK;
    }
    json_int_t n = json_integer_value(value);
    if (!json_is_integer(value) || n < 0 || n > (json_int_t)1 << 45)
        return rows_bad(
            error, key, "",
            "must be a possible number of bytes, a part like \"50%\", \"usual\", \"least\", \"rest\" or \"none\"");
    *s = ws_size_of((uint64_t)n);
    return WS_OK;
}

static json_t *pack_rules(const void *field) { return plan_rules_json(field); }
static enum ws_status read_rules(json_t *value, const char *key, void *field, struct ws_error *error) {
    (void)key;
    return plan_read_rules(value, field, error);
}

static enum ws_status read_family(json_t *value, const char *key, void *field, struct ws_error *error) {
    const char *text = json_string_value(value);
    if (!text || json_string_length(value) >= WS_FAMILY_TEXT) return rows_bad(error, key, "", "is no description");
    memcpy(field, text, strlen(text) + 1);
    if (!text[0]) return WS_OK;
    struct ws_own_family *own = malloc(sizeof *own);
    if (!own) return ws_fail(error, WS_E_NOMEM, "out of memory for a family");
    enum ws_status status = ws_own_family_read(text, strlen(text), own, error);
    free(own);
    return status;
}
static json_t *pack_family(const void *field) { return json_string(field); }

static const char *kind_word(unsigned i) { return kinds[i]; }
static const char *role_word(unsigned i) { return roles[i]; }
static const char *place_word(unsigned i) { return places[i]; }
static const char *code_word(unsigned i) { return codes[i]; }
static const char *wish_word(unsigned i) { return wishes[i]; }
static const char *check_word(unsigned i) { return ws_check_name((enum ws_check_at_start)i); }

static const struct row input_rows[] = {
    {"path", ROW_TEXT, ROW_FIELD(struct ws_input, path)},
    {"size_bytes", ROW_NUMBER, ROW_FIELD(struct ws_input, size), .most = INT64_MAX},
    {"sha256", ROW_SHA256, ROW_FIELD(struct ws_input, sha256)},
    {"pieces_sha256", ROW_SHA256, ROW_FIELD(struct ws_input, pieces_sha256)},
    {"outline", ROW_TEXT, ROW_FIELD(struct ws_input, outline)},
    {"touched_at", ROW_NUMBER, ROW_FIELD(struct ws_input, touched_at), .most = 1ull << 44},
    {"is_drive", ROW_BOOL, ROW_FIELD(struct ws_input, is_drive)},
    {"of_files", ROW_BOOL, ROW_FIELD(struct ws_input, of_files)},
};
static const struct row wanted_rows[] = {
    {"role", ROW_WORD, ROW_FIELD(struct ws_wanted, role), .word = role_word, .words = WS_ROLES},
    {"size", ROW_CALL, ROW_FIELD(struct ws_wanted, size), .pack = pack_size, .read = read_size},
    {"format", ROW_TEXT, ROW_FIELD(struct ws_wanted, format)},
    {"cluster_bytes", ROW_NUMBER, ROW_FIELD(struct ws_wanted, cluster), .most = 32u << 20},
    {"label", ROW_TEXT, ROW_FIELD(struct ws_wanted, label)},
    {"place", ROW_WORD, ROW_FIELD(struct ws_wanted, place), .word = place_word, .words = WS_PLACES},
    {"locked", ROW_BOOL, ROW_FIELD(struct ws_wanted, locked)},
    {"grows", ROW_BOOL, ROW_FIELD(struct ws_wanted, grows)},
};
static const struct row start_rows[] = {
    {"table", ROW_WORD, ROW_FIELD(struct ws_request, table), .word = wish_word, .words = WS_TABLE_WISHES},
    {"uefi_code", ROW_WORD, ROW_FIELD(struct ws_request, uefi_code), .word = code_word, .words = WS_UEFI_CODES},
    {"check", ROW_WORD, ROW_FIELD(struct ws_request, check), .word = check_word, .words = WS_CHECK_FULL + 1},
    {"kernel_options", ROW_TEXT, ROW_FIELD(struct ws_request, kernel_options)},
    {"journal", ROW_BOOL, ROW_FIELD(struct ws_request, start_journal)},
    {"menu_seconds", ROW_NUMBER, ROW_FIELD(struct ws_request, menu_seconds), .most = WS_MENU_SECONDS_MOST},
};
static const char *login_word(unsigned i) { return ws_login_name((enum ws_login)i); }
static const char *clock_word(unsigned i) { return ws_clock_name((enum ws_clock)i); }
static const char *disks_word(unsigned i) { return ws_internal_disks_name((enum ws_internal_disks)i); }
static const char *writes_word(unsigned i) { return ws_writes_name((enum ws_writes)i); }
static const struct row account_rows[] = {
    {"name", ROW_TEXT, ROW_FIELD(struct ws_account, name)},
    {"full_name", ROW_TEXT, ROW_FIELD(struct ws_account, full_name)},
    {"administers", ROW_BOOL, ROW_FIELD(struct ws_account, administers)},
};
static const struct row owner_rows[] = {
    {"host_name", ROW_TEXT, ROW_FIELD(struct ws_owner, host_name)},
    {"accounts", ROW_LIST, ROW_FIELD(struct ws_owner, account), .rows = account_rows, .count = ROW_COUNT(account_rows),
     .each = sizeof(struct ws_account), .number_at = offsetof(struct ws_owner, accounts), .most = WS_ACCOUNTS_MOST},
    {"login", ROW_WORD, ROW_FIELD(struct ws_owner, login), .word = login_word, .words = WS_LOGINS},
    {"locale", ROW_TEXT, ROW_FIELD(struct ws_owner, locale)},
    {"keyboard", ROW_TEXT, ROW_FIELD(struct ws_owner, keyboard)},
    {"time_zone", ROW_TEXT, ROW_FIELD(struct ws_owner, time_zone)},
    {"clock", ROW_WORD, ROW_FIELD(struct ws_owner, clock), .word = clock_word, .words = WS_CLOCKS},
    {"internal_disks", ROW_WORD, ROW_FIELD(struct ws_owner, internal_disks), .word = disks_word, .words = WS_INTERNALS},
    {"writes", ROW_WORD, ROW_FIELD(struct ws_owner, writes), .word = writes_word, .words = WS_WRITES},
    {"reports", ROW_BOOL, ROW_FIELD(struct ws_owner, reports)},
};
static const char *added_word(unsigned i) { return ws_added_name((enum ws_added)i); }
static const struct row addition_rows[] = {
    {"what", ROW_WORD, ROW_FIELD(struct ws_addition, what), .word = added_word, .words = WS_ADDEDS},
    {"to", ROW_TEXT, ROW_FIELD(struct ws_addition, to)},
    {"runs", ROW_BOOL, ROW_FIELD(struct ws_addition, runs)},
    {"file", ROW_OBJECT, ROW_FIELD(struct ws_addition, file), .rows = input_rows, .count = ROW_COUNT(input_rows)},
};
static json_t *pack_leave(const void *field) {
    json_t *list = json_array();
    for (unsigned i = 0; i < WS_LEAVES; i++)
        if (*(const uint32_t *)field >> i & 1)
            json_array_append_new(list, json_string(ws_leave_name((enum ws_leave)i)));
    return list;
}

static enum ws_status read_leave(json_t *list, const char *key, void *field, struct ws_error *error) {
    size_t i;
    json_t *one;
    *(uint32_t *)field = 0;
    if (!json_is_array(list)) return rows_bad(error, key, "", "must be a list");
    json_array_foreach(list, i, one) {
        unsigned k = 0;
        while (k < WS_LEAVES &&
               (!json_is_string(one) || strcmp(json_string_value(one), ws_leave_name((enum ws_leave)k)) != 0))
            k++;
        if (k == WS_LEAVES) return rows_bad(error, key, "", "lists what is no kind of things that can be left out");
        *(uint32_t *)field |= 1u << k;
    }
    return WS_OK;
}

static const struct row twin_rows[] = {
    {"leave_out", ROW_CALL, ROW_FIELD(struct ws_twin_wishes, leave_out), .pack = pack_leave, .read = read_leave},
    {"same_identity", ROW_BOOL, ROW_FIELD(struct ws_twin_wishes, same_identity)},
    {"refresh", ROW_BOOL, ROW_FIELD(struct ws_twin_wishes, refresh)},
    {"new_host", ROW_BOOL, ROW_FIELD(struct ws_twin_wishes, new_host)},
};
static const struct row keep_rows[] = {{"path", ROW_TEXT, ROW_FIELD(struct ws_keep_place, path)}};
const struct row plan_request_rows[PLAN_REQUEST_ROWS] = {
    {"kind", ROW_WORD, ROW_FIELD(struct ws_request, kind), .word = kind_word, .words = WS_KINDS},
    {"image", ROW_OBJECT, ROW_FIELD(struct ws_request, input[WS_INPUT_IMAGE]), .rows = input_rows,
     .count = ROW_COUNT(input_rows)},
    {"overlay", ROW_OBJECT, ROW_FIELD(struct ws_request, input[WS_INPUT_OVERLAY]), .rows = input_rows,
     .count = ROW_COUNT(input_rows)},
    {"volumes", ROW_LIST, ROW_FIELD(struct ws_request, volume), .rows = wanted_rows, .count = ROW_COUNT(wanted_rows),
     .each = sizeof(struct ws_wanted), .number_at = offsetof(struct ws_request, volumes), .most = WS_WANTED_MOST},
    {"start", ROW_OBJECT, .at = 0, .size = sizeof(struct ws_request), .rows = start_rows,
     .count = ROW_COUNT(start_rows)},
    {"edition", ROW_TEXT, ROW_FIELD(struct ws_request, edition)},
    {"owner", ROW_OBJECT, ROW_FIELD(struct ws_request, owner), .rows = owner_rows, .count = ROW_COUNT(owner_rows)},
    {"additions", ROW_LIST, ROW_FIELD(struct ws_request, addition), .rows = addition_rows,
     .count = ROW_COUNT(addition_rows), .each = sizeof(struct ws_addition),
     .number_at = offsetof(struct ws_request, additions), .most = WS_ADDED_MOST},
    {"keep", ROW_LIST, ROW_FIELD(struct ws_request, keep), .rows = keep_rows, .count = ROW_COUNT(keep_rows),
     .each = sizeof(struct ws_keep_place), .number_at = offsetof(struct ws_request, keeps), .most = WS_KEEPS_MOST},
    {"twin", ROW_OBJECT, ROW_FIELD(struct ws_request, twin), .rows = twin_rows, .count = ROW_COUNT(twin_rows)},
    {"rules", ROW_CALL, ROW_FIELD(struct ws_request, rules), .pack = pack_rules, .read = read_rules},
    {"family", ROW_CALL, ROW_FIELD(struct ws_request, family), .pack = pack_family, .read = read_family},
};

enum ws_status plan_check_request(const struct ws_request *r, struct ws_error *error) {
    for (size_t i = 0; i < r->volumes; i++) {
        if (r->volume[i].role == WS_ROLE_DRIVE) return rows_bad(error, "volumes", "role", "names no volume");
        if (ws_request_wanted(r, r->volume[i].role) != &r->volume[i])
            return rows_bad(error, "volumes", "role", "names the same twice");
    }
    for (size_t i = 0; i < ws_request_inputs(r); i++)
        if (ws_request_input(r, i)->path[0] ? !ws_request_input(r, i)->sha256[0] : i >= WS_INPUTS)
            return rows_bad(error, i < WS_INPUTS ? uses[i] : "additions", "sha256", "is not a SHA-256 checksum");
    return WS_OK;
}

enum ws_status plan_check_path(const char *path, struct ws_error *error) {
    json_t *text = json_string(path);
    bool good = text != NULL;
    json_decref(text);
    if (good) return WS_OK;
    ws_fail(error, WS_E_UNSUPPORTED, "a document cannot hold this path: it is not UTF-8");
    ws_fail_where(error, "%s", path);
    return ws_fail_next(error, "rename it");
}

enum ws_status ws_request_to_json(const struct ws_request *r, struct ws_text *out, struct ws_error *error) {
    for (size_t i = 0; i < ws_request_inputs(r); i++) WS_TRY(plan_check_path(ws_request_input(r, i)->path, error));
    json_t *request = rows_pack(plan_request_rows, PLAN_REQUEST_ROWS, r);
    json_t *root = json_pack("{s:s, s:i}", "format", format_name, "version", (int)FORMAT_VERSION);
    if (root && (!request || json_object_update(root, request) != 0)) {
        json_decref(root);
        root = NULL;
    }
    json_decref(request);
    return doc_finish(root, out, error);
}

enum ws_status ws_request_from_json(const char *text, size_t length, struct ws_request *r, struct ws_error *error) {
    struct ws_error own;
    if (!error) error = &own;
    memset(r, 0, sizeof *r);
    json_t *root = doc_parse(text, length, format_name, FORMAT_VERSION, WS_HINT_PLAN_AGAIN, error);
    if (!root) return error->status;
    (void)json_object_del(root, "format");
    (void)json_object_del(root, "version");
    enum ws_status status = rows_read(root, "", plan_request_rows, PLAN_REQUEST_ROWS, r, error);
    if (status == WS_OK) status = plan_check_request(r, error);
    json_decref(root);
    return status;
}

bool ws_request_locks(const struct ws_request *r) {
    for (size_t i = 0; i < r->volumes; i++)
        if (r->volume[i].locked) return true;
    return false;
}

bool ws_request_by_state(const struct ws_request *r) {
    return r->kind == WS_KIND_TWIN || (r->kind == WS_KIND_REPLICA && r->input[WS_INPUT_IMAGE].is_drive);
}
