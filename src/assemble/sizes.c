/* sizes.c — how much a full system needs: its volume worked out as a plan would, on a drive that is large enough. */
#include "assemble/internal.h"

#include "wild_satchel/sizing.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* A plan for a volume of this size, nothing but measured. */
static enum ws_status try_plan(const struct ws_source *root, const char *edition, struct ws_size size,
                               struct ws_build **build, struct ws_error *error) {
    struct ws_request *r = malloc(sizeof *r);
    struct ws_build_setting *setting = calloc(1, sizeof *setting);
    enum ws_status status = r && setting ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for sizes");
    if (status == WS_OK) {
        ws_request_begin(r, WS_KIND_SYSTEM);
        (void)snprintf(r->edition, sizeof r->edition, "%s", edition);
        ws_request_want(r, WS_ROLE_SYSTEM)->size = size;
        setting->drive.size = 1ull << 40;
        setting->drive.sector = 512;
        setting->input[WS_INPUT_IMAGE] = root;
        setting->measure = true;
        status = ws_build_prepare(r, setting, build, error);
    }
    free(setting);
    free(r);
    return status;
}

static uint64_t drive_for(const struct ws_build *b, const struct ws_volume *v) {
    return ws_round_up(v->at + v->size, b->plan->facts.align) + MIB;
}

/* With so much free: what a larger volume needs for itself is found by trying. */
static enum ws_status find_comfortable(const struct ws_source *root, const char *edition, struct ws_system_sizes *s,
                                       struct ws_error *error) {
    uint64_t size = s->least + s->sizing.free_wanted;
    for (int i = 0; i < 8; i++) {
        struct ws_build *b = NULL;
        WS_TRY(try_plan(root, edition, ws_size_of(ws_round_up(size, MIB)), &b, error));
        const struct ws_volume *v = plan_volume(b->plan, WS_ROLE_SYSTEM);
        s->comfortable = v->size;
        s->comfortable_free = v->free_bytes;
        s->comfortable_drive = drive_for(b, v);
        ws_build_close(b);
        if (s->comfortable_free >= s->sizing.free_wanted) return WS_OK;
        size = s->comfortable + (s->sizing.free_wanted - s->comfortable_free) * 17 / 16 + MIB;
    }
    return WS_OK;
}

enum ws_status ws_system_size(const struct ws_source *root, const char *edition, const struct ws_wishes *wishes,
                              uint64_t memory, struct ws_system_sizes *s, struct ws_error *error) {
    const uint64_t gib = 1ull << 30;
    struct ws_build *b = NULL;
    memset(s, 0, sizeof *s);
    WS_TRY(try_plan(root, edition, (struct ws_size){WS_SIZE_LEAST, 0}, &b, error));
    const struct ws_volume *v = plan_volume(b->plan, WS_ROLE_SYSTEM);
    (void)snprintf(s->title, sizeof s->title, "%s", b->plan->facts.title);
    s->least = v->size;
    s->least_free = v->free_bytes;
    s->used = v->size - v->free_bytes;
    s->least_drive = drive_for(b, v);
    enum ws_status status = ws_packages_read(b->tree[WS_ROLE_SYSTEM], &s->packages, error);
    ws_build_close(b);
    if (status == WS_OK) status = ws_sizing_of_system(wishes, s->used, &s->packages, &s->sizing, error);
    if (status == WS_OK) status = find_comfortable(root, edition, s, error);
    s->has_swap_sizes = memory > 0;
    s->swap_small = memory ? ws_max_u64(512ull * MIB, ws_min_u64(ws_round_up(memory / 2, MIB), 4 * gib)) : 0;
    s->swap_hibernation = memory ? ws_round_up(memory + memory / 10, MIB) : 0;
    return status;
}
