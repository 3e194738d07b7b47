/* parts.c — the finished drive in a row: volumes, what lies between them, and the table's own places. */
#include "assemble/internal.h"

#include <stdio.h>
#include <string.h>

static void add(struct ws_plan *plan, const char *what, const char *label, unsigned number, uint64_t at, uint64_t end) {
    if (end <= at || plan->parts >= PLAN_PARTS_MOST) return;
    struct ws_plan_part *p = &plan->part[plan->parts++];
    memset(p, 0, sizeof *p);
    (void)snprintf(p->what, sizeof p->what, "%s", what);
    (void)snprintf(p->label, sizeof p->label, "%.63s", label);
    ws_utf8_trim(p->label);
    p->number = number;
    p->at = at;
    p->length = end - at;
}

/* A volume, and the file with another one where that lies inside it. */
static void add_volume(struct ws_plan *p, const struct ws_volume *v) {
    const struct ws_volume *file = NULL;
    for (size_t i = 0; i < p->volumes && !file; i++)
        if (p->volume[i].inside == v->role) file = &p->volume[i];
    const char *what = ws_role_name(v->role);
    const char *label = v->role == WS_ROLE_SYSTEM ? p->facts.title : v->role == WS_ROLE_START ? "" : v->label;
    uint64_t end = v->at + v->size;
    if (!file) {
        add(p, what, label, v->number, v->at, end);
        return;
    }
    add(p, what, label, v->number, v->at, file->at);
    add(p, ws_role_name(file->role), file->role == WS_ROLE_SYSTEM ? p->facts.title : "overlay file", v->number,
        file->at, file->at + file->size);
    add(p, what, label, v->number, file->at + file->size, end);
}

void build_list_parts(struct ws_build *b) {
    struct ws_plan *p = b->plan;
    uint64_t first;
    uint64_t end = p->drive.size;
    uint64_t at = p->facts.image_end;
    bool live = p->facts.kind == WS_KIND_LIVE_WHOLE;
    p->parts = 0;
    if (b->table) ws_table_free_tail(b->table, &first, &end);
    add(p, live ? "live image" : "image", p->facts.title, live ? 1 : 0, 0, at);
    for (size_t i = 0; i < p->volumes; i++) {
        const struct ws_volume *v = &p->volume[i];
        if (v->inside != WS_ROLE_DRIVE) continue;
        add(p, "gap", "", 0, at, v->at);
        add_volume(p, v);
        at = v->at + v->size;
    }
    bool backup = b->table && b->table->kind >= WS_TABLE_GPT && end > at;
    uint64_t table_at = backup ? end : p->drive.size;
    add(p, table_at - at < MIB && table_at > at ? "gap" : "free", "", 0, at, table_at);
    if (backup) add(p, "table", "backup of the GPT", 0, table_at, p->drive.size);
}

void build_list_partitions(struct ws_build *b) {
    struct ws_plan *p = b->plan;
    size_t count;
    const struct ws_partition *t = ws_table_partitions(b->table, &count);
    uint64_t at = 0;
    p->parts = 0;
    while (at < p->drive.size) { /* the next one in order of their places */
        const struct ws_partition *next = NULL;
        const struct ws_volume *v = NULL;
        for (size_t i = 0; i < count; i++)
            if (t[i].mbr_type != 0xee && t[i].at >= at && (!next || t[i].at < next->at)) next = &t[i];
        add(p, next ? "gap" : "free", "", 0, at, next ? next->at : p->drive.size);
        if (!next) return;
        for (size_t i = 0; i < p->volumes; i++)
            if (p->volume[i].at == next->at) v = &p->volume[i];
        if (v) add_volume(p, v);
        else add(p, "data", "stays as it is", next->number, next->at, next->at + next->length);
        at = next->at + next->length;
    }
}
