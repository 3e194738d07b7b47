/* recipes.c — the kinds of drives, one row each: the only place that says what goes with what. */
#include "assemble/internal.h"

#include "wild_satchel/contents.h"

#include <stdlib.h>
#include <string.h>

#define VOLUME(role) (1u << (role))
enum {
    OWN_TABLE = 1,
    OWN_CODE = 2,
    RULES = 4,
    OWNER = 8,
    CHECK = 16,
    ROOT = 32,
    KEEP = 64,
    MENU = 128,
    OPTIONS = 256,
    TWIN = 512,
    JOURNAL = 1024
}; /* what else may be asked for */

static const struct build_recipe recipes[] = {
    {WS_KIND_LIVE_WHOLE, true, JOURNAL, VOLUME(WS_ROLE_PERSISTENCE) | VOLUME(WS_ROLE_DATA) | VOLUME(WS_ROLE_SWAP),
     "an image laid down whole stays as it is", build_prepare_whole},
    {WS_KIND_LIVE_FILES, true, OWN_TABLE | OWN_CODE | MENU | CHECK | RULES | JOURNAL,
     VOLUME(WS_ROLE_SYSTEM) | VOLUME(WS_ROLE_PERSISTENCE) | VOLUME(WS_ROLE_DATA) | VOLUME(WS_ROLE_SWAP),
     "files of a medium bring their menus", build_prepare_files},
    {WS_KIND_REPLICA, true, 0, 0, "a replica is the image byte for byte", build_prepare_replica},
    {WS_KIND_SYSTEM, true, OWN_TABLE | OWN_CODE | MENU | OWNER | ROOT | OPTIONS | JOURNAL,
     VOLUME(WS_ROLE_SYSTEM) | VOLUME(WS_ROLE_DATA) | VOLUME(WS_ROLE_SWAP), "a full system starts by our code alone",
     build_prepare_system},
    {WS_KIND_RENEWAL, true, OWN_CODE | MENU | ROOT | OPTIONS | KEEP | JOURNAL, 0,
     "a renewal leaves the drive's volumes as they are", build_prepare_renewal},
    {WS_KIND_TWIN, true, OWN_TABLE | OWN_CODE | MENU | OPTIONS | TWIN,
     VOLUME(WS_ROLE_SYSTEM) | VOLUME(WS_ROLE_PERSISTENCE) | VOLUME(WS_ROLE_DATA) | VOLUME(WS_ROLE_SWAP),
     "a twin holds what its original does", build_prepare_twin},
    {WS_KIND_BLANK, false, 0, VOLUME(WS_ROLE_DATA), "an ordinary drive has one volume", build_prepare_blank},
};

const struct build_recipe *build_recipe(enum ws_kind kind) {
    for (size_t i = 0; i < sizeof recipes / sizeof recipes[0]; i++)
        if (recipes[i].kind == kind) return &recipes[i];
    return NULL;
}

/* What a request asks for, where it does not go with a recipe. */
static enum ws_status refuse(const struct build_recipe *recipe, const char *what, struct ws_error *error) {
    ws_fail(error, WS_E_USAGE, "%s: %s", recipe->only, what);
    return ws_fail_next(error, "leave that out, or plan another kind of drive");
}

static enum ws_status goes_with_files(const struct build_recipe *recipe, const char *what, struct ws_error *error) {
    ws_fail(error, WS_E_USAGE, "%s: %s with files", recipe->only, what);
    return ws_fail_hint(error, WS_HINT_KIND, ws_kind_name(WS_KIND_LIVE_FILES), "leave that out, or lay the files down");
}

