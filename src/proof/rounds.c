/* rounds.c — rounds of a proof from looks at the drive, and their verdicts. */
#include "proof/internal.h"

#include <stdio.h>
#include <string.h>

enum { DAY = 86400 };

const char *ws_verdict_name(enum ws_verdict verdict) {
    static const char *const names[] = {"kept", "lost", "no-start", "open"};
    return names[verdict];
}

const char *ws_round_bit_name(unsigned bit) {
    static const char *const names[WS_ROUND_BITS] = {"cut", "full", "idle", "clock"};
    for (unsigned i = 0; i < WS_ROUND_BITS; i++)
        if (bit == 1u << i) return names[i];
    return "";
}

void ws_proof_free(struct ws_proof *proof) {
    ws_snapshot_free(&proof->first);
    ws_snapshot_free(&proof->last);
}

void proof_start_from(struct ws_proof *proof, const struct ws_drive_facts *facts, struct look *look, int64_t now) {
    const struct ws_memory *m = &look->memory;
    ws_visible(facts->short_name, proof->drive, sizeof proof->drive);
    ws_visible(facts->serial, proof->serial, sizeof proof->serial);
    proof->drive_size = facts->size;
    (void)snprintf(proof->family, sizeof proof->family, "%s", m->system ? "system" : m->family ? m->family->word : "");
    proof->began = now;
    proof->verdict = WS_VERDICT_OPEN;
    proof->cause = m->cause;
    if (!look->read) return;
    ws_visible(look->facts.label, proof->volume_label, sizeof proof->volume_label);
    ws_guid_text(&look->facts.id, proof->volume);
    proof->volume_made_at = look->facts.made_at;
    proof->seen = look->evidence;
    proof->whole = look->whole;
    ws_snapshot_copy(&look->snapshot, &proof->last);
    proof->first = look->snapshot;
    memset(&look->snapshot, 0, sizeof look->snapshot);
}

enum ws_status proof_is_of(const struct ws_proof *proof, const struct look *look, struct ws_error *error) {
    char id[37] = "";
    if (!proof->volume[0] || !look->read) return WS_OK; /* there is nothing to compare */
    ws_guid_text(&look->facts.id, id);
    const bool same = strcmp(id, proof->volume) == 0 && look->facts.made_at == proof->volume_made_at;
    if (same && look->whole != proof->whole) {
        ws_fail(error, WS_E_DIFFERENT, "the system's own image on it %s when this proof began, and %s now",
                proof->whole ? "could be read" : "could not be read", proof->whole ? "cannot" : "can");
        return ws_fail_next(error, "begin another proof, in a document of its own");
    }
    if (same && look->facts.mounts >= proof->seen.mounts) return WS_OK;
    ws_fail(error, WS_E_DIFFERENT,
            same ? "what it remembers was reset since this proof's last look: its starts are counted anew"
                 : "this is not what the proof is of: the volume in which it remembers is another, or was made anew");
    return ws_fail_next(error, "begin another proof, in a document of its own");
}

static unsigned shown_by(const struct ws_proof *proof, const struct ws_round *r, int64_t now) {
    const struct ws_evidence *e = &r->after;
    unsigned shown = 0;
    if (e->needs_recovery) shown |= WS_ROUND_CUT;
    if (e->free_bytes < e->size / 32) shown |= WS_ROUND_FULL;
    if (!r->told.by_people) shown |= WS_ROUND_IDLE;
    if (e->mounted_at != r->before.mounted_at && (e->mounted_at + DAY < proof->began || e->mounted_at > now + DAY))
        shown |= WS_ROUND_CLOCK;
    return shown;
}

static bool was_used(const struct ws_round *r) {
    return r->after.mounts != r->before.mounts || r->after.mounted_at != r->before.mounted_at ||
           r->after.written_at != r->before.written_at || r->told.all;
}

