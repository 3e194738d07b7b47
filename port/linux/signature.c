/* signature.c — a detached signature held against the keys in one file. */
#include "wild_satchel/port/linux.h"

#include <errno.h>
#include <ftw.h>
#include <gpgme.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <unistd.h>

static enum ws_status key_error(struct ws_error *error, const char *what, gpgme_error_t code, const char *where) {
    ws_fail(error, WS_E_READ, "%s: %s", what, gpgme_strerror(code));
    return ws_fail_where(error, "%s", where);
}

/* Keys and the locks beside them; there are no folders inside but one for private keys, which stays empty. */
static int remove_one(const char *path, const struct stat *s, int kind, struct FTW *ftw) {
    (void)s, (void)kind, (void)ftw;
    return remove(path);
}

static void remove_folder(const char *path) { (void)nftw(path, remove_one, 8, FTW_DEPTH | FTW_PHYS); }

/* Verify with only the keys of one file known, in a home folder of its own that is thrown away. */
static enum ws_status verify(gpgme_ctx_t ctx, const char *keyring, const char *signature, const char *file, char *who,
                             size_t room, struct ws_error *error) {
    gpgme_data_t keys = NULL, sig = NULL, text = NULL;
    enum ws_status status = WS_OK;
    gpgme_error_t code = gpgme_data_new_from_file(&keys, keyring, 1);
    if (code) WS_GO(key_error(error, "the keyring cannot be read", code, keyring));
    code = gpgme_op_import(ctx, keys);
    gpgme_import_result_t imported = code ? NULL : gpgme_op_import_result(ctx);
    if (code || !imported || imported->considered == 0) {
        ws_fail(error, WS_E_FORMAT, "the keyring holds no public key");
        WS_GO(ws_fail_where(error, "%s", keyring));
    }
    code = gpgme_data_new_from_file(&sig, signature, 1);
    if (code) WS_GO(key_error(error, "the signature cannot be read", code, signature));
    FILE *stream = fopen(file, "rb");
    if (!stream) WS_GO(ws_fail(error, WS_E_READ, "the signed file cannot be read: %s", strerror(errno)));
    code = gpgme_data_new_from_stream(&text, stream);
    if (!code) code = gpgme_op_verify(ctx, sig, text, NULL);
    gpgme_verify_result_t result = code ? NULL : gpgme_op_verify_result(ctx);
    status = WS_E_DIFFERENT;
    for (gpgme_signature_t s = result ? result->signatures : NULL; s && status != WS_OK; s = s->next) {
        gpgme_key_t key = NULL;
        if (gpgme_err_code(s->status) != GPG_ERR_NO_ERROR) continue;
        const char *name = s->fpr;
        if (gpgme_get_key(ctx, s->fpr, &key, 0) == 0 && key->uids && key->uids->uid) name = key->uids->uid;
        (void)snprintf(who, room, "%s", name ? name : "an unnamed key");
        if (key) gpgme_key_unref(key);
        status = WS_OK;
    }
    (void)fclose(stream);
    if (status != WS_OK) {
        ws_fail(error, WS_E_DIFFERENT, "the signature is not a good one by any key of this keyring");
        ws_fail_where(error, "%s", signature);
        ws_fail_next(error, "do not use this file, or get the publisher's right key");
    }
done:
    gpgme_data_release(text);
    gpgme_data_release(sig);
    gpgme_data_release(keys);
    return status;
}

enum ws_status ws_linux_check_signature(const char *keyring, const char *signature, const char *file, char *who,
                                        size_t room, struct ws_error *error) {
    char home[] = "/tmp/satchel-keys-XXXXXX";
    gpgme_ctx_t ctx = NULL;
    (void)gpgme_check_version(NULL);
    if (!mkdtemp(home)) return ws_fail(error, WS_E_WRITE, "no folder for keys can be made: %s", strerror(errno));
    gpgme_error_t code = gpgme_new(&ctx);
    if (!code) code = gpgme_ctx_set_engine_info(ctx, GPGME_PROTOCOL_OpenPGP, NULL, home);
    enum ws_status status = code ? key_error(error, "signatures cannot be checked here", code, "")
                                 : verify(ctx, keyring, signature, file, who, room, error);
    if (ctx) gpgme_release(ctx);
    remove_folder(home);
    return status;
}
