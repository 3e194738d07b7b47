/* hash.c — checksums and hashes: zlib's crc32, our own crc32c, libcrypto for the rest. */
#include "wild_satchel/base.h"

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

/* Reflected polynomial 0x82F63B78, four bits a step: small, and no table to initialise at run time. */
uint32_t ws_crc32c(uint32_t crc, const void *bytes, size_t length) {
    static const uint32_t nibble[16] = {0x00000000, 0x105ec76f, 0x20bd8ede, 0x30e349b1, 0x417b1dbc, 0x5125dad3,
                                        0x61c69362, 0x7198540d, 0x82f63b78, 0x92a8fc17, 0xa24bb5a6, 0xb21572c9,
                                        0xc38d26c4, 0xd3d3e1ab, 0xe330a81a, 0xf36e6f75};
    const unsigned char *p = bytes;
    for (size_t i = 0; i < length; i++) {
        crc ^= p[i];
        crc = nibble[crc & 15] ^ (crc >> 4);
        crc = nibble[crc & 15] ^ (crc >> 4);
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
