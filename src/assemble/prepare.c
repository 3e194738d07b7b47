/* prepare.c — a request decided for one drive: its recipe chosen and followed, its layout sealed and named. */
#include "assemble/batch.h"
#include "assemble/twin.h"

#include "wild_satchel/sizing.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* An input must be the one that was asked for; what its request does not say of it is found out. */
static enum ws_status take_input(struct ws_input *input, const char *what, const struct ws_source *source, bool measure,
                                 bool twin, struct ws_error *error) {
    if (!source) {
        if (input->path[0] && twin) return WS_OK; /* it runs */
        if (input->path[0]) {
            ws_fail(error, WS_E_USAGE, "an input is named and not given");
            return ws_fail_where(error, "%s", input->path);
        }
        memset(input, 0, sizeof *input); /* whatever else was said of it */
        return WS_OK;
    }
    if (!input->path[0]) (void)strcpy(input->path, "-"); /* it has no name */
    if (input->size && input->size != source->size) {
        ws_fail(error, WS_E_FORMAT, "the %s has %llu bytes, planned were %llu: it is not the same file any more", what,
                (unsigned long long)source->size, (unsigned long long)input->size);
        ws_fail_where(error, "%s", input->path);
        return ws_fail_hint(error, WS_HINT_PLAN_AGAIN, "", "make the plan again");
    }
    input->size = source->size;
    if (input->sha256[0] || measure || twin) return WS_OK;
    return ws_source_hash(source, WS_HASH_SHA256, input->sha256, error);
}

static enum ws_status look_at_image(struct ws_build *b, const struct ws_source *image, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    if (!image) return WS_OK;
    b->image.source = image;
    if (p->request.kind == WS_KIND_TWIN) return WS_OK; /* its volumes are looked at one by one */
    WS_TRY(ws_image_inspect(image, &b->image, error));
    const char *volume = b->image.iso ? ws_iso_facts(b->image.iso)->volume_id : "";
    const char *word = ws_request_by_state(&p->request) ? p->request.input[WS_INPUT_IMAGE].path : "image";
    ws_visible(volume[0] ? volume : word, p->facts.title, sizeof p->facts.title);
    p->family = ws_kind_is_system(p->request.kind) ? NULL : b->image.family; /* a full system forgets nothing */
    return WS_OK;
}

static enum ws_status take_family(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    if (p->request.family[0]) {
        WS_TRY(ws_own_family_read(p->request.family, strlen(p->request.family), &p->own_family, error));
        p->family = &p->own_family.family;
    }
    if (!p->family) return WS_OK;
    if (strlen(p->family->word) >= sizeof p->facts.family)
        return ws_fail(error, WS_E_FORMAT, "the family's word is longer than %zu bytes", sizeof p->facts.family - 1);
    (void)strcpy(p->facts.family, p->family->word);
    return WS_OK;
}

/* A disc image, and what was made of a folder or archive, starts from a drive only file by file. */
static void choose_kind(struct ws_build *b, char why[200]) {
    struct ws_plan *p = b->plan;
    bool described = p->request.family[0] != '\0';
    bool disc = b->image.kind == WS_IMAGE_DISC || described;
    enum ws_kind kind = p->request.kind;
    if (kind == WS_KIND_USUAL && (described || p->request.input[WS_INPUT_IMAGE].of_files)) kind = WS_KIND_LIVE;
    if (kind == WS_KIND_USUAL) kind = ws_plan_choose_kind(&b->image, why, 200);
    if (kind == WS_KIND_LIVE) kind = disc ? WS_KIND_LIVE_FILES : WS_KIND_LIVE_WHOLE;
    p->facts.kind = kind;
}

static void carry_findings(struct ws_build *b) {
    const struct ws_findings *found[] = {&b->image.findings, &b->image.findings_whole};
    size_t lists = ws_kind_is_system(b->plan->facts.kind)      ? 0 /* of the image only a root is taken */
                   : b->plan->facts.kind == WS_KIND_LIVE_FILES ? 1
                                                               : 2;
    for (size_t k = 0; k < lists; k++)
        for (size_t i = 0; i < found[k]->count; i++)
            ws_findings_add(&b->plan->findings, found[k]->list[i].weight, "%s", found[k]->list[i].text);
}

