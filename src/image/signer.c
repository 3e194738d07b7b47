/* signer.c — who signed a UEFI program: its certificate table (PE/COFF specification, section 5.7) read with libcrypto.
 */
#include "base/bytes.h"
#include "image/internal.h"

#include <openssl/pkcs7.h>
#include <openssl/x509.h>
#include <stdlib.h>
#include <string.h>

enum { TABLE_MOST = 1 << 20, PKCS7_ENTRY = 2 };

static void common_name(const X509_NAME *name, char *out, size_t room) {
    if (X509_NAME_get_text_by_NID((X509_NAME *)(uintptr_t)name, NID_commonName, out, (int)room) < 0) out[0] = '\0';
    for (char *c = out; *c; c++)
        if ((unsigned char)*c < 0x20 || *c == 0x7f) *c = '?'; /* it is shown on a terminal */
}

static bool read_entry(const uint8_t *bytes, size_t length, struct ws_loader *loader) {
    const unsigned char *p = bytes;
    PKCS7 *message = d2i_PKCS7(NULL, &p, (long)length);
    bool found = false;
    if (message && PKCS7_type_is_signed(message)) {
        STACK_OF(PKCS7_SIGNER_INFO) *signers = PKCS7_get_signer_info(message);
        if (signers && sk_PKCS7_SIGNER_INFO_num(signers) > 0) {
            X509 *certificate = PKCS7_cert_from_signer_info(message, sk_PKCS7_SIGNER_INFO_value(signers, 0));
            if (certificate) {
                common_name(X509_get_subject_name(certificate), loader->signer, sizeof loader->signer);
                common_name(X509_get_issuer_name(certificate), loader->issuer, sizeof loader->issuer);
                found = loader->signer[0] != '\0';
            }
        }
    }
    PKCS7_free(message);
    return found;
}

void image_read_signer(const struct ws_source *content, uint64_t at, uint64_t length, struct ws_loader *loader) {
    if (length > TABLE_MOST || length < 8) return;
    uint8_t *table = malloc((size_t)length);
    if (table && ws_source_read(content, at, table, (size_t)length, NULL) == WS_OK)
        for (size_t i = 0; i + 8 <= length;) { /* entries stand at multiples of 8 */
            uint32_t one = ws_load_le32(table + i);
            if (one < 8 || one > length - i) break;
            if (ws_load_le16(table + i + 6) == PKCS7_ENTRY && read_entry(table + i + 8, one - 8, loader)) break;
            i += (one + 7u) / 8 * 8;
        }
    free(table);
}