/* The chain, as far as the drive tells: what is not known stays so. */
static void look_at_chain(struct ws_round *r, const struct look *look) {
    for (unsigned i = WS_FORGETS_NO_SYSTEM; i < WS_FORGETS_UNUSED; i++) r->link[i] = (uint8_t)look->memory.link[i];
    if (!look->read) return;
    const bool used = was_used(r), wrote = r->told.all || r->after.written_bytes > r->before.written_bytes;
    r->link[WS_FORGETS_UNUSED] = used ? WS_LINK_HOLDS : WS_LINK_FAILS;
    if (!used) return;
    r->link[WS_FORGETS_READ_ONLY] = wrote ? WS_LINK_HOLDS : WS_LINK_UNKNOWN;
    if (r->told.by_people) r->link[WS_FORGETS_UNSAVED] = WS_LINK_HOLDS;
}

enum ws_status proof_add_round(struct ws_proof *proof, const char *pc, unsigned asked, struct look *look, int64_t now,
                               struct ws_round **out, struct ws_error *error) {
    if (proof->rounds == WS_PROOF_ROUNDS_MOST) {
        ws_fail(error, WS_E_RANGE, "a proof has at most %d rounds", WS_PROOF_ROUNDS_MOST);
        return ws_fail_next(error, "begin another proof, in a document of its own");
    }
    struct ws_round *r = &proof->round[proof->rounds];
    memset(r, 0, sizeof *r);
    ws_visible(pc, r->pc, sizeof r->pc);
    r->asked = asked;
    r->verdict = WS_VERDICT_OPEN;
    r->cause = look->memory.cause;
    r->before = r->after = proof->seen;
    if (look->read) {
        r->after = look->evidence;
        WS_TRY(ws_told_tell(&proof->last, &look->snapshot, look->top, &r->told, error));
        ws_survived_look(&proof->first, &proof->last, &look->snapshot, look->top, &r->survived);
        r->shown = shown_by(proof, r, now);
        proof->seen = look->evidence;
        ws_snapshot_free(&proof->last);
        proof->last = look->snapshot;
        memset(&look->snapshot, 0, sizeof look->snapshot);
    }
    look_at_chain(r, look);
    proof->rounds++;
    *out = r;
    return WS_OK;
}

/* Of a sound volume that is not read here nothing can be told, good or bad. */
static enum ws_status is_told(const struct look *look, struct ws_error *error) {
    if (look->read || !look->memory.unread) return WS_OK;
    ws_fail(error, WS_E_UNSUPPORTED, "whether it remembers cannot be told: %s", look->memory.cause_text);
    return ws_fail_next(error, "start from it and shut down, and look again; or let the system that made it tell");
}

enum ws_status ws_proof_begin(const struct ws_source *drive, const struct ws_drive_facts *facts, const char *passphrase,
                              int64_t now, struct ws_proof *proof, struct ws_error *error) {
    struct look look;
    memset(proof, 0, sizeof *proof);
    WS_TRY(proof_look(drive, facts->logical_sector, passphrase, NULL, now, &look, error));
    enum ws_status status = is_told(&look, error);
    if (status != WS_OK) return status;
    proof_start_from(proof, facts, &look, now);
    if (!look.read || look.memory.cause != WS_FORGETS_NOT) {
        proof->verdict = WS_VERDICT_LOST;
        (void)snprintf(proof->text, sizeof proof->text, "As it is, it will forget: %s.", look.memory.cause_text);
        status = ws_fail(error, WS_E_DIFFERENT, "%s", proof->text);
    } else {
        proof_conclude(proof);
    }
    proof_look_free(&look);
    return status;
}

/* What was saved, in a few words. */
static void say_saved(const struct ws_round *r, char *out, size_t room) {
    size_t n = 0;
    const uint64_t own = r->told.all - r->told.by_people;
    n += (size_t)snprintf(out, room, "%llu change%s saved", (unsigned long long)r->told.by_people,
                          r->told.by_people == 1 ? " was" : "s were");
    const char *before = ": ";
    for (unsigned w = 0; w < WS_WHOSE_OWN && n < room; w++) {
        uint64_t count = 0;
        for (unsigned c = 0; c < WS_CHANGES; c++) count += r->told.of[w].count[c];
        if (!count) continue;
        n += (size_t)snprintf(out + n, room - n, "%s%llu in %s", before, (unsigned long long)count,
                              ws_whose_title((enum ws_whose)w));
        before = ", ";
    }
    if (r->told.packages[0] && n < room)
        n += (size_t)snprintf(out + n, room - n, "; packages: %.200s", r->told.packages);
    if (own && n < room) (void)snprintf(out + n, room - n, "; %llu more are the system's own", (unsigned long long)own);
}