static enum ws_status follow_recipe(struct ws_build *b, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    char why[200] = "";
    choose_kind(b, why);
    const struct build_recipe *recipe = build_recipe(p->facts.kind);
    enum ws_status status = build_check_wishes(recipe, &p->request, error);
    if (status != WS_OK && why[0]) ws_fail_next(error, "it would be a %s because %s", ws_kind_name(p->facts.kind), why);
    WS_TRY(status);
    if (recipe->image && recipe->kind != WS_KIND_TWIN) plan_look_out(p, &b->image);
    else plan_look_out(p, NULL);
    if (why[0]) plan_chose(p, "kind", recipe->kind == WS_KIND_REPLICA ? "replica" : "live", "%s", why);
    return recipe->prepare(b, error);
}

static enum ws_status name_layout(struct ws_build *b, const struct ws_build_setting *setting, struct ws_error *error) {
    struct ws_plan *p = b->plan;
    struct ws_known_input known[2 * WS_INPUTS_MOST];
    size_t count = 0;
    WS_TRY(ws_layout_seal(b->layout, error));
    if (build_is_change(p)) WS_TRY(build_place_log(b, error));
    p->facts.write_bytes = ws_layout_bytes(b->layout);
    for (size_t i = 0; i < ws_request_inputs(&p->request); i++) {
        const char *digest = ws_request_input(&p->request, i)->sha256;
        if (!setting->input[i]) continue;
        known[count++] = (struct ws_known_input){setting->input[i], digest};
        if (b->batch) known[count++] = (struct ws_known_input){batch_input(b->batch, i), digest};
    }
    if (b->twin && !b->twin->original.source)
        return ws_hash_bytes(WS_HASH_SHA256, &p->facts.id, sizeof p->facts.id, p->facts.fingerprint,
                             error); /* it changes as it is read */
    return b->measure ? WS_OK : ws_layout_fingerprint(b->layout, known, count, p->facts.fingerprint, error);
}

enum ws_status ws_build_setting_begin(struct ws_build_setting *s, struct ws_port *port,
                                      const struct ws_drive_facts *facts, struct ws_error *error) {
    memset(s, 0, sizeof *s);
    s->facts = facts;
    s->made_at = port->ops->wall_clock(port);
    ws_plan_drive_of(facts, &s->drive);
    WS_TRY(port->ops->random(port, s->id.byte, sizeof s->id.byte, error));
    ws_guid_from_random(&s->id);
    return WS_OK;
}

/* Two drives with the same identifiers take each other for themselves. */
static enum ws_status check_setting(const struct ws_build_setting *s, struct ws_error *error) {
    static const struct ws_guid none;
    if (s->measure || (memcmp(&s->id, &none, sizeof none) != 0 && s->made_at > 0)) return WS_OK;
    ws_fail(error, WS_E_USAGE, "a build needs an identifier of its own, and the time");
    return ws_fail_next(error, "begin its setting with what gives it both");
}

enum ws_status ws_build_prepare(const struct ws_request *request, const struct ws_build_setting *setting,
                                struct ws_build **out, struct ws_error *error) {
    const struct ws_source *image = setting->input[WS_INPUT_IMAGE];
    enum ws_status status;
    WS_TRY(check_setting(setting, error));
    struct ws_build *b = calloc(1, sizeof *b);
    struct ws_plan *p = calloc(1, sizeof *p);
    if (!b || !p) {
        free(b);
        free(p);
        return ws_fail(error, WS_E_NOMEM, "out of memory for a build");
    }
    b->plan = p;
    b->measure = setting->measure;
    b->now = setting->now;
    b->running = setting->original;
    b->compare = setting->compare;
    b->passphrase = setting->passphrase;
    b->beside = setting->beside;
    b->batch = setting->batch;
    b->number = setting->number;
    b->owner = request->owner;
    b->menu_seconds = request->menu_seconds;
    memcpy(b->kernel_options, request->kernel_options, sizeof request->kernel_options);
    b->overlay = setting->input[WS_INPUT_OVERLAY];
    memcpy(b->added, setting->input + WS_INPUTS, sizeof b->added);
    p->request = *request;
    p->drive = setting->drive;
    p->facts.id = setting->id;
    p->facts.made_at = setting->made_at;
    if (image && request->kind != WS_KIND_TWIN && ws_request_by_state(request) && !request->input[0].sha256[0])
        WS_GO(ws_source_state(image, p->request.input[WS_INPUT_IMAGE].sha256, error));
    for (size_t i = 0; i < ws_request_inputs(&p->request); i++)
        WS_GO(take_input(
            build_input(p, i), build_input_word(i), setting->input[i], setting->measure,
            i == WS_INPUT_IMAGE && request->kind == WS_KIND_TWIN && (setting->input[i] || setting->original), error));
    (void)strcpy(p->facts.title, "ordinary drive"); /* unless an image says more */
    WS_GO(look_at_image(b, image, error));
    WS_GO(take_family(b, error));
    const bool twin = request->kind == WS_KIND_TWIN; /* the original may be larger */
    uint64_t room = ws_max_u64(p->drive.size, image && !twin ? image->size : 0);
    if (image && !twin) WS_GO(ws_source_patched(image, room, &b->patched, error));
    WS_GO(ws_layout_create(room, &b->layout, error));
    WS_GO(follow_recipe(b, error));
    WS_GO(name_layout(b, setting, error));
    if (b->opened && !b->measure) WS_GO(ws_lock_take_key(b->lock, b->opened, error)); /* named as it is in clear */
    b->passphrase = NULL;
    carry_findings(b);
    const struct ws_volume *v = plan_volume(p, WS_ROLE_PERSISTENCE);
    ws_drive_warnings(setting->facts, setting->trial, p->drive.size, v ? v->size : 0, ws_kind_is_system(p->facts.kind),
                      &p->findings);
done:
    if (status == WS_OK) *out = b;
    else ws_build_close(b);
    return status;
}

