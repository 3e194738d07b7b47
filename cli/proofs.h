/* proofs.h — proofs shown, kept as documents, and gone on with. */
#ifndef CLI_PROOFS_H
#define CLI_PROOFS_H

#include "cli/cli.h"

/* What came of it, as one word for the history and the board: "it remembers", ... */
const char *proofs_word(enum ws_verdict verdict);
/* Shown, or printed as JSON, with the verdict as the last sentence. @return an exit code */
int proofs_conclude(struct cli *cli, const struct ws_proof *proof);
/* Its document, if there is one. @param there  out: there is */
enum ws_status proofs_load(struct cli *cli, const char *path, struct ws_proof *proof, bool *there);
enum ws_status proofs_keep(struct cli *cli, const char *path, const struct ws_drive_facts *facts,
                           const struct ws_proof *proof);
/* The volume, and what a chain from the start menu to the next start shows, link by link. */
void proofs_show_chain(const struct cli *cli, const uint8_t link[WS_FORGETS_CAUSES]);

#endif
