/* next.c — what to do next, as a whole command that can be pasted. */
#include "cli/jobs.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

/* A word as a shell takes it (POSIX.1-2017, Shell Command Language, section 2.2). */
static void add_word(struct ws_text *out, const char *word) {
    static const char plain[] = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_./:,=+%@";
    if (word[0] && strspn(word, plain) == strlen(word)) {
        ws_text_puts(out, word);
        return;
    }
    ws_text_puts(out, "'");
    for (; *word; word++) {
        if (*word == '\'') ws_text_puts(out, "'\\''");
        else ws_text_add(out, word, 1);
    }
    ws_text_puts(out, "'");
}

void next_show(const struct cli *cli, const char *const word[]) {
    struct ws_text text = {0};
    ws_text_puts(&text, "satchel");
    for (size_t i = 0; word[i]; i++) {
        if (!word[i][0]) continue;
        ws_text_puts(&text, " ");
        add_word(&text, word[i]);
    }
    const char *usual = getenv("WILD_SATCHEL_BENCH");
    if (cli->bench_folder && cli->bench_folder[0] && (!usual || strcmp(usual, cli->bench_folder) != 0)) {
        ws_text_puts(&text, " --bench ");
        add_word(&text, cli->bench_folder);
    }
    say("%sNext:%s %s\n", ink(cli, INK_BOLD), ink(cli, INK_PLAIN), text.data ? text.data : "");
    ws_text_free(&text);
}

const char *next_pc(struct cli *cli) {
    static const char *const emulated[] = {"emulated-uefi", "emulated-bios"};
    const struct ws_error kept = cli->error;
    const char *found = cli->bench && cli->bench->pcs ? cli->bench->pc[0].name : NULL;
    for (size_t i = 0; i < 2 && !found && !cli->bench; i++)
        if (prove_knows(cli, emulated[i])) found = emulated[i];
    cli->error = kept;
    return found;
}
