/* findings.c — lists of what was noticed. */
#include "wild_satchel/base.h"

#include <stdarg.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

void ws_findings_add(struct ws_findings *findings, enum ws_weight weight, const char *format, ...) {
    if (!findings || findings->count >= 1000) return;
    if (findings->count == findings->room) {
        size_t room = findings->room ? findings->room * 2 : 8;
        struct ws_finding *grown = realloc(findings->list, room * sizeof *grown);
        if (!grown) return;
        findings->list = grown;
        findings->room = room;
    }
    struct ws_finding *f = &findings->list[findings->count++];
    va_list list;
    va_start(list, format);
    (void)vsnprintf(f->text, sizeof f->text, format, list);
    va_end(list);
    f->weight = weight;
}

enum ws_weight ws_findings_worst(const struct ws_findings *findings) {
    enum ws_weight worst = WS_NOTE;
    for (size_t i = 0; i < findings->count; i++)
        if (findings->list[i].weight > worst) worst = findings->list[i].weight;
    return worst;
}

void ws_findings_free(struct ws_findings *findings) {
    free(findings->list);
    memset(findings, 0, sizeof *findings);
}

const char *ws_weight_name(enum ws_weight weight) {
    return weight == WS_FAULT ? "fault" : weight == WS_WARNING ? "warning" : "note";
}
