/* proving.h — a proof that is being carried out. */
#ifndef WS_PROOF_PROVING_H
#define WS_PROOF_PROVING_H

#include "proof/console.h"
#include "proof/internal.h"

struct proving {
    struct ws_port *port;
    struct ws_pc *pc; /* that is on, or was last */
    const char *drive_id;
    const struct ws_proof_options *options;
    struct ws_proof *proof;
    struct console console;
    char nonce[17];
    char changed_path[64], deleted_path[64]; /* files of the system itself */
    bool chosen;                             /* those were looked for */
    bool filled;                             /* the volume was */
    size_t first_item, first_round;          /* of this run */
    enum ws_link passed;                     /* the parameter reached the kernel */
    struct ws_drive_facts facts;
    struct look look; /* the latest; its snapshot is the proof's */
};

/* changes.c: what is changed in a session that becomes round `round` of the proof, and how it ends. */
enum ws_status changes_make(struct proving *p, unsigned round, unsigned kind, struct ws_error *error);
/* What earlier sessions of this run changed: does the system show it? `after`: the round before this start. */
enum ws_status changes_verify(struct proving *p, unsigned after, struct ws_error *error);
/* Something is being written when the power goes. */
enum ws_status changes_keep_writing(struct proving *p, struct ws_error *error);
/* The room that was taken is given back. */
enum ws_status changes_give_room(struct proving *p, struct ws_error *error);
enum ws_status changes_take_away(struct proving *p, struct ws_error *error);
/* Is it on the drive, after this round? */
void changes_look_at(struct proving *p, unsigned round);
/* Does the kernel have the parameters that the family wants? */
enum ws_status changes_ask_parameters(struct proving *p, struct ws_error *error);

#endif
