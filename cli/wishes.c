/* wishes.c — options of `satchel plan` read into a request; what goes with what is the library's to say. */
#include "cli/wishes.h"

#include "wild_satchel/port/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

struct wishes wished;
const struct poptOption twin_options[] = {
    {"same-identity", 0, POPT_ARG_NONE, &wished.same_identity, 0,
     "of a twin: keep the original's identifiers; never plug both drives in at once then", NULL},
    {"new-host", 0, POPT_ARG_NONE, &wished.new_host, 0,
     "of a twin: machine id and host keys of its own, made at its first start", NULL},
    {"refresh", 0, POPT_ARG_NONE, &wished.refresh, 0,
     "bring the twin that is on the drive up to date: only what changed is written", NULL},
    {"leave-out", 0, POPT_ARG_STRING, &wished.leave_out, 0,
     "of a twin: caches, logs, temporary, crashes, trash, swap-files, kernels (old ones); with commas", "WORDS"},
    POPT_TABLEEND};
const struct poptOption wish_options[] = {
    {"request", 'r', POPT_ARG_STRING, &wished.request, 0, "begin with a saved request; further options change it",
     "FILE"},
    {"image", 'i', POPT_ARG_STRING, &wished.image, 0, "the image to lay down; with kind twin or replica, a drive too",
     "FILE"},
    {"kind", 'k', POPT_ARG_STRING, &wished.kind, 0,
     "live (remembers), system (a full one, of a root), twin (of an existing drive), renewal (of the full system that "
     "is "
     "on the drive) or replica; what suits the image if left out",
     "live|system|replica|twin|renewal"},
    {"arrangement", 'a', POPT_ARG_STRING, &wished.arrangement, 0,
     "whole: the image as it is (the default); files: its files on an ordinary FAT32 volume", "whole|files"},
    {"files-on", 0, POPT_ARG_STRING, &wished.files_on, 0, "with files: fat32 (the default) or exfat", "fat32|exfat"},
    {"system", 0, POPT_ARG_STRING, &wished.system, 0,
     "with files or a full system: the size of its volume (what is needed; the rest)", "SIZE"},
    {"persistence", 'p', POPT_ARG_STRING, &wished.persistence, 0,
     "room for what is remembered, \"rest\" (the default), or \"none\"; `satchel size` helps", "SIZE"},
    {"in", 0, POPT_ARG_STRING, &wished.in, 0,
     "where that is, or with kind system the whole system: partition (the default), or file: inside an ordinary "
     "volume",
     "partition|file"},
    {"overlay-from", 0, POPT_ARG_STRING, &wished.overlay_from, 0,
     "a ready-made data file to put there instead of a fresh one; a compressed one is unpacked", "FILE"},
    {"data", 0, POPT_ARG_STRING, &wished.data, 0, "an ordinary partition too, of this size or \"rest\"", "SIZE"},
    {"data-on", 0, POPT_ARG_STRING, &wished.data_on, 0, "what it is: fat32 (the default) or exfat (files over 4 GiB)",
     "fat32|exfat"},
    {"data-label", 0, POPT_ARG_STRING, &wished.label, 0, "its label", "TEXT"},
    {"cluster", 0, POPT_ARG_STRING, &wished.cluster, 0, "bytes in a cluster of the data partition (usual for its size)",
     "SIZE"},
    {"swap", 0, POPT_ARG_STRING, &wished.swap, 0, "a swap partition too", "SIZE"},
    {"locked", 0, POPT_ARG_NONE, &wished.locked, 0,
     "a passphrase opens it, asked for when it is built and at each start: the system of kind system, or the "
     "partition in which a live one remembers",
     NULL},
    {"grow", 0, POPT_ARG_NONE, &wished.grows, 0,
     "with kind system: copied to a larger drive, it takes the room of that one when it starts there", NULL},
    {NULL, 0, POPT_ARG_INCLUDE_TABLE, (void *)(uintptr_t)twin_options, 0, NULL, NULL},
    {"table", 0, POPT_ARG_STRING, &wished.table, 0, "with files or a full system: mbr or gpt (mbr up to 2 TiB)",
     "mbr|gpt"},
    {"rules", 0, POPT_ARG_STRING, &wished.rules, 0,
     "with files: what the system wants on its drive (label, renamed folders, marker files)", "FILE"},
    {"family", 0, POPT_ARG_STRING, &wished.family, 0,
     "with files: how a live family not known here starts and remembers, described in a document", "FILE"},
    {"uefi-code", 0, POPT_ARG_STRING, &wished.uefi, 0,
     "with files or a full system: what UEFI starts: image (its own loader), own (our code), or auto",
     "auto|image|own"},
    {"check-at-start", 0, POPT_ARG_STRING, &wished.check, 0,
     "with files: off, quick (kernel, initial RAM disk) or full (the system, too), by our start-up code",
     "off|quick|full"},
    {"menu-wait", 0, POPT_ARG_STRING, &wished.wait, 0, "with files or a full system: how long its menu waits (5)",
     "SECONDS"},
    {"start-journal", 0, POPT_ARG_NONE, &wished.journal, 0,
     "the system notes each of its starts (when, on what PC), for `keep show` and `prove`", NULL},
    {"kernel-options", 0, POPT_ARG_STRING, &wished.kernel_options, 0,
     "with kind system: further parameters for its kernel", "TEXT"},
    {"edition", 0, POPT_ARG_STRING, &wished.edition, 0,
     "with kind system: which of the image's editions; `satchel image` lists them", "NAME"},
    {"keep-path", 0, POPT_ARG_ARGV, &wished.keep, 0,
     "with kind renewal: a folder or file to carry over besides what is anyway; may be repeated", "PATH"},
    {"why", 0, POPT_ARG_NONE, &wished.why, 0,
     "show the reasons too: what was chosen, where it starts by what, what is changed", NULL},
    {NULL, 0, POPT_ARG_INCLUDE_TABLE, (void *)(uintptr_t)owner_options, 0, NULL, NULL},
    {NULL, 0, POPT_ARG_INCLUDE_TABLE, (void *)(uintptr_t)addition_options, 0, NULL, NULL},
    POPT_TABLEEND};