static void fail_round(struct ws_round *r, enum ws_verdict verdict, enum ws_forgets cause, const char *text) {
    r->verdict = verdict;
    r->cause = cause;
    r->link[cause] = WS_LINK_FAILS;
    (void)snprintf(r->text, sizeof r->text, "%.599s", text);
}

void proof_judge_earlier(struct ws_proof *proof, const struct ws_round *now, bool missing) {
    const struct ws_survived *s = &now->survived;
    const size_t number = (size_t)(now - proof->round);
    for (size_t i = 0; i < number; i++) {
        struct ws_round *r = &proof->round[i];
        char text[400];
        if (r->verdict == WS_VERDICT_NO_START || r->verdict == WS_VERDICT_LOST) continue;
        if (missing && r->told.by_people) {
            fail_round(r, WS_VERDICT_LOST, WS_FORGETS_UNSEEN,
                       "What it saved is on the drive, but the system that was started next did not show it.");
        } else if (s->lost && i + 1 == number) {
            (void)snprintf(text, sizeof text,
                           "%llu of the changes saved so far were gone after the next session, first %s.",
                           (unsigned long long)s->lost, s->example[0]);
            fail_round(r, WS_VERDICT_LOST, WS_FORGETS_LATER, text);
        } else if (r->verdict == WS_VERDICT_OPEN && (r->told.by_people || s->survive + s->again)) {
            r->verdict = WS_VERDICT_KEPT;
            r->cause = WS_FORGETS_NOT;
            r->link[WS_FORGETS_LATER] = WS_LINK_HOLDS;
            if (!r->told.by_people)
                (void)snprintf(r->text, sizeof r->text,
                               "Nothing was changed in it; what was saved before it is still there.");
        }
    }
}

static void judge_new(struct ws_round *r, const struct look *look) {
    if (!look->read) {
        fail_round(r, WS_VERDICT_LOST, look->memory.cause, look->memory.cause_text);
        return;
    }
    if (!was_used(r)) {
        char text[500];
        (void)snprintf(
            text, sizeof text,
            "Nothing shows that a system used what is remembered here: its volume was mounted %u times before and "
            "is not counted once more. The PC started from something else, or by a menu entry that forgets.",
            r->before.mounts);
        fail_round(r, WS_VERDICT_NO_START,
                   look->memory.cause != WS_FORGETS_NOT ? look->memory.cause : WS_FORGETS_UNUSED,
                   look->memory.cause != WS_FORGETS_NOT ? look->memory.cause_text : text);
        return;
    }
    if (r->told.by_people) {
        say_saved(r, r->text, sizeof r->text - 2);
        r->text[0] = (char)(r->text[0] >= 'a' && r->text[0] <= 'z' ? r->text[0] - 32 : r->text[0]);
        (void)strcat(r->text, ".");
        return;
    }
    r->cause = look->memory.cause != WS_FORGETS_NOT ? look->memory.cause : WS_FORGETS_UNSAVED;
    if (r->told.all)
        (void)snprintf(
            r->text, sizeof r->text,
            "The system saved %llu changes of its own, and none that a person makes: if something was changed, "
            "it was not saved.",
            (unsigned long long)r->told.all);
    else
        (void)snprintf(r->text, sizeof r->text,
                       "A system used the volume and left it as it was: if something was changed, it was not saved.");
}

/* Behind rounds that were carried out here nothing shows yet that it was taken away: it is to be, now. */
static bool is_still_here(const struct ws_proof *proof, const struct ws_round *r) {
    return proof->rounds > 1 && !proof->round[proof->rounds - 2].by_hand && !was_used(r);
}