/* What was found when a plan was made and cannot be found again from its inputs: what a trial said, for one. */
static void take_findings(struct ws_plan *plan, const struct ws_plan *read) {
    for (size_t i = 0; i < read->findings.count; i++) {
        const struct ws_finding *f = &read->findings.list[i];
        bool have = false;
        for (size_t k = 0; k < plan->findings.count; k++) have |= strcmp(plan->findings.list[k].text, f->text) == 0;
        if (!have) ws_findings_add(&plan->findings, f->weight, "%s", f->text);
    }
}

enum ws_status ws_build_again(const struct ws_plan *read, const struct ws_source *const input[WS_INPUTS_MOST],
                              const struct ws_source *now, const char *passphrase, struct ws_build **out,
                              struct ws_error *error) {
    struct ws_build_setting setting = {.drive = read->drive,
                                       .id = read->facts.id,
                                       .made_at = read->facts.made_at,
                                       .now = now,
                                       .passphrase = passphrase};
    struct ws_build *b = NULL;
    for (size_t i = 0; i < ws_request_inputs(&read->request); i++) setting.input[i] = input[i];
    WS_TRY(ws_build_prepare(&read->request, &setting, &b, error));
    enum ws_status status = ws_plan_same_results(read, b->plan, error);
    if (status == WS_E_FORMAT && build_is_change(read)) { /* the document and the inputs have digests */
        ws_fail(error, status,
                read->facts.kind == WS_KIND_TWIN
                    ? "the twin was used since the plan was made, or is up to date already"
                    : "the system on this drive was used since the plan was made, or is renewed already");
        ws_fail_hint(
            error, WS_HINT_PLAN_AGAIN, "",
            "a renewed drive is checked by its record; else make the plan again: it tells what is kept and lost now");
    }
    if (status == WS_OK) {
        take_findings(b->plan, read);
        *out = b;
    } else {
        ws_build_close(b);
    }
    return status;
}

const struct ws_plan *ws_build_plan(const struct ws_build *build) { return build->plan; }
const struct ws_layout *ws_build_layout(const struct ws_build *build) { return build->layout; }

void ws_build_close(struct ws_build *b) {
    if (!b) return;
    ws_layout_close(b->layout);
    build_close_renewal(b);
    ws_lock_close(b->lock);
    ws_source_close(b->open);
    ws_layout_close(b->open_layout);
    ws_tree_close(b->tree[WS_ROLE_BOOT]); /* borrows from the root */
    for (size_t i = 0; i < WS_ROLE_BOOT; i++) ws_tree_close(b->tree[i]);
    ws_root_close(&b->root);
    build_close_twin(b);
    ws_tree_close(b->was); /* the new root borrows from it */
    ws_source_close(b->now_slice);
    ws_lock_close(b->opened); /* what was read of the old one went through it */
    ws_source_close(b->locked_slice);
    ws_source_close(b->boot_slice);
    ws_tree_close(b->medium);
    ws_tree_close(b->esp_tree);
    ws_source_close(b->esp_slice);
    ws_source_close(b->patched);
    ws_image_free(&b->image);
    ws_plan_free(b->plan);
    free(b);
}