/* All that is asked for besides volumes and inputs. */
static enum ws_status check_others(const struct build_recipe *recipe, const struct ws_request *r,
                                   struct ws_error *error) {
    const struct {
        unsigned goes;
        bool asked, files;
        const char *what;
    } others[] = {
        {RULES, r->family[0] != '\0', true, "a family of your own goes"},
        {RULES, ws_rules_any(&r->rules), true, "rules go"},
        {OWN_TABLE, r->table != WS_TABLE_USUAL, true, "a table of ours goes"},
        {MENU, r->menu_seconds != WS_MENU_SECONDS_USUAL, true, "start-up code of ours goes"},
        {OWN_CODE, r->uefi_code != WS_UEFI_CODE_AUTO, true, "a choice of start-up code goes"},
        {CHECK, r->check != WS_CHECK_OFF, true, "checks by our start-up code go"},
        {JOURNAL, r->start_journal, false, "a start journal goes with a system that remembers"},
        {OPTIONS, r->kernel_options[0] != '\0', false, "parameters for its kernel go with a full system"},
        {ROOT, r->edition[0] != '\0', false, "editions go with a full system"},
        {ROOT, r->additions > 0, false, "files of your own go with a full system"},
        {OWNER, ws_owner_any(&r->owner), false, "names, accounts and settings of an owner go with a full system"},
        {KEEP, r->keeps > 0, false, "places are kept by a renewal"},
        {TWIN, r->twin.same_identity || r->twin.new_host || r->twin.leave_out || r->twin.refresh, false,
         "identities are kept or renewed by a twin"},
    };
    for (size_t i = 0; i < sizeof others / sizeof others[0]; i++)
        if (others[i].asked && !(recipe->others & others[i].goes))
            return others[i].files ? goes_with_files(recipe, others[i].what, error)
                                   : refuse(recipe, others[i].what, error);
    if (ws_owner_check(&r->owner, error) != WS_OK) return ws_fail_where(error, "the request");
    for (size_t i = 0; i < r->additions; i++) {
        const struct ws_own_file file = build_own_file(&r->addition[i], NULL);
        if (ws_own_file_check(&file, &r->owner, error) != WS_OK)
            return ws_fail_where(error, "%s", r->addition[i].file.path);
    }
    for (size_t i = 0; i < r->keeps; i++) WS_TRY(ws_keep_place_check(&r->keep[i], error));
    if (ws_is_visible(r->kernel_options)) return WS_OK; /* a line of a menu: nothing else may follow it there */
    ws_fail(error, WS_E_USAGE, "parameters for a kernel are one line of text");
    return ws_fail_next(error, "leave out what cannot be seen");
}

enum ws_status build_check_wishes(const struct build_recipe *recipe, const struct ws_request *r,
                                  struct ws_error *error) {
    for (size_t i = 0; i < r->volumes; i++) {
        const struct ws_wanted *w = &r->volume[i];
        bool unsaid =
            w->size.kind == WS_SIZE_USUAL && !w->format[0] && !w->label[0] && !w->cluster && w->place == WS_PLACE_USUAL;
        bool its_own = w->role == (recipe->kind == WS_KIND_SYSTEM ? WS_ROLE_SYSTEM : WS_ROLE_PERSISTENCE);
        if (w->locked && (!its_own || !(recipe->volumes >> w->role & 1)))
            return refuse(recipe, "only a full system, or what a live one remembers, is locked", error);
        if (w->grows && (recipe->kind != WS_KIND_SYSTEM || w->role != WS_ROLE_SYSTEM))
            return refuse(recipe, "only a full system grows by itself", error);
        bool file = w->place == WS_PLACE_FILE;
        if (file && w->grows) return refuse(recipe, "a system grows in a partition of its own, not in a file", error);
        if (file && w->role != WS_ROLE_PERSISTENCE && (recipe->kind != WS_KIND_SYSTEM || w->role != WS_ROLE_SYSTEM))
            return refuse(recipe, "only a full system, or what a live one remembers, stands in a file", error);
        if (file && w->locked && w->role == WS_ROLE_SYSTEM)
            return refuse(recipe, "a locked system stands in a partition of its own, not in a file", error);
        if (recipe->volumes >> w->role & 1 || unsaid || w->size.kind == WS_SIZE_NONE) continue;
        switch (w->role) {
        case WS_ROLE_SYSTEM: return goes_with_files(recipe, "a volume for the system goes", error);
        case WS_ROLE_PERSISTENCE: return refuse(recipe, "it has no persistence", error);
        default: return refuse(recipe, "it has no other partitions", error);
        }
    }
    if (r->input[WS_INPUT_OVERLAY].path[0] && !(recipe->volumes >> WS_ROLE_PERSISTENCE & 1))
        return refuse(recipe, "it has no persistence", error);
    if (recipe->image != (r->input[WS_INPUT_IMAGE].path[0] != '\0'))
        return ws_fail(error, WS_E_USAGE,
                       recipe->image ? "this kind of drive is made from an image, and none is given"
                                     : "an ordinary drive is made from no image");
    return check_others(recipe, r, error);
}

