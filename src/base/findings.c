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
    va_list list, again;
    va_start(list, format);
    va_copy(again, list);
    int length = vsnprintf(NULL, 0, format, list);
    char *raw = length >= 0 ? malloc((size_t)length + 1) : NULL;
    struct ws_text text = {0};
    if (raw) {
        (void)vsnprintf(raw, (size_t)length + 1, format, again);
        ws_text_puts(&text, "");
        ws_text_visible(&text, raw);
    }
    va_end(again);
    va_end(list);
    free(raw);
    if (text.failed || !text.data) {
        ws_text_free(&text);
        return;
    }
    findings->list[findings->count++] = (struct ws_finding){weight, text.data};
}

enum ws_weight ws_findings_worst(const struct ws_findings *findings) {
    enum ws_weight worst = WS_NOTE;
    for (size_t i = 0; i < findings->count; i++)
        if (findings->list[i].weight > worst) worst = findings->list[i].weight;
    return worst;
}

void ws_findings_free(struct ws_findings *findings) {
    for (size_t i = 0; i < findings->count; i++) free(findings->list[i].text);
    free(findings->list);
    memset(findings, 0, sizeof *findings);
}

const char *ws_weight_name(enum ws_weight weight) {
    return weight == WS_FAULT ? "fault" : weight == WS_WARNING ? "warning" : "note";
}
