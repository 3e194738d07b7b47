/* base.h — small things every room needs: text that grows, sizes in words, hashes, identifiers. */
#ifndef WILD_SATCHEL_BASE_H
#define WILD_SATCHEL_BASE_H

#include "wild_satchel/status.h"

#include <stdarg.h>

WS_BEGIN

/** Growing text or bytes. Zero-initialise; always NUL-terminated once something was added. A failed allocation
 *  sets `failed` and later additions do nothing, so that a row of additions needs one check at its end. */
struct ws_text {
    char *data; /**< owned; NULL while empty */
    size_t length;
    size_t room;
    bool failed;
};
void ws_text_add(struct ws_text *text, const void *bytes, size_t length);
/** So many bytes more are to come: room for them at once, if there is as much memory. */
void ws_text_reserve(struct ws_text *text, size_t more);
void ws_text_puts(struct ws_text *text, const char *string);
void ws_text_printf(struct ws_text *text, const char *format, ...) WS_PRINTF(2, 3);
void ws_text_vprintf(struct ws_text *text, const char *format, va_list list) WS_PRINTF(2, 0);
void ws_text_free(struct ws_text *text);
/** @return WS_E_NOMEM if any addition failed, else WS_OK */
WS_CHECKED enum ws_status ws_text_status(const struct ws_text *text, struct ws_error *error);

/** How much a finding matters. */
enum ws_weight {
    WS_NOTE,    /**< worth knowing */
    WS_WARNING, /**< works, but not everywhere or not as one may expect */
    WS_FAULT    /**< wrong: does not work or may lose something */
};
struct ws_finding {
    enum ws_weight weight;
    char *text; /**< owned by the list; fit to be shown, see ws_is_visible() */
};
/** A list of findings. Zero-initialise. */
struct ws_findings {
    struct ws_finding *list; /**< owned */
    size_t count, room;
};
/** Add one, whole, whatever came from outside made visible. Dropped when memory is out or 1,000 are held already. */
void ws_findings_add(struct ws_findings *findings, enum ws_weight weight, const char *format, ...) WS_PRINTF(3, 4);
/** The heaviest weight held; WS_NOTE for an empty list. */
enum ws_weight ws_findings_worst(const struct ws_findings *findings);
void ws_findings_free(struct ws_findings *findings);
const char *ws_weight_name(enum ws_weight weight); /**< "note", "warning", "fault" */

/** A size as sold and as counted, "32 GB · 29.8 GiB"; `out` should hold 48 bytes. @return `out` */
const char *ws_size_both(uint64_t bytes, char *out, size_t room);
/** A size as counted, "29.8 GiB", "512 bytes". @return `out` */
const char *ws_size_counted(uint64_t bytes, char *out, size_t room);

/**
 * Read a size as a technician types it: "4G", "4GiB", "500 MB", "2048". K, M, G, T and KiB ... TiB count in 1024s;
 * kB, MB, GB, TB count in 1000s, as drives are sold; in letters of any case. A decimal fraction is accepted, with a
 * point or a comma ("1.5G", "1,5G"); "1,500M" is not, which may mean two things.
 * @return WS_OK; WS_E_USAGE with the accepted forms in the text
 */
WS_CHECKED enum ws_status ws_size_parse(const char *text, uint64_t *bytes, struct ws_error *error);

/** How many slips make one word of the other: a letter more, less, wrong, or two that changed places; letters of either
 *  case are the same. Bytes, not characters; words of over 64 are as far apart as can be (SIZE_MAX). */
size_t ws_word_distance(const char *a, const char *b);
/** How many slips are likely in a word of this length: what is further away was hardly meant. */
size_t ws_word_slip(const char *word);
/** Does a text hold this part, ASCII letters of either case being the same? No part is in nothing, and none is empty.
 */
bool ws_word_holds(const char *text, const char *part);
/** An ASCII letter as a small one, whatever the locale. */
static inline char ws_lower(char c) { return c >= 'A' && c <= 'Z' ? (char)(c - 'A' + 'a') : c; }