/* Whatever was given as an image is laid down as it is; what nobody could read there afterwards is said. */
static enum ws_status look_for_sense(struct ws_build *b, struct ws_error *error) {
    struct ws_contents *c = malloc(sizeof *c);
    if (!c) return ws_fail(error, WS_E_NOMEM, "out of memory for an image's contents");
    enum ws_status status = WS_OK;
    bool sense = false;
    uint8_t first[512] = {0};
    if (b->image.source->size >= sizeof first) {
        status = ws_contents_look(b->image.source, 512, false, c, error);
        if (status == WS_OK) status = ws_source_read(b->image.source, 0, first, sizeof first, error);
        sense = status == WS_OK &&
                (c->table != WS_TABLE_NONE || b->image.iso || (first[510] == 0x55 && first[511] == 0xaa) ||
                 (strcmp(c->part[0].system, "unknown") != 0 && !c->blank));
    }
    free(c);
    if (status == WS_OK && !sense)
        ws_findings_add(
            &b->plan->findings, WS_FAULT,
            "this is no image of a drive or a disc: it has no partition table, no file system known here and "
            "no start-up code");
    return status;
}

enum ws_status build_prepare_replica(struct ws_build *b, struct ws_error *error) {
    enum { SEAL_BYTES = 4096 };
    struct ws_plan *p = b->plan;
    uint64_t size = b->image.source->size;
    uint64_t seal = ws_min_u64(SEAL_BYTES, size);
    p->facts.image_end = size;
    if (size > p->drive.size) return build_does_not_fit(error, p, size);
    (void)ws_layout_part(b->layout, WS_ROLE_SYSTEM);
    WS_TRY(ws_layout_add(b->layout, 0, seal, b->patched, 0, WS_PHASE_SEAL, error));
    WS_TRY(ws_layout_add(b->layout, seal, size - seal, b->patched, seal, WS_PHASE_BODY, error));
    p->facts.table = b->image.table.kind;
    if (b->image.table.kind >= WS_TABLE_GPT && size != p->drive.size)
        ws_findings_add(&p->findings, WS_NOTE,
                        "a replica keeps the image's own table: its backup stands at the image's "
                        "end, not the drive's");
    build_list_parts(b);
    return look_for_sense(b, error);
}

enum ws_status build_prepare_blank(struct ws_build *b, struct ws_error *error) {
    const uint64_t mbr_most = 2ull << 40;
    struct ws_plan *p = b->plan;
    struct ws_size size = build_wanted_size(p, WS_ROLE_DATA);
    struct build_need need = {.role = WS_ROLE_DATA, .granule = PAGE, .name = ""};
    WS_TRY(build_check_sector(p->drive.sector, p->drive.name, error));
    WS_TRY(build_format(p, WS_ROLE_DATA, &need.format, error));
    need.size = size.kind == WS_SIZE_BYTES ? size : (struct ws_size){WS_SIZE_REST, 0};
    need.type = need.format->type;
    need.most = UINT64_MAX;
    uint64_t least = need.format->least(p->drive.sector, 0);
    if (p->drive.size < least)
        return ws_fail(error, WS_E_SPACE, "a drive under %u MiB is too small for a volume, with sectors of %u bytes",
                       (unsigned)(least / MIB), p->drive.sector);
    need.least = ws_min_u64(least, p->drive.size - MIB) / PAGE * PAGE;
    if (p->drive.size - MIB > need.format->most) {
        ws_fail(error, WS_E_RANGE, "a FAT32 volume ends at 2 TiB");
        ws_fail_where(error, "%s", p->drive.name);
        return ws_fail_next(error, "ask for exFAT, which does not");
    }
    b->table = &b->image.table;
    p->facts.align = MIB;
    if (p->drive.size > mbr_most) ws_table_new_gpt(b->table, p->drive.size, p->drive.sector, &p->facts.id);
    else ws_table_new_mbr(b->table, p->drive.size, p->drive.sector, ws_load_le32(p->facts.id.byte + 4));
    WS_TRY(build_place_volumes(b, &need, 1, MIB, error));
    p->facts.table = b->table->kind;
    WS_TRY(ws_table_compose(b->table, b->layout, error));
    WS_TRY(build_compose_volumes(b, error));
    build_list_parts(b);
    return WS_OK;
}