enum ws_status cli_pick_among(struct cli *cli, const char *option, const char *word, const char *const name[],
                              unsigned count, unsigned *out) {
    char all[120] = "";
    for (unsigned i = 0; i < count; i++) {
        if (strcmp(word, name[i]) == 0) {
            *out = i;
            return WS_OK;
        }
        size_t n = strlen(all);
        (void)snprintf(all + n, sizeof all - n, "%s%s", !i ? "" : i + 1 == count ? " or " : ", ", name[i]);
    }
    ws_fail(&cli->error, WS_E_USAGE, "%s takes %s, not \"%s\"", option, all, word);
    size_t least = ws_word_slip(word) + 1;
    const char *near = NULL;
    for (unsigned i = 0; i < count; i++)
        if (ws_word_distance(name[i], word) < least) least = ws_word_distance(name[i], word), near = name[i];
    return near ? ws_fail_next(&cli->error, "did you mean %s", near) : WS_E_USAGE;
}

enum ws_status cli_pick(struct cli *cli, const char *option, const char *word, const char *(*name)(unsigned),
                        unsigned first, unsigned count, unsigned *out) {
    const char *names[CLI_CHOICES];
    unsigned n = 0;
    while (first + n < count && n < CLI_CHOICES) names[n] = name(first + n), n++;
    WS_TRY(cli_pick_among(cli, option, word, names, n, out));
    *out += first;
    return WS_OK;
}

static const char *place_word(unsigned i) { return ws_place_name((enum ws_place)i); }
static const char *table_word(unsigned i) { return ws_table_wish_name((enum ws_table_wish)i); }
static const char *code_word(unsigned i) { return ws_uefi_code_name((enum ws_uefi_code)i); }
static const char *check_word(unsigned i) { return ws_check_name((enum ws_check_at_start)i); }
static const char *plain_word(unsigned i) {
    static const char *const words[] = {"fat32", "exfat"};
    return words[i];
}
static const char *kind_word(unsigned i) {
    static const char *const words[] = {"live", "replica", "system", "twin", "renewal"};
    return words[i];
}
static const char *arrangement_word(unsigned i) {
    static const char *const words[] = {"whole", "files"};
    return words[i];
}

