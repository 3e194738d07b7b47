/* lock.h — a volume that a passphrase opens: LUKS2, as Linux' dm-crypt and cryptsetup read it.
 *
 * Follows the LUKS2 On-Disk Format Specification 1.1 (sections 2 and 3), AES-XTS (IEEE 1619) with the key numbers
 * "plain64", Argon2id (RFC 9106) for passphrases. No device mapper is needed: the locked volume is a source over the
 * bytes of the open one, so a layout holds it as it holds any other.
 *
 * The volume's key is random, made when the drive is built and never kept but on the drive, locked by each secret.
 * Before it is made the source reads as the open volume: a plan states its bytes, whatever the key will be.
 */
#ifndef WILD_SATCHEL_LOCK_H
#define WILD_SATCHEL_LOCK_H

#include "wild_satchel/source.h"

WS_BEGIN

enum {
    WS_LOCK_HEAD = 16 << 20, /**< bytes in front of the volume: header, its copy, and one area for each secret */
    WS_LOCK_SECRETS_MOST = 2,
    WS_LOCK_SECTOR = 4096, /**< bytes enciphered at a time; parts of the volume begin and end at multiples of it */
    WS_PASSPHRASE_LEAST = 8,
    WS_PASSPHRASE_MOST = 512, /**< bytes: what the programs that ask for one at a start take */
    WS_RECOVERY_ROOM = 50     /**< ten groups of four letters, and the NUL */
};

/** What one attempt at opening it takes; set by what the secret is. */
enum ws_lock_secret {
    WS_LOCK_PASSPHRASE, /**< of a person: guessing it is made dear */
    WS_LOCK_RECOVERY    /**< random, see ws_lock_recovery(): nobody guesses it */
};
struct ws_lock_cost {
    uint32_t memory_kib, passes, lanes; /**< RFC 9106: m, t, p */
};
struct ws_lock_cost ws_lock_cost(enum ws_lock_secret secret);
/** Seconds that one attempt takes on a PC which moves so many MiB a second through its memory in this way.
 *  WS_LOCK_SLOW_PC is one of 2010 with two cores. */
double ws_lock_seconds(struct ws_lock_cost cost, double mib_per_s);
#define WS_LOCK_SLOW_PC 450.0

struct ws_lock;
/**
 * A locked volume over `open`, which stays the caller's and outlives it.
 * @param id     its own identifier, by which systems find it; another than the open volume's
 * @param label  up to 47 bytes; shown before it is opened
 * @return WS_E_RANGE if the size is no multiple of WS_LOCK_SECTOR
 */
WS_CHECKED enum ws_status ws_lock_create(const struct ws_source *open, const struct ws_guid *id, const char *label,
                                         struct ws_lock **lock, struct ws_error *error);
/** Close; keys are cleared. NULL is accepted. */
void ws_lock_close(struct ws_lock *lock);
/** Header and areas: less than WS_LOCK_HEAD bytes, the rest up to the volume is not used. Zeros before the first
 *  secret is added. Belongs to the lock. */
const struct ws_source *ws_lock_head(const struct ws_lock *lock);
/** The volume, enciphered from the first secret on; it stands WS_LOCK_HEAD bytes behind the header. Belongs to it. */
const struct ws_source *ws_lock_body(const struct ws_lock *lock);
/**
 * Add a secret that opens it; with the first one its key is made. Takes the memory and the time of an attempt.
 * The caller clears its own copy.
 * @return WS_E_USAGE for one that is too short or too long, or holds what cannot be typed; WS_E_NOMEM; WS_E_RANGE if
 *         there are WS_LOCK_SECRETS_MOST of them
 */
WS_CHECKED enum ws_status ws_lock_add(struct ws_lock *lock, enum ws_lock_secret kind, const char *secret,
                                      struct ws_error *error);
/**
 * Open a locked volume (LUKS2, AES-XTS with 512-bit keys, as made here and by most): what it holds is ws_lock_body(), a
 * source over `volume`, which stays the caller's and outlives it. Takes the memory and the time that the volume asks
 * for.
 * @return WS_E_USAGE if the secret opens it not; WS_E_NOTFOUND if it is none; WS_E_FORMAT for a damaged header;
 *         WS_E_UNSUPPORTED for other ciphers, or one that is being changed; WS_E_NOMEM
 */
WS_CHECKED enum ws_status ws_lock_open(const struct ws_source *volume, const char *secret, struct ws_lock **lock,
                                       struct ws_error *error);
/** The key of a lock that was opened, whoever made that, for one that has none yet and goes around other bytes: these
 * stand under the header that is there then, which tells no length, enciphered in sectors as long as it says.
 * @return WS_E_NOMEM */
WS_CHECKED enum ws_status ws_lock_take_key(struct ws_lock *lock, const struct ws_lock *opened, struct ws_error *error);
/** Bytes of the volume in front of what an opened lock holds. */
uint64_t ws_lock_begin(const struct ws_lock *lock);
/** Bytes of those that say something: whoever moves the volume takes them along. */
uint64_t ws_lock_head_bytes(const struct ws_lock *lock);
/** Is this a locked volume (LUKS, version 1 or 2)? @param uuid  out: its identifier, 40 bytes; may be NULL */
bool ws_lock_probe(const struct ws_source *volume, char *uuid);
/** Is its key made? */
bool ws_lock_is_made(const struct ws_lock *lock);
/** A random secret to be written down: letters that stand in the same place on the keyboards of most countries, typed
 *  with the blanks. @return WS_E_READ if there is no randomness */
WS_CHECKED enum ws_status ws_lock_recovery(char out[WS_RECOVERY_ROOM], struct ws_error *error);
/** The characters of a passphrase that stand elsewhere on other keyboards, or that only some can type: where it is
 *  asked for, the keyboard is seldom known. @return how many */
size_t ws_passphrase_doubtful(const char *passphrase);

WS_END

#endif
