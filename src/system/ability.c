/* ability.c — what the scripts in a live medium's initial RAM disk say of remembering. */
#include "wild_satchel/ability.h"
#include "wild_satchel/start.h"

#include <stdio.h>
#include <string.h>

enum { SCRIPTS, LABEL, FILE_NAME, PARAMETERS, WORD_ROOM = 64 };

struct words {
    char text[WS_WORDS_MOST][WORD_ROOM];
    const char *word[WS_WORDS_MOST];
    size_t count, parameters; /* the end of those of `parameters`; behind them that of a lock */
};

static void add(struct words *w, const char *word, size_t length) {
    if (w->count == WS_WORDS_MOST) return;
    (void)snprintf(w->text[w->count], WORD_ROOM, "%.*s", (int)(length < WORD_ROOM ? length : WORD_ROOM - 1), word);
    w->word[w->count] = w->text[w->count];
    w->count++;
}

/* What is to be found, by the numbers above; the keys of all parameters stand behind them. */
static void words_of(const struct ws_live_family *f, struct words *w) {
    const char *file = f->overlay_file ? f->overlay_file : f->label;
    w->count = 0;
    add(w, f->script_word, strlen(f->script_word));
    add(w, f->label, strlen(f->label));
    add(w, file, strlen(file));
    for (const char *p = f->parameters; *p; p += strcspn(p, " "), p += strspn(p, " ")) add(w, p, strcspn(p, "= "));
    w->parameters = w->count;
    if (f->lock_parameters) add(w, f->lock_parameters, strcspn(f->lock_parameters, "= "));
}

static enum ws_status read_one(const struct ws_tree *medium, const char *path, const struct words *w,
                               struct ws_live_ability *a, uint32_t *found, struct ws_error *error) {
    struct ws_initrd_facts facts;
    uint32_t here = 0;
    const struct ws_node *n = ws_tree_find_any_case(medium, path);
    if (!n || n->kind != WS_NODE_FILE || !n->content)
        return ws_fail(error, WS_E_NOTFOUND, "the initial RAM disk %s is not on the medium", path);
    WS_TRY(ws_initrd_search(n->content, w->word, w->count, &here, &facts, error));
    a->read = true;
    a->drivers |= facts.drivers | facts.built_in;
    a->built_in |= facts.builtin;
    *found |= here;
    a->locked |= facts.cryptsetup && facts.askpass;
    if (facts.maker[0]) memcpy(a->maker, facts.maker, sizeof a->maker);
    (void)snprintf(a->initrd, sizeof a->initrd, "%s", path);
    return WS_OK;
}

enum ws_status ws_live_ability_look(const struct ws_tree *medium, const struct ws_live_family *family,
                                    struct ws_live_ability *a, struct ws_error *error) {
    struct ws_start_entries entries;
    struct words w;
    uint32_t found = 0;
    memset(a, 0, sizeof *a);
    if (!family->script_word) return ws_fail(error, WS_E_NOTFOUND, "how its scripts are called is not described");
    WS_TRY(ws_start_entries_of(medium, family, NULL, &entries, NULL, error));
    words_of(family, &w);
    const struct ws_start_entry *e = &entries.entry[0];
    enum ws_status status = e->initrds ? WS_OK : ws_fail(error, WS_E_NOTFOUND, "it starts without an initial RAM disk");
    for (size_t i = 0; i < e->initrds && status == WS_OK; i++)
        status = read_one(medium, e->initrd[i], &w, a, &found, error);
    ws_start_entries_free(&entries);
    if (status != WS_OK) {
        a->read = false;
        return status;
    }
    a->scripts = found >> SCRIPTS & 1;
    a->parameter = true;
    for (size_t i = PARAMETERS; i < w.parameters; i++) a->parameter &= found >> i & 1;
    a->locked &= w.count > w.parameters && found >> w.parameters & 1;
    a->volume = strstr(family->parameters, family->label) || found >> LABEL & 1;
    a->file = family->overlay_file && (family->file_parameters || found >> FILE_NAME & 1);
    return WS_OK;
}
