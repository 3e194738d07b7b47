/* own.h — the parts of making a root its owner's. */
#ifndef WS_SYSTEM_OWN_H
#define WS_SYSTEM_OWN_H

#include "system/edit.h"

/* settings.c: host name, language, keys, time, clock; services that send reports. What the root's own programs have to
 * make of it is added to the steps of the first start. */
enum ws_status own_settings(const struct edit *edit, const struct ws_owner *owner, struct ws_text *steps);
/* leftovers.c: names of what only a live system needs, with commas; and taken out, where a root has any of them. */
void system_leftovers(const struct ws_tree *root, char *out, size_t room);
enum ws_status own_leftovers(const struct edit *edit, const struct ws_owner *owner);
/* accounts.c: accounts with their homes, groups and rights. */
enum ws_status own_accounts(const struct edit *edit, const struct ws_owner *owner, struct ws_owned *owned);
/* login.c: this account on the screen without being asked. */
enum ws_status own_login(const struct edit *edit, const char *account);
/* added.c: files of the user's own. Scripts for the first start are steps of it. */
enum ws_status own_added(const struct edit *edit, const struct ws_settling *settling, struct ws_text *steps);
/* disks.c: the disks of the PC. `table_id` is that of the drive's own table, as device rules see it. */
enum ws_status own_disks(const struct edit *edit, enum ws_internal_disks wanted, const char *table_id,
                         struct ws_owned *owned);
/* grow.c: what lets it take the room of a larger drive, when it starts; refused where that cannot be, or only said. */
enum ws_status own_growth(const struct edit *edit, bool as_before);
/* hooks.c: kernels that come and go later reach the menu. */
extern const uint8_t own_script_entries[]; /* entries.sh */
extern const size_t own_script_entries_length;
extern const uint8_t own_script_start_journal[]; /* start_journal.sh */
extern const size_t own_script_start_journal_length;
/* inside.c: what finds a system that stands in a file, for each of its kernels; and what protects that file. */
enum ws_status own_inside(const struct edit *edit);
/* A file that an init starts by itself; the link that makes it do so, where it needs one. A row counts where the root
 * has this init, and `sign`. */
struct own_service {
    enum ws_init init;
    const char *sign, *file;
    uint16_t mode;
    const char *text, *link, *target;
};
/* The first row that counts. @return whether there is one; else, and on an error, nothing was put */
enum ws_status own_put_service(const struct edit *edit, const struct own_service *rows, size_t count, bool *put);
/* Else a line of inittab(5), where there is one: `lines` for that of sysv, and that of busybox. */
enum ws_status own_put_start(const struct edit *edit, const struct own_service *rows, size_t count,
                             const char *const lines[2], bool *put);

enum ws_status own_hooks(const struct edit *edit, const char *title, const char *options,
                         const struct ws_settling *settling);
/* first.c: an identity of its own, and a service that takes these steps once (shell commands, a line each). */
bool own_is_host_key(const char *name); /* one by which others know this host */
enum ws_status own_identity(const struct edit *edit, struct ws_text *steps);
enum ws_status own_first_start(const struct edit *edit, const struct ws_text *steps);

#endif
