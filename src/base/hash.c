/* hash.c — checksums and hashes: zlib's crc32, ISA-L's crc32c, libcrypto for the rest. */
#include "wild_satchel/base.h"

#include <isa-l/crc.h>
#include <openssl/evp.h>
#include <stdio.h>
#include <stdlib.h>
#include <zlib.h>

uint32_t ws_crc32(const void *bytes, size_t length) {
    uLong crc = crc32(0, NULL, 0);
    const unsigned char *p = bytes;
    while (length > 0) {
        uInt step = length > 0x40000000 ? 0x40000000 : (uInt)length;
        crc = crc32(crc, p, step);
        p += step;
        length -= step;
    }
    return (uint32_t)crc;
}

/* As iSCSI has it (RFC 3720), without its inversions; the processor's own instruction where it has one. */
uint32_t ws_crc32c(uint32_t crc, const void *bytes, size_t length) {
    unsigned char *p = (unsigned char *)(uintptr_t)bytes; /* read only, whatever its declaration says */
    while (length > 0) {
        int step = length > 0x40000000 ? 0x40000000 : (int)length;
        crc = crc32_iscsi(p, step, crc);
        p += step;
        length -= (size_t)step;
    }
    return crc;
}

struct ws_hash {
    EVP_MD_CTX *context;
};

enum ws_status ws_hash_open(enum ws_hash_kind kind, struct ws_hash **hash, struct ws_error *error) {
    const EVP_MD *md = kind == WS_HASH_MD5      ? EVP_md5()
                       : kind == WS_HASH_SHA1   ? EVP_sha1()
                       : kind == WS_HASH_SHA512 ? EVP_sha512()
                                                : EVP_sha256();
    struct ws_hash *made = calloc(1, sizeof *made);
    if (made) made->context = EVP_MD_CTX_new();
    if (!made || !made->context || EVP_DigestInit_ex(made->context, md, NULL) != 1) {
        ws_hash_close(made);
        return ws_fail(error, WS_E_NOMEM, "a hash could not be started");
    }
    *hash = made;
    return WS_OK;
}

void ws_hash_add(struct ws_hash *hash, const void *bytes, size_t length) {
    (void)EVP_DigestUpdate(hash->context, bytes, length);
}

void ws_hash_hex(struct ws_hash *hash, char *hex) {
    unsigned char digest[EVP_MAX_MD_SIZE];
    unsigned int length = 0;
    (void)EVP_DigestFinal_ex(hash->context, digest, &length);
    for (unsigned int i = 0; i < length; i++) (void)snprintf(hex + 2 * (size_t)i, 3, "%02x", digest[i]);
}

void ws_hash_close(struct ws_hash *hash) {
    if (!hash) return;
    EVP_MD_CTX_free(hash->context);
    free(hash);
}

enum ws_status ws_hash_bytes(enum ws_hash_kind kind, const void *bytes, size_t length, char *hex,
                             struct ws_error *error) {
    struct ws_hash *hash = NULL;
    WS_TRY(ws_hash_open(kind, &hash, error));
    ws_hash_add(hash, bytes, length);
    ws_hash_hex(hash, hex);
    ws_hash_close(hash);
    return WS_OK;
}