static enum ws_status read_kind(struct cli *cli, const struct wishes *w, struct ws_request *r) {
    static const enum ws_kind kinds[] = {WS_KIND_LIVE, WS_KIND_REPLICA, WS_KIND_SYSTEM, WS_KIND_TWIN, WS_KIND_RENEWAL};
    static const enum ws_kind live[] = {WS_KIND_LIVE_WHOLE, WS_KIND_LIVE_FILES};
    unsigned kind = 0;
    unsigned arrangement = 0;
    if (w->kind) WS_TRY(cli_pick(cli, "--kind", w->kind, kind_word, 0, 5, &kind));
    if (w->arrangement) WS_TRY(cli_pick(cli, "--arrangement", w->arrangement, arrangement_word, 0, 2, &arrangement));
    if (ws_kind_is_system(kinds[kind]) && w->arrangement)
        return ws_fail(&cli->error, WS_E_USAGE, "a full system is not arranged: its files are a root's");
    if (kind == 1 && arrangement == 1) return ws_fail(&cli->error, WS_E_USAGE, "a replica is no arrangement of files");
    if (w->arrangement && kind == 0) r->kind = live[arrangement];
    else if (w->kind) r->kind = kinds[kind];
    return WS_OK;
}

static enum ws_status read_volumes(struct cli *cli, const struct wishes *w, struct ws_request *r) {
    const struct {
        const char *option, *text;
        enum ws_role role;
    } sizes[] = {{"--persistence", w->persistence, WS_ROLE_PERSISTENCE},
                 {"--data", w->data, WS_ROLE_DATA},
                 {"--system", w->system, WS_ROLE_SYSTEM},
                 {"--swap", w->swap, WS_ROLE_SWAP}};
    unsigned word = 0;
    for (size_t i = 0; i < sizeof sizes / sizeof sizes[0]; i++)
        if (sizes[i].text &&
            ws_size_read(sizes[i].text, &ws_request_want(r, sizes[i].role)->size, &cli->error) != WS_OK)
            return ws_fail_where(&cli->error, "%s", sizes[i].option);
    const enum ws_role its_own = r->kind == WS_KIND_SYSTEM ? WS_ROLE_SYSTEM : WS_ROLE_PERSISTENCE;
    if (w->locked) ws_request_want(r, its_own)->locked = true;
    if (w->grows) ws_request_want(r, WS_ROLE_SYSTEM)->grows = true;
    if (w->in) {
        WS_TRY(cli_pick(cli, "--in", w->in, place_word, WS_PLACE_PARTITION, WS_PLACES, &word));
        ws_request_want(r, its_own)->place = (enum ws_place)word;
    }
    if (w->files_on) {
        WS_TRY(cli_pick(cli, "--files-on", w->files_on, plain_word, 0, 2, &word));
        (void)snprintf(ws_request_want(r, WS_ROLE_SYSTEM)->format, sizeof r->volume[0].format, "%s", w->files_on);
    }
    if (w->data_on) {
        WS_TRY(cli_pick(cli, "--data-on", w->data_on, plain_word, 0, 2, &word));
        (void)snprintf(ws_request_want(r, WS_ROLE_DATA)->format, sizeof r->volume[0].format, "%s", w->data_on);
    }
    if (w->cluster) {
        uint64_t bytes = 0;
        if (ws_size_parse(w->cluster, &bytes, &cli->error) != WS_OK) return ws_fail_where(&cli->error, "--cluster");
        const struct ws_wanted *data = ws_request_wanted(r, WS_ROLE_DATA);
        if (!data || bytes < 512 || bytes > 65536 || (bytes & (bytes - 1)))
            return ws_fail(&cli->error, WS_E_USAGE,
                           "--cluster goes with --data, and is a power of two from 512 to 64K");
        ws_request_want(r, WS_ROLE_DATA)->cluster = (uint32_t)bytes;
    }
    if (w->label) {
        char *label = ws_request_want(r, WS_ROLE_DATA)->label;
        if (strlen(w->label) >= WS_LABEL_ROOM)
            return ws_fail(&cli->error, WS_E_USAGE, "a label of more than %d bytes fits no file system",
                           WS_LABEL_ROOM - 1);
        (void)snprintf(label, WS_LABEL_ROOM, "%s", w->label);
    }
    return WS_OK;
}

