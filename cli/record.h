/* record.h — what a build left behind, kept beside its plan (docs/json-output.md). */
#ifndef CLI_RECORD_H
#define CLI_RECORD_H

#include "cli/cli.h"

extern const char record_format[];
struct record {
    char drive[64]; /* its short name */
    bool forgets;
    enum ws_kind kind;
    struct ws_pieces pieces;
};
/* What came of a build, without its pieces. */
json_t *record_json(const struct ws_plan *plan, const struct ws_build_result *result);
/* An older one is no longer true from the first write on. What is no record of ours stays. */
enum ws_status record_forget(const char *path, struct ws_error *error);
/* The same with them, kept. */
enum ws_status record_keep(struct cli *cli, const char *path, json_t *record, const struct ws_pieces *pieces,
                           const struct cli_never *never);
/* On success free its pieces. */
enum ws_status record_load(struct cli *cli, const char *path, struct record *record);

#endif
