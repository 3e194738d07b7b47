/* carry.h — the parts of carrying a system over into a newer one. */
#ifndef WS_SYSTEM_CARRY_H
#define WS_SYSTEM_CARRY_H

#include "system/own.h"
#include "wild_satchel/renew.h"

/* Flags in `work2` of the old root's nodes. */
enum { CARRY_KEPT = 1, CARRY_OWNED = 2, CARRY_PASSED = 4, CARRY_CHANGED = 8 };

enum { CARRY_SYSTEM_IDS = 1000, CARRY_LAST_ID = 59999 };

struct carry {
    struct edit e;   /* the new root */
    struct edit was; /* the old one, which is only read */
    struct ws_carried_list *list;
    uint32_t uid[CARRY_SYSTEM_IDS], gid[CARRY_SYSTEM_IDS]; /* of the old system's own accounts: what they are now */
};

/* A row, behind those of its fate. Where there are too many the last one stands for the rest. */
void carry_tell(struct carry *carry, enum ws_fate fate, const char *path, uint64_t files, uint64_t bytes,
                const char *format, ...) WS_PRINTF(6, 7);

/* Is this place the system's own as a whole, so that the newer one's must stand there? */
bool carry_is_systems(const char *path);
/* people.c: people's accounts and groups, and which numbers the system's own have now. */
enum ws_status carry_people(struct carry *carry);
/* places.c: a name itself, links on the way to it followed; NULL: it is not there. */
struct ws_node *carry_name(const struct edit *e, const char *path);
/* What stands at a path of the old root laid over what the new one has there. `what`: NULL tells nothing. */
enum ws_status carry_place(struct carry *carry, const char *path, const char *what);
/* Homes, identity, settings, networks; and what is asked for. */
enum ws_status carry_places(struct carry *carry, const struct ws_keep_place *keep, size_t keeps);
/* Files that are the same in both are the old one's. */
enum ws_status carry_same(struct carry *carry, uint64_t *files, uint64_t *bytes);
/* packages.c: the list of those that were added, left in the new root; and flags for what packages own. */
enum ws_status carry_packages(struct carry *carry, bool *known);
/* lost.c: what has no place in the new system. */
void carry_lost(struct carry *carry, bool packages_known);

#endif