static enum ws_status read_start(struct cli *cli, const struct wishes *w, struct ws_request *r) {
    unsigned word = 0;
    if (w->table) {
        WS_TRY(cli_pick(cli, "--table", w->table, table_word, WS_TABLE_WISH_MBR, WS_TABLE_WISHES, &word));
        r->table = (enum ws_table_wish)word;
    }
    if (w->uefi) {
        WS_TRY(cli_pick(cli, "--uefi-code", w->uefi, code_word, 0, WS_UEFI_CODES, &word));
        r->uefi_code = (enum ws_uefi_code)word;
    }
    if (w->check) {
        WS_TRY(cli_pick(cli, "--check-at-start", w->check, check_word, 0, WS_CHECK_FULL + 1, &word));
        r->check = (enum ws_check_at_start)word;
    }
    if (w->kernel_options) {
        if (strlen(w->kernel_options) >= sizeof r->kernel_options)
            return ws_fail(&cli->error, WS_E_USAGE, "--kernel-options takes at most %zu bytes",
                           sizeof r->kernel_options - 1);
        (void)snprintf(r->kernel_options, sizeof r->kernel_options, "%s", w->kernel_options);
    }
    if (w->edition) {
        if (strlen(w->edition) >= sizeof r->edition)
            return ws_fail(&cli->error, WS_E_USAGE, "no edition has a name of over %zu bytes", sizeof r->edition - 1);
        (void)snprintf(r->edition, sizeof r->edition, "%s", w->edition);
    }
    if (w->journal) r->start_journal = true;
    if (w->wait) {
        char *end;
        unsigned long seconds = strtoul(w->wait, &end, 10);
        if (*end || end == w->wait || w->wait[0] == '-' || seconds > WS_MENU_SECONDS_MOST)
            return ws_fail(&cli->error, WS_E_USAGE, "--menu-wait takes seconds, 0 to %d, not \"%s\"",
                           WS_MENU_SECONDS_MOST, w->wait);
        r->menu_seconds = (unsigned)seconds;
    }
    return WS_OK;
}

/* Places in the running system; a "/" at the end is forgiven. */
static enum ws_status read_keeps(struct cli *cli, const struct wishes *w, struct ws_request *r) {
    if (w->keep) r->keeps = 0;
    for (size_t i = 0; w->keep && w->keep[i]; i++) {
        size_t n = strlen(w->keep[i]);
        if (r->keeps == WS_KEEPS_MOST || n >= WS_KEEP_ROOM)
            return ws_fail(&cli->error, WS_E_USAGE, "--keep-path takes at most %d paths of at most %d bytes",
                           WS_KEEPS_MOST, WS_KEEP_ROOM - 1);
        struct ws_keep_place *k = &r->keep[r->keeps++];
        (void)snprintf(k->path, sizeof k->path, "%s", w->keep[i]);
        if (n > 1 && k->path[n - 1] == '/') k->path[n - 1] = '\0';
    }
    return WS_OK;
}

static const char *leave_word(unsigned i) { return ws_leave_name((enum ws_leave)i); }

/* Words with commas between them. */
enum ws_status cli_read_leave_out(struct cli *cli, const char *option, const char *text, uint32_t *which) {
    *which = 0;
    for (const char *p = text; *p;) {
        char word[32];
        const size_t n = strcspn(p, ", ");
        unsigned k = 0;
        (void)snprintf(word, sizeof word, "%.*s", (int)(n < sizeof word ? n : sizeof word - 1), p);
        if (n) WS_TRY(cli_pick(cli, option, word, leave_word, 0, WS_LEAVES, &k));
        if (n) *which |= 1u << k;
        p += n + (p[n] != '\0');
    }
    return WS_OK;
}

static enum ws_status load_rules(struct cli *cli, const char *path, struct ws_rules *rules) {
    struct ws_text text = {0};
    enum ws_status status = cli_read_document(cli, path, 1 << 20, "rules", &text);
    if (status == WS_OK) status = ws_rules_from_json(text.data ? text.data : "", text.length, rules, &cli->error);
    if (status != WS_OK) ws_fail_where(&cli->error, "%s", path);
    ws_text_free(&text);
    return status;
}

static enum ws_status load_family(struct cli *cli, const char *path, char out[WS_FAMILY_TEXT]) {
    struct ws_text text = {0};
    struct ws_own_family *own = calloc(1, sizeof *own);
    enum ws_status status = own ? cli_read_document(cli, path, 1 << 20, "family", &text) : WS_E_NOMEM;
    if (status == WS_OK) status = ws_own_family_read(text.data ? text.data : "", text.length, own, &cli->error);
    if (status == WS_OK) memcpy(out, own->document, sizeof own->document);
    else ws_fail_where(&cli->error, "%s", path);
    ws_text_free(&text);
    free(own);
    return status;
}

static enum ws_status load_request(struct cli *cli, const char *path, struct ws_request *r) {
    struct ws_text text = {0};
    enum ws_status status = cli_read_document(cli, path, 1 << 20, "request", &text);
    if (status == WS_OK) status = ws_request_from_json(text.data ? text.data : "", text.length, r, &cli->error);
    if (status != WS_OK) ws_fail_where(&cli->error, "%s", path);
    ws_text_free(&text);
    return status;
}

