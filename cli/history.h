/* history.h — what was done to which drive, and what came of it: one database, shared by all who work here. */
#ifndef CLI_HISTORY_H
#define CLI_HISTORY_H

#include "cli/cli.h"

/** Note what came of a command on a drive. What cannot be noted is said on standard error, and changes nothing else.
 *  @param plan  what was built; may be NULL
 *  @param done  it came to a good end */
void history_note(struct cli *cli, const char *command, const struct ws_drive_facts *facts, const struct ws_plan *plan,
                  const char *plan_path, bool good, const char *verdict);
/** What `keep renew` is noted with. */
#define HISTORY_RENEWED "is renewed"
/** Was a newer image laid under what it remembers since it was built? @param event  as history_of() has them */
bool history_renewed(const struct ws_passport_event *event, size_t count);
/** What is noted of one drive, the latest first. @param plan  out: the plan by which it was built last; empty: none, or
 *  it was renewed since
 *  @return how many; 0 also where there is no history, or it cannot be read */
size_t history_of(struct cli *cli, const struct ws_drive_facts *facts, struct ws_passport_event *event, size_t most,
                  char plan[1024]);
/** Note what was found of an image, by its SHA-256; in the place of what was found before. */
void history_note_image(struct cli *cli, const char *sha256, const char *image, const char *verdict);
/** @return false if nothing is noted of it */
bool history_of_image(struct cli *cli, const char *sha256, char verdict[300]);
/** `satchel drives --history`: all, or those of one drive, the latest first. @return an exit code */
int history_show(struct cli *cli, const char *drive);

#endif