enum ws_status ws_proof_return(struct ws_proof *proof, const struct ws_source *drive,
                               const struct ws_drive_facts *facts, const struct ws_return *how, int64_t now,
                               struct ws_error *error) {
    struct look look;
    struct ws_round *r = NULL;
    WS_TRY(proof_look(drive, facts->logical_sector, how->passphrase, &proof->first, now, &look, error));
    enum ws_status status = is_told(&look, error);
    if (status == WS_OK) status = proof_is_of(proof, &look, error);
    /* It may have been looked at once too often: a session that left nothing counts until the next one. */
    if (status == WS_OK && proof->rounds && proof->round[proof->rounds - 1].verdict == WS_VERDICT_NO_START &&
        proof->round[proof->rounds - 1].by_hand)
        proof->rounds--;
    if (status == WS_OK)
        status = proof_add_round(proof,
                                 how->pc           ? how->pc
                                 : look.machine[0] ? look.machine
                                                   : "a PC",
                                 0, &look, now, &r, error);
    if (status == WS_OK && is_still_here(proof, r)) {
        proof->rounds--;
    } else if (status == WS_OK) {
        r->by_hand = true;
        judge_new(r, &look);
        if (r->verdict != WS_VERDICT_NO_START) proof_judge_earlier(proof, r, how->was_seen_missing);
        proof_conclude(proof);
    }
    proof_look_free(&look);
    return status;
}

/* "; among them one with the power cut, one with the volume nearly full" */
static void say_kinds(const struct ws_proof *proof, char *out, size_t room) {
    static const char *const words[WS_ROUND_BITS] = {"a power cut", "a volume nearly full", "a session without changes",
                                                     "a wrong clock"};
    size_t n = 0;
    out[0] = '\0';
    for (unsigned b = 0; b < WS_ROUND_BITS; b++) {
        bool any = false;
        for (size_t i = 0; i < proof->rounds; i++)
            any |= proof->round[i].verdict == WS_VERDICT_KEPT && proof->round[i].shown >> b & 1;
        if (any && n < room) n += (size_t)snprintf(out + n, room - n, "%s%s", n ? ", " : " Among them: ", words[b]);
    }
    if (n && n + 1 < room) (void)strcat(out, ".");
}

void proof_conclude(struct ws_proof *proof) {
    const struct ws_round *lost = NULL, *last = proof->rounds ? &proof->round[proof->rounds - 1] : NULL;
    size_t kept = 0;
    char kinds[200];
    for (size_t i = 0; i < proof->rounds; i++) {
        kept += proof->round[i].verdict == WS_VERDICT_KEPT;
        if (!lost && proof->round[i].verdict == WS_VERDICT_LOST) lost = &proof->round[i];
    }
    if (lost) {
        proof->verdict = WS_VERDICT_LOST;
        proof->cause = lost->cause;
        (void)snprintf(proof->text, sizeof proof->text, "Round %u, on %s: %s", (unsigned)(lost - proof->round) + 1,
                       lost->pc, lost->text);
    } else if (last && last->verdict == WS_VERDICT_NO_START) {
        proof->verdict = WS_VERDICT_NO_START;
        proof->cause = last->cause;
        (void)snprintf(proof->text, sizeof proof->text, "%s%s", last->text,
                       kept ? " What earlier sessions saved was still there before that." : "");
    } else if (kept) {
        proof->verdict = WS_VERDICT_KEPT;
        proof->cause = WS_FORGETS_NOT;
        say_kinds(proof, kinds, sizeof kinds);
        (void)snprintf(proof->text, sizeof proof->text, "What %zu session%s saved was still there after the next.%s",
                       kept, kept == 1 ? "" : "s", kinds);
    } else {
        proof->verdict = WS_VERDICT_OPEN;
        proof->cause = last ? last->cause : WS_FORGETS_NOT;
        (void)snprintf(proof->text, sizeof proof->text, "%s",
                       !last ? "Nothing is proved yet."
                       : last->told.by_people
                           ? "It saves; whether that is still there after another start is not shown yet."
                           : last->text);
    }
}
