/* internal.h — a look at a drive between two rounds, and the judgement of rounds. */
#ifndef WS_PROOF_INTERNAL_H
#define WS_PROOF_INTERNAL_H

#include "wild_satchel/proof.h"

/* What a drive remembers at a moment. */
struct look {
    struct ws_memory memory; /* never copied: its family may point into it */
    bool read;               /* its volume could be read; else the memory's cause says why not */
    struct ws_ext4_facts facts;
    struct ws_evidence evidence;
    struct ws_snapshot snapshot;
    char machine[80]; /* that it started on last, by its start journal; empty: that is not noted */
    char top[64];     /* the folder of the snapshot which is "/" to the system */
    bool whole;       /* the snapshot is all that the system sees, and not what it changed of its image alone */
};
/* @param first  the proof's first snapshot; NULL: this is it */
enum ws_status proof_look(const struct ws_source *drive, uint32_t sector, const char *passphrase,
                          const struct ws_snapshot *first, int64_t now, struct look *look, struct ws_error *error);
void proof_look_free(struct look *look);
/* data.c: the files of its ordinary volumes, into the look's snapshot; of locked ones that the passphrase opens, too.
 */
enum ws_status proof_add_data(const struct ws_source *drive, uint32_t sector, const char *passphrase,
                              const struct ws_snapshot *first, struct look *look, struct ws_error *error);

/* The proof's head from its first look, which is taken over; it goes on from there. */
void proof_start_from(struct ws_proof *proof, const struct ws_drive_facts *facts, struct look *look, int64_t now);
/* Is it of this drive's memory? */
enum ws_status proof_is_of(const struct ws_proof *proof, const struct look *look, struct ws_error *error);
/* A round from the look after it, which becomes the last; NULL: there is no room for it. */
enum ws_status proof_add_round(struct ws_proof *proof, const char *pc, unsigned asked, struct look *look, int64_t now,
                               struct ws_round **round, struct ws_error *error);
/* What the round added last shows of those before it. @param missing  what they saved is not shown by the system */
void proof_judge_earlier(struct ws_proof *proof, const struct ws_round *now, bool missing);
/* Of all rounds one verdict. */
void proof_conclude(struct ws_proof *proof);

/* packed.c: a snapshot as text, compressed (zstd, RFC 8878) and as base64 (RFC 4648, section 4). @return false: out of
 * memory */
bool proof_pack(const struct ws_snapshot *snapshot, struct ws_text *out);
/* @return WS_E_FORMAT for what is no such text, or is of over 256 MiB */
enum ws_status proof_unpack(const char *packed, struct ws_snapshot *snapshot, struct ws_error *error);

#endif
