/* twin_sizes.c — how much a twin needs: its volumes worked out as a plan would, on a drive that is large enough. */
#include "assemble/twin.h"
#include "wild_satchel/sizing.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* Room to live: a quarter more, and of a system a gigabyte for updates. */
static uint64_t comfortable(const struct twin_row *r) {
    if (!r->format || !r->flexible) return r->size;
    return ws_round_up(r->least + r->least / 4 + (r->role == WS_ROLE_SYSTEM ? 1024ull * MIB : 64ull * MIB), MIB);
}

static void take_rows(const struct ws_build *b, struct ws_twin_sizes *s) {
    const struct build_twin *t = b->twin;
    const struct ws_original *o = &t->original;
    const uint64_t align = b->plan->facts.align;
    s->least_drive = s->comfortable_drive = s->same_drive = align + MIB;
    for (size_t i = 0; i < t->rows; i++) {
        const struct twin_row *r = &t->row[i];
        const struct ws_original_volume *v = r->of < o->volumes ? &o->volume[r->of] : NULL;
        struct ws_twin_volume_sizes *to = &s->volume[s->volumes++];
        to->of = v ? v->place.number : 0;
        to->way = v ? v->way : WS_TWIN_ANEW;
        (void)snprintf(to->system, sizeof to->system, "%s", v ? v->system : "FAT32");
        to->was = v ? v->place.length : 0;
        to->used = v ? v->bytes : 0;
        to->least = r->least;
        to->comfortable = comfortable(r);
        s->least_drive += ws_round_up(to->least, align);
        s->comfortable_drive += ws_round_up(ws_max_u64(to->least, to->comfortable), align);
        s->same_drive += ws_round_up(v ? ws_max_u64(to->was, to->least) : to->least, align);
    }
}

enum ws_status ws_twin_size(const struct ws_source *original, uint32_t leave_out, struct ws_twin_sizes *s,
                            struct ws_error *error) {
    struct ws_request *r = malloc(sizeof *r);
    struct ws_build_setting *setting = calloc(1, sizeof *setting);
    struct ws_build *b = NULL;
    enum ws_status status = r && setting ? WS_OK : ws_fail(error, WS_E_NOMEM, "out of memory for sizes");
    memset(s, 0, sizeof *s);
    if (status == WS_OK) {
        ws_request_begin(r, WS_KIND_TWIN);
        r->twin.leave_out = leave_out;
        setting->drive.size = ws_max_u64(2 * original->size, 16ull << 30) + (1ull << 30);
        setting->drive.sector = 512;
        setting->input[WS_INPUT_IMAGE] = original;
        setting->measure = true;
        status = ws_build_prepare(r, setting, &b, error);
    }
    free(setting);
    free(r);
    if (status != WS_OK) return status;
    if (strcmp(b->plan->facts.title, "-") != 0) /* it has no name here */
        (void)snprintf(s->title, sizeof s->title, "%s", b->plan->facts.title);
    take_rows(b, s);
    memcpy(s->leavable, b->twin->leavable, sizeof s->leavable);
    s->starts = b->plan->outlook[0].starts || b->plan->outlook[1].starts;
    ws_build_close(b);
    return WS_OK;
}
