/* passwords.c — passwords of a full system's accounts, and what opens a lock, given to a build that is ready. */
#include "assemble/internal.h"

#include <openssl/crypto.h>
#include <stdio.h>
#include <string.h>

bool build_makes_lock(const struct ws_build *b) { return b->lock && !b->opened; }

size_t ws_build_passwords(const struct ws_build *b) { return b->owned.passwords + build_makes_lock(b); }

const char *ws_build_password_of(const struct ws_build *b, size_t number) {
    if (build_makes_lock(b) && number == b->owned.passwords) return "";
    return number < b->owned.passwords ? b->owned.password[number].account : NULL;
}

/* The lock's key is made with it: what follows cannot be the continuation of an earlier build. */
static enum ws_status give_passphrase(struct ws_build *b, const char *passphrase, struct ws_error *error) {
    if (b->have_passphrase) return ws_fail(error, WS_E_USAGE, "the passphrase is given already");
    WS_TRY(ws_lock_add(b->lock, WS_LOCK_PASSPHRASE, passphrase, error));
    b->have_passphrase = true;
    return WS_OK;
}

static enum ws_status check_passphrase(const struct ws_build *b, struct ws_error *error) {
    if (b->have_passphrase || !build_makes_lock(b)) return WS_OK;
    ws_fail(error, WS_E_USAGE, "the lock needs a passphrase, and none is given");
    return ws_fail_hint(error, WS_HINT_PASSWORDS, "", "give it when the drive is built; nothing was written");
}

enum ws_status ws_build_recovery(struct ws_build *b, char out[WS_RECOVERY_ROOM], struct ws_error *error) {
    out[0] = '\0';
    if (!build_makes_lock(b)) return ws_fail(error, WS_E_USAGE, "the plan locks no volume anew");
    WS_TRY(check_passphrase(b, error)); /* this is the second way in, never the only one */
    WS_TRY(ws_lock_recovery(out, error));
    return ws_lock_add(b->lock, WS_LOCK_RECOVERY, out, error);
}

/* The salt follows from plan and account: a build that is continued writes what the run before it wrote. */
enum ws_status ws_build_password(struct ws_build *b, size_t number, const char *password, struct ws_error *error) {
    if (build_makes_lock(b) && number == b->owned.passwords) return give_passphrase(b, password, error);
    if (number >= b->owned.passwords)
        return ws_fail(error, WS_E_USAGE, "the plan has no account number %zu that needs a password", number);
    const struct ws_owned_password *p = &b->owned.password[number];
    struct ws_guid salt;
    char what[WS_ACCOUNT_ROOM + 16], hash[WS_PASSWORD_ROOM];
    (void)snprintf(what, sizeof what, "password of %s", p->account);
    WS_TRY(ws_guid_derive(&b->plan->facts.id, what, &salt, error));
    enum ws_status status = ws_password_make(p->hash, password, salt.byte, hash, error);
    if (status == WS_OK) status = ws_source_patch(b->owned.shadow, p->at, hash, ws_password_length(p->hash), error);
    OPENSSL_cleanse(hash, sizeof hash);
    if (status != WS_OK) return ws_fail_where(error, "%s", p->account);
    b->given[number] = true;
    return WS_OK;
}

enum ws_status build_check_passwords(const struct ws_build *b, struct ws_error *error) {
    for (size_t i = 0; i < b->owned.passwords; i++)
        if (!b->given[i]) {
            ws_fail(error, WS_E_USAGE, "the account \"%s\" needs a password, and none is given",
                    b->owned.password[i].account);
            return ws_fail_hint(error, WS_HINT_PASSWORDS, "", "give it when the drive is built; nothing was written");
        }
    return check_passphrase(b, error);
}

void build_unknown(const struct ws_build *b, struct ws_check_options *options) {
    const struct ws_owned *o = &b->owned;
    for (size_t i = 0; i < b->plan->volumes; i++) /* their key is on the drive alone, locked */
        if (b->plan->volume[i].locked && !b->opened) options->leave_out |= 1u << b->plan->volume[i].role;
    if (!o->passwords || b->lock) return;
    const struct ws_owned_password *last = &o->password[o->passwords - 1];
    uint64_t first = o->password[0].at;
    uint64_t end = last->at + ws_password_length(last->hash);
    for (size_t i = 0; i < ws_layout_count(b->layout); i++) {
        const struct ws_extent *e = ws_layout_extent(b->layout, i);
        struct ws_piece piece;
        for (uint64_t done = 0; e->part == WS_ROLE_SYSTEM && done < e->length; done += piece.length) {
            piece = ws_source_piece(e->from, e->from_at + done, e->length - done);
            if (piece.kind != WS_PIECE_BASE || piece.base != o->shadow || piece.at > first ||
                piece.at + piece.length < end)
                continue;
            options->unknown_at = e->at + done + (first - piece.at);
            options->unknown_length = end - first;
        }
    }
}