/* A path as documents keep it: whole, or not at all. */
enum ws_status cli_take_path(struct cli *cli, const char *path, struct ws_input *input) {
    char *real = realpath(path, NULL);
    int length = snprintf(input->path, sizeof input->path, "%s", real ? real : path);
    free(real);
    if (length >= 0 && (size_t)length < sizeof input->path) return WS_OK;
    ws_fail(&cli->error, WS_E_RANGE, "a plan keeps paths of at most %zu bytes", sizeof input->path - 1);
    ws_fail_where(&cli->error, "%s", path);
    return ws_fail_next(&cli->error, "move it, or give it a shorter name");
}

/* The SHA-256 that people compare goes through a file from end to end: one processor does that, beside the pieces. */
struct whole {
    const struct ws_source *source;
    char *hex;
    enum ws_status status;
    struct ws_error error;
};
static void hash_whole(void *context) {
    struct whole *w = context;
    w->status = ws_source_hash(w->source, WS_HASH_SHA256, w->hex, &w->error);
}

static enum ws_status know_bytes(struct cli *cli, struct ws_input *input, const struct ws_source *source) {
    struct whole w = {.source = source, .hex = input->sha256};
    struct ws_pieces pieces = {0};
    struct ws_task *task = NULL;
    WS_TRY(cli->port->ops->start(cli->port, hash_whole, &w, &task, &cli->error));
    enum ws_status status = ws_pieces_of_source(cli->port, source, WS_ROLE_SYSTEM, &pieces, &cli->error);
    cli->port->ops->join(cli->port, task);
    if (status == WS_OK) status = ws_pieces_root(&pieces, input->pieces_sha256, &cli->error);
    if (status == WS_OK) status = ws_pieces_outline(&pieces, input->outline, &cli->error);
    if (status == WS_OK && w.status != WS_OK) cli->error = w.error;
    ws_pieces_free(&pieces);
    return status == WS_OK ? w.status : status;
}

/* What a file is: its size and digest, and when it was last changed. */
static enum ws_status know(struct cli *cli, struct ws_input *input, const struct ws_source *source) {
    input->size = source->size;
    input->touched_at = input->is_drive ? 0 : cli_touched_at(input->path);
    if (input->is_drive) { /* to read all of it would take hours */
        input->pieces_sha256[0] = input->outline[0] = '\0';
        return ws_source_state(source, input->sha256, &cli->error);
    }
    struct ws_source *counted = NULL;
    busy_begin(cli, "reading %.100s to know it again", input->path);
    enum ws_status status = busy_count(source, 2, &counted, &cli->error);
    if (status == WS_OK) status = know_bytes(cli, input, counted);
    ws_source_close(counted);
    busy_end();
    return status;
}

/* A saved request goes by what it knows of its inputs, unless they were touched since. */
static enum ws_status know_again(struct cli *cli, struct ws_input *input, const struct ws_source *source) {
    struct ws_input now = *input;
    if (input->touched_at && cli_touched_at(input->path) == input->touched_at && input->size == source->size)
        return WS_OK;
    WS_TRY(know(cli, &now, source));
    if (strcmp(now.sha256, input->sha256) != 0) {
        if (input->is_drive) ws_fail(&cli->error, WS_E_FORMAT, "the original was used since this was asked for");
        else
            ws_fail(&cli->error, WS_E_FORMAT,
                    "this is no longer the file that was asked for: its SHA-256 is now %.16s...", now.sha256);
        ws_fail_where(&cli->error, "%s", input->path);
        return ws_fail_next(&cli->error, "name it as it is, on the command line");
    }
    *input = now;
    return WS_OK;
}

static enum ws_status open_additions(struct cli *cli, struct ws_request *r, struct ws_source *source[WS_INPUTS_MOST]) {
    for (size_t i = 0; i < r->additions; i++) {
        struct ws_input *file = &r->addition[i].file;
        struct ws_source **to = &source[WS_INPUTS + i];
        WS_TRY(cli_open_addition(cli, &r->addition[i], to));
        enum ws_status status = file->sha256[0] ? know_again(cli, file, *to) : know(cli, file, *to);
        if (status != WS_OK) return ws_fail_where(&cli->error, "%s", file->path);
    }
    return WS_OK;
}