/** A duration in words, "1 h 58 min", "12 s", "0.4 s". @return `out` */
const char *ws_duration(double seconds, char *out, size_t room);

/** Checksums of open formats. crc32 is IEEE 802.3 as GPT uses it (UEFI 2.10, section 5.3.2);
 *  crc32c is Castagnoli as ext4 uses it: `crc` is the running value, ~0 to start, not inverted at the end. */
uint32_t ws_crc32(const void *bytes, size_t length);
uint32_t ws_crc32c(uint32_t crc, const void *bytes, size_t length);

/** A running hash. */
enum ws_hash_kind { WS_HASH_MD5, WS_HASH_SHA1, WS_HASH_SHA256, WS_HASH_SHA512 };
enum { WS_HASH_MOST = 64, WS_HASH_HEX = 129 };
struct ws_hash;
WS_CHECKED enum ws_status ws_hash_open(enum ws_hash_kind kind, struct ws_hash **hash, struct ws_error *error);
void ws_hash_add(struct ws_hash *hash, const void *bytes, size_t length);
/** Finish into lower-case hexadecimal text; `hex` must hold WS_HASH_HEX bytes. The hash may only be closed after. */
void ws_hash_hex(struct ws_hash *hash, char *hex);
void ws_hash_close(struct ws_hash *hash);
/** Hash of one buffer. */
WS_CHECKED enum ws_status ws_hash_bytes(enum ws_hash_kind kind, const void *bytes, size_t length, char *hex,
                                        struct ws_error *error);

/** A GUID in its text order: the bytes as they are read aloud, most significant first (RFC 9562, section 4). */
struct ws_guid {
    uint8_t byte[16];
};
/** "xxxxxxxx-xxxx-xxxx-xxxx-xxxxxxxxxxxx", lower case; `out` must hold 37 bytes. */
const char *ws_guid_text(const struct ws_guid *guid, char *out);
/** @return false if `text` is not a GUID */
bool ws_guid_parse(const char *text, struct ws_guid *guid);
/** Make 16 random bytes a version 4 GUID. */
void ws_guid_from_random(struct ws_guid *guid);
/** On-disk order of GPT: the first three fields are little endian (UEFI 2.10, appendix A). */
void ws_guid_to_disk(const struct ws_guid *guid, uint8_t out[16]);
void ws_guid_from_disk(const uint8_t in[16], struct ws_guid *guid);
/** A name-based GUID: the same inputs always give the same one (version 8 over SHA-256, RFC 9562, section 5.8). */
WS_CHECKED enum ws_status ws_guid_derive(const struct ws_guid *space, const char *name, struct ws_guid *guid,
                                         struct ws_error *error);

/** The first character of a text. @return its bytes; 0 if they are no UTF-8 (RFC 3629), or there are none */
size_t ws_utf8_next(const char *text, size_t length, uint32_t *code);
/** Cut what is left of a character at the end of a text that was made to fit. */
void ws_utf8_trim(char *text);
/** May this be shown as it is: UTF-8, without control characters and marks that change the direction of writing? */
bool ws_is_visible(const char *text);
/** Add text that came from outside (a label, a file's name, a model): what ws_is_visible() would not pass becomes
 *  "\x1b", "\u202e". */
void ws_text_visible(struct ws_text *out, const char *text);
/** The same into a buffer, cut at a whole character. */
void ws_visible(const char *text, char *out, size_t room);
/** The same in place. */
void ws_make_visible(char *text, size_t room);

/** UTF-8 to UTF-16 code units; invalid input becomes U+FFFD. @return units written, at most `room` */
size_t ws_utf16_from_utf8(const char *utf8, uint16_t *out, size_t room);
/** UTF-16 code units to NUL-terminated UTF-8, cut at a whole character. @return bytes without the NUL */
size_t ws_utf8_from_utf16(const uint16_t *in, size_t count, char *out, size_t room);

WS_END

#endif
