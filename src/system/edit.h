/* edit.h — files of a root changed as text, whatever links lead to them. */
#ifndef WS_SYSTEM_EDIT_H
#define WS_SYSTEM_EDIT_H

#include "wild_satchel/system.h"

/* A root under edit. Paths begin with "/", and links on them lead where they would in the running system. */
struct edit {
    struct ws_tree *root;
    const struct ws_system_facts *facts;
    int64_t made_at;
    struct ws_findings *findings;
    struct ws_error *error;
};

bool edit_has(const struct edit *edit, const char *path);
/* A file's text, appended to `text`; nothing if there is no such file. @return WS_E_RANGE for one of over 1 MiB */
enum ws_status edit_load(const struct edit *edit, const char *path, struct ws_text *text);
/* What is there keeps its owner and mode; else a new file of root's. `node` may be NULL. */
enum ws_status edit_save(const struct edit *edit, const char *path, const struct ws_text *text, uint16_t mode,
                         struct ws_node **node);
/* The same of a formatted text. */
enum ws_status edit_write(const struct edit *edit, const char *path, uint16_t mode, const char *format, ...)
    WS_PRINTF(4, 5);
/* A symbolic link, in place of what stands there. */
enum ws_status edit_link(const struct edit *edit, const char *path, const char *target);
/* What goes by this name goes; nothing there is no failure. */
void edit_drop(const struct edit *edit, const char *path);
/* Of a folder's names those go that `goes` says it of, in one pass over the tree. @return whether any did */
bool edit_drop_in(const struct edit *edit, const char *folder, bool (*goes)(const char *name));
/* The folder, made where it is missing. */
enum ws_status edit_folder(const struct edit *edit, const char *path, struct ws_node **folder);
/* The line `key=value` of a file, in place of the one that sets the key or has it commented out, else behind all. With
 * a section it is an INI file's, else shell-like. */
enum ws_status edit_set(const struct edit *edit, const char *path, const char *section, const char *key,
                        const char *value);
/* The line that begins with `begin`, replaced by `line`; else `line` behind all. */
void edit_line(struct ws_text *text, const char *begin, const char *line);
/* The same in a file, which is made where it is missing: then `usual` stands before it. */
enum ws_status edit_put_line(const struct edit *edit, const char *path, const char *usual, const char *begin,
                             const char *line);
/* Lists of colon-separated fields, passwd(5) and its like: the entry of `name`, `length` without its end; NULL: none.
 */
const char *edit_entry(const struct ws_text *text, const char *name, size_t *length);
/* Field `number` of an entry, from 0 on. */
void edit_field(const char *line, unsigned number, char *out, size_t room);
/* The last field of an entry of group(5), names with commas between them, and whether one is among those. */
const char *edit_members(const char *entry, size_t length);
bool edit_is_member(const char *members, const char *name);

#endif