/* Known by its state, which is found out when it is decided. */
static enum ws_status open_original(struct cli *cli, const char *word, struct ws_input *image,
                                    struct ws_source **source) {
    WS_TRY(cli_open_original(cli, word ? word : image->path, image, source));
    image->size = (*source)->size;
    image->touched_at = image->is_drive ? 0 : cli_touched_at(image->path);
    if (word) image->sha256[0] = '\0';
    return WS_OK;
}

static enum ws_status open_inputs(struct cli *cli, const struct wishes *w, struct ws_request *r,
                                  struct ws_source *source[WS_INPUTS_MOST]) {
    struct ws_input *image = &r->input[WS_INPUT_IMAGE];
    struct ws_input *overlay = &r->input[WS_INPUT_OVERLAY];
    struct ws_packed_facts packed;
    struct stat s;
    if (w->running) {
        image->of_files = true;
        return cli_take_path(cli, w->running, image); /* it is read when it is decided */
    }
    if (w->image) WS_TRY(cli_take_path(cli, w->image, image));
    if (image->path[0] && r->kind == WS_KIND_TWIN) return open_original(cli, w->image, image, &source[WS_INPUT_IMAGE]);
    if (!image->path[0] && r->kind == WS_KIND_BLANK) return WS_OK; /* it is made from none */
    if (!image->path[0]) return ws_fail(&cli->error, WS_E_USAGE, "a plan needs --image FILE, or --request FILE");
    const char *word = w->image ? w->image : image->path;
    image->is_drive = r->kind == WS_KIND_REPLICA && (stat(word, &s) != 0 || S_ISBLK(s.st_mode));
    if (image->is_drive) {
        WS_TRY(cli_open_original(cli, word, image, &source[WS_INPUT_IMAGE]));
    } else {
        WS_TRY(cli_open_image(cli, image->path, r->kind, &source[WS_INPUT_IMAGE], &packed));
        image->of_files = (packed.format[0] && !packed.one_image) || (stat(image->path, &s) == 0 && S_ISDIR(s.st_mode));
    }
    if (w->most && r->kind == WS_KIND_REPLICA && source[WS_INPUT_IMAGE]->size > w->most) {
        char size[48], is[48]; /* before hours go by */
        ws_fail(&cli->error, WS_E_SPACE, "%s byte for byte do not fit on a drive of %s",
                ws_size_both(source[WS_INPUT_IMAGE]->size, size, sizeof size), ws_size_both(w->most, is, sizeof is));
        return ws_fail_next(&cli->error,
                            "take a larger drive, or go without --exact: a twin takes the room that is used");
    }
    WS_TRY(w->image ? know(cli, image, source[WS_INPUT_IMAGE]) : know_again(cli, image, source[WS_INPUT_IMAGE]));
    WS_TRY(open_additions(cli, r, source));
    if (w->overlay_from) WS_TRY(cli_take_path(cli, w->overlay_from, overlay));
    if (!overlay->path[0]) return WS_OK;
    WS_TRY(ws_linux_open_overlay(overlay->path, &source[WS_INPUT_OVERLAY], &cli->error));
    return w->overlay_from ? know(cli, overlay, source[WS_INPUT_OVERLAY])
                           : know_again(cli, overlay, source[WS_INPUT_OVERLAY]);
}

enum ws_status cli_read_wishes(struct cli *cli, const struct wishes *w, struct ws_request *r,
                               struct ws_source *source[WS_INPUTS_MOST]) {
    ws_request_begin(r, WS_KIND_USUAL);
    if (w->request) WS_TRY(load_request(cli, w->request, r));
    WS_TRY(read_kind(cli, w, r));
    WS_TRY(read_volumes(cli, w, r));
    WS_TRY(read_start(cli, w, r));
    WS_TRY(read_keeps(cli, w, r));
    WS_TRY(cli_read_owner(cli, &r->owner));
    WS_TRY(cli_read_additions(cli, r));
    if (w->leave_out) WS_TRY(cli_read_leave_out(cli, "--leave-out", w->leave_out, &r->twin.leave_out));
    r->twin.same_identity |= w->same_identity != 0;
    r->twin.new_host |= w->new_host != 0;
    r->twin.refresh |= w->refresh != 0;
    if (w->rules) WS_TRY(load_rules(cli, w->rules, &r->rules));
    if (w->family) WS_TRY(load_family(cli, w->family, r->family));
    return open_inputs(cli, w, r, source);
}
