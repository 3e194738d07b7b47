/* ways.c — the library's ways out of a refusal, in this tool's words. */
#include "cli/cli.h"

#include <stdio.h>
#include <string.h>

static const struct {
    enum ws_hint hint;
    const char *value; /* for this one only; NULL: for all others */
    const char *words; /* the value stands in the place of the * */
} ways[] = {
    {WS_HINT_KIND, "replica", "--kind replica"},
    {WS_HINT_KIND, "live-files", "--arrangement files"},
    {WS_HINT_KIND, "system", "--kind system"},
    {WS_HINT_KIND, "blank", "`satchel drives DRIVE --blank`"},
    {WS_HINT_GROWTH, NULL, "without --grow"},
    {WS_HINT_PLACE, NULL, "without --in"},
    {WS_HINT_SYSTEM_FORMAT, NULL, "--arrangement files --files-on *"},
    {WS_HINT_TABLE, NULL, "without --table"},
    {WS_HINT_UEFI_CODE, NULL, "without --uefi-code"},
    {WS_HINT_PERSISTENCE, NULL, "--persistence *"},
    {WS_HINT_DATA, NULL, "--data *"},
    {WS_HINT_DATA_FORMAT, NULL, "--data-on *"},
    {WS_HINT_DATA_LABEL, NULL, "--data-label TEXT"},
    {WS_HINT_FAMILY, NULL, "--family FILE"},
    {WS_HINT_EXTERNAL_DISK, NULL, "--external-disk"},
    {WS_HINT_EVEN_SO, NULL, "--even-so"},
    {WS_HINT_DRIVES, NULL, "`satchel drives` shows which may be used"},
    {WS_HINT_IMAGE, NULL, "`satchel image FILE`"},
    {WS_HINT_SIZES, NULL, "`satchel size` tells what serves"},
    {WS_HINT_PLAN_AGAIN, NULL, "`satchel plan`"},
    {WS_HINT_ACCOUNT, NULL, "--account NAME"},
    {WS_HINT_INTERNAL_DISKS, NULL, "--internal-disks *"},
    {WS_HINT_EDITION, NULL, "--edition NAME"},
    {WS_HINT_LEAVE_OUT, NULL, "--leave-out *"},
    {WS_HINT_EXACT, NULL, "`satchel twin --exact`"},
    {WS_HINT_FINISH, NULL, "`satchel build --finish DRIVE`"},
    {WS_HINT_PASSWORDS, NULL, "--password-fd N"},
    {WS_HINT_TRIAL_AGAIN, NULL, "`satchel drives DRIVE --test --save FILE`"},
};

static const char *words(const struct ws_way *w, char *out, size_t room) {
    for (size_t i = 0; i < sizeof ways / sizeof ways[0]; i++) {
        if (ways[i].hint != w->hint || (ways[i].value && strcmp(ways[i].value, w->value) != 0)) continue;
        size_t before = strcspn(ways[i].words, "*");
        (void)snprintf(out, room, "%.*s%s", (int)before, ways[i].words, ways[i].words[before] ? w->value : "");
        return out;
    }
    return NULL;
}

const char *ways_next(const struct ws_error *e, char out[WAYS_ROOM]) {
    char one[80];
    bool any = false;
    (void)snprintf(out, WAYS_ROOM, "%s", e->next);
    for (size_t i = 0; i < e->ways; i++) {
        if (!words(&e->way[i], one, sizeof one)) continue;
        size_t at = strlen(out);
        (void)snprintf(out + at, WAYS_ROOM - at, "%s%s", any ? "; " : " (", one);
        any = true;
    }
    size_t at = strlen(out);
    if (any) (void)snprintf(out + at, WAYS_ROOM - at, ")");
    return out;
}

json_t *ways_json(const struct ws_error *e) {
    char one[80];
    json_t *list = json_array();
    for (size_t i = 0; i < e->ways; i++)
        if (words(&e->way[i], one, sizeof one)) json_array_append_new(list, json_string(one));
    return list;
}
