/* mistaken.c — what a file is that was taken for something else, found by its content. */
#include "cli/cli.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <string.h>
#include <sys/stat.h>

/* Documents of ours, by their "format" behind "wild-satchel-": what each is, in a word, and the command for it. */
static const struct known {
    const char *format, *what, *word, *command;
} documents[] = {{"plan", "a plan", "plan", "satchel build"},
                 {"built", "the record of a build", "record", "satchel check DRIVE --record"},
                 {"request", "a request", "request", "satchel prepare --request"},
                 {"trial", "a drive's trial", "trial", "satchel plan --trial"},
                 {"rules", "rules of a system", "rules", "satchel plan --rules"},
                 {"family", "the description of a live family", "description of a family", "satchel plan --family"},
                 {"proof", "a proof", "proof", "satchel prove DRIVE --on own-pc --proof"},
                 {"bench", "a bench file", "bench file", "satchel bench setup"}};

static const struct known *document_at(const char *path) {
    char format[64];
    if (!ws_linux_document(path, format)) return NULL;
    for (size_t i = 0; i < sizeof documents / sizeof documents[0]; i++)
        if (strncmp(format, "wild-satchel-", 13) == 0 && strcmp(format + 13, documents[i].format) == 0)
            return &documents[i];
    return NULL;
}

static bool is_image(const char *path) {
    struct ws_source *source = NULL;
    struct ws_packed_facts packed;
    struct ws_image image = {0};
    struct ws_error ignored;
    struct stat s;
    bool is = stat(path, &s) == 0 && S_ISREG(s.st_mode) && s.st_size > 4096 &&
              ws_linux_open_image(path, &source, &packed, &ignored) == WS_OK &&
              ws_image_inspect(source, &image, &ignored) == WS_OK && image.kind != WS_IMAGE_UNKNOWN;
    ws_image_free(&image);
    ws_source_close(source);
    return is;
}

/* A word that is no file may be a drive. */
static bool is_drive(struct cli *cli, const char *word) {
    struct ws_drive_facts facts;
    struct ws_error kept = cli->error;
    struct stat s;
    bool is = stat(word, &s) != 0 && cli_open_port(cli) == WS_OK &&
              ws_drive_find(cli->port, word, &facts, &cli->error) == WS_OK;
    cli->error = kept;
    return is;
}

static enum ws_status refuse(struct cli *cli, const char *path, const char *is, const char *wanted) {
    for (size_t i = 0; i < sizeof documents / sizeof documents[0]; i++)
        if (strcmp(wanted, documents[i].format) == 0) wanted = documents[i].word;
    ws_fail(&cli->error, WS_E_USAGE, "this is %s, and no %s", is, wanted);
    return ws_fail_where(&cli->error, "%s", path);
}

enum ws_status cli_is_no_other(struct cli *cli, const char *path, const char *wanted) {
    const struct known *d = document_at(path);
    if (d && strcmp(d->format, wanted) != 0) {
        (void)refuse(cli, path, d->what, wanted);
        return ws_fail_next(&cli->error, "%s %s", d->command, path);
    }
    const bool document =
        strcmp(wanted, "drive") != 0 && strcmp(wanted, "image") != 0 && strcmp(wanted, "saved state") != 0;
    if (document && !d && is_image(path)) {
        (void)refuse(cli, path, "an image", wanted);
        return ws_fail_next(&cli->error, "satchel plan --image %.150s --drive DRIVE --save PLAN", path);
    }
    if (strcmp(wanted, "drive") != 0 && is_drive(cli, path)) {
        (void)refuse(cli, path, "a drive", wanted);
        return ws_fail_next(&cli->error, "satchel drives %s shows it; satchel twin %s --drive DRIVE carries it over",
                            path, path);
    }
    return WS_OK;
}

bool cli_what_is(const char *path, const char *image, char next[200]) {
    const struct known *d = document_at(path);
    if (d) (void)snprintf(next, 200, "it is %s: %s %.100s", d->what, d->command, path);
    else if (is_image(path)) (void)snprintf(next, 200, "it is an image: %s %.100s", image, path);
    else return false;
    return true;
}

enum ws_status cli_read_document(struct cli *cli, const char *path, size_t most, const char *wanted,
                                 struct ws_text *text) {
    WS_TRY(cli_is_no_other(cli, path, wanted));
    return cli_read_file(path, most, text, &cli->error);
}
