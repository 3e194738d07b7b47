/* proofs.c — proofs shown, kept as documents, and gone on with. */
#include "cli/proofs.h"

#include "wild_satchel/port/linux.h"

#include <malloc.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <sys/stat.h>

static const char format_name[] = "wild-satchel-proof";
enum { DOCUMENT_MOST = 256 << 20 };

const char *proofs_word(enum ws_verdict verdict) {
    static const char *const words[] = {"it remembers", "it forgets", "no start", "not proved yet"};
    return words[verdict];
}

/* What was read of many files, or of a long document, is freed by now: the allocator would keep it, and long pieces,
 * once one was freed, among the short ones. */
static void give_back(void) {
#ifdef __GLIBC__
    (void)mallopt(M_MMAP_THRESHOLD, 1 << 17);
    (void)malloc_trim(0);
#endif
}

enum ws_status proofs_load(struct cli *cli, const char *path, struct ws_proof *proof, bool *there) {
    struct ws_text text = {0};
    struct stat s;
    *there = stat(path, &s) == 0;
    if (!*there) return WS_OK;
    enum ws_status status = cli_read_document(cli, path, DOCUMENT_MOST, "proof", &text);
    if (status == WS_OK) status = ws_proof_read(text.data ? text.data : "", text.length, proof, &cli->error);
    if (status != WS_OK) ws_fail_where(&cli->error, "%s", path);
    ws_text_free(&text);
    give_back();
    return status;
}

enum ws_status proofs_keep(struct cli *cli, const char *path, const struct ws_drive_facts *facts,
                           const struct ws_proof *proof) {
    struct ws_text text = {0};
    struct cli_never never = {.count = 0};
    cli_never(&never, facts->id);
    give_back();
    enum ws_status status = ws_proof_write(proof, true, &text, &cli->error);
    if (status == WS_OK) status = cli_keep(cli, path, text.data, text.length, format_name, false, &never);
    ws_text_free(&text);
    return status;
}

static void show_survival(const struct cli *cli, enum ws_survival s) {
    static const char *const words[] = {"survives", "lost", "-"};
    static const enum ink colours[] = {INK_GOOD, INK_BAD, INK_DIM};
    say("%s%-10s%s", ink(cli, colours[s]), words[s], ink(cli, INK_PLAIN));
}

static void show_disk(const struct cli *cli, const struct ws_proof *p) {
    static const char *const words[] = {[WS_DISK_NOT_ASKED] = "",
                                        [WS_DISK_UNSEEN] = "; the system did not see it",
                                        [WS_DISK_READ_ONLY] = "; to the system it was read-only",
                                        [WS_DISK_WRITABLE] = "; the system could have written to it",
                                        [WS_DISK_MOUNTED] = "; the system had it mounted"};
    if (p->has_disk)
        show_field(cli, "The PC's disk", "%s%s%s%s", ink(cli, p->disk_touched ? INK_BAD : INK_GOOD),
                   p->disk_touched ? "was written to" : "untouched, to the last byte", ink(cli, INK_PLAIN),
                   words[p->disk_seen]);
}

void proofs_show_chain(const struct cli *cli, const uint8_t link[WS_FORGETS_CAUSES]) {
    static const char *const words[] = {"not known", "holds", "fails"};
    static const enum ink colours[] = {INK_DIM, INK_GOOD, INK_BAD};
    say("\n  %s%-10s %s%s\n", ink(cli, INK_DIM), "link", "of the chain", ink(cli, INK_PLAIN));
    for (unsigned i = WS_FORGETS_NO_SYSTEM; i < WS_FORGETS_CAUSES; i++)
        show_row(cli, 13, "  %s%-10s%s %s", ink(cli, colours[link[i]]), words[link[i]], ink(cli, INK_PLAIN),
                 ws_forgets_link((enum ws_forgets)i));
}

/* How a session was, in words: as it was meant, else as the drive shows it. */
static const char *session_of(const struct ws_round *r, char out[64]) {
    static const char *const words[WS_ROUND_BITS] = {"power cut", "nearly full", "no change", "wrong clock"};
    const unsigned bits = r->asked ? r->asked : r->shown;
    size_t n = 0;
    out[0] = '\0';
    for (unsigned b = 0; b < WS_ROUND_BITS; b++)
        if (bits >> b & 1)
            n += (size_t)snprintf(out + n, 64 - n, "%s%s", n ? ", " : "",
                                  b == 0 && !r->asked ? "not shut down" : words[b]);
    if (!n) (void)snprintf(out, 64, "shut down");
    return out;
}

static void show_told(const struct cli *cli, const struct ws_told *t) {
    static const char signs[] = {'+', '~', '-', '>'};
    if (!t->all) return;
    say("\n  %s%-24s %7s %7s %7s %6s  %s%s\n", ink(cli, INK_DIM), "saved in it", "added", "changed", "deleted", "moved",
        "for example", ink(cli, INK_PLAIN));
    for (unsigned w = 0; w < WS_WHOSES; w++) {
        char count[WS_CHANGES][24];
        bool any = false;
        for (unsigned c = 0; c < WS_CHANGES; c++) {
            any |= t->of[w].count[c] > 0;
            (void)snprintf(count[c], sizeof count[c], t->of[w].count[c] ? "%llu" : "·",
                           (unsigned long long)t->of[w].count[c]);
        }
        if (!any) continue;
        const enum ink shade = w >= WS_WHOSE_OWN ? INK_DIM : INK_PLAIN;
        show_row(cli, 4, "  %s%-24s %7s %7s %7s %6s%s\t  %s%c %s%s", ink(cli, shade), ws_whose_title((enum ws_whose)w),
                 count[0], count[1], count[2], count[3], ink(cli, INK_PLAIN), ink(cli, INK_DIM),
                 signs[t->of[w].example[0].change], t->of[w].example[0].path, ink(cli, INK_PLAIN));
    }
    if (t->packages[0]) show_field(cli, "Packages", "%s", t->packages);
}

static void show_rounds(const struct cli *cli, const struct ws_proof *p) {
    static const enum ink colours[] = {INK_GOOD, INK_BAD, INK_BAD, INK_DIM};
    say("\n  %s%-6s %-20s %-20s %-9s%s\n", ink(cli, INK_DIM), "round", "on", "session", "verdict", ink(cli, INK_PLAIN));
    for (size_t i = 0; i < p->rounds; i++) {
        const struct ws_round *r = &p->round[i];
        char session[64];
        show_row(cli, 9, "  %-6zu %-20s %-20s %s%-9s%s\t%s", i + 1, r->pc, session_of(r, session),
                 ink(cli, colours[r->verdict]), ws_verdict_name(r->verdict), ink(cli, INK_PLAIN), r->text);
    }
}

/* Of the last round what the drive itself says. */
static void show_evidence(const struct cli *cli, const struct ws_round *r) {
    char at[32], size[32], count[64];
    const struct ws_evidence *e = &r->after;
    if (!e->size) return;
    if (e->mounts)
        show_field(cli, "Volume says", "mounted %s, last %s by that PC's clock; %s",
                   show_count(e->mounts, "time", count), show_minute(e->mounted_at, at),
                   e->needs_recovery ? "not shut down" : "shut down");
    else show_field(cli, "Volume says", "never mounted");
    if (e->written_bytes > r->before.written_bytes)
        show_field(cli, "Written", "%s in this session",
                   ws_size_counted(e->written_bytes - r->before.written_bytes, size, sizeof size));
    show_field(cli, "Free", "%s", ws_size_counted(e->free_bytes, size, sizeof size));
    if (e->data_in_use)
        show_field(cli, "Data", "%s%u of %s not ejected%s, by what %s", ink(cli, INK_WARN), e->data_in_use,
                   show_count(e->data_volumes, "volume", count), ink(cli, INK_PLAIN),
                   e->data_in_use == 1 ? "it says itself" : "they say themselves");
    else if (e->data_volumes) show_field(cli, "Data", "%s, ejected", show_count(e->data_volumes, "volume", count));
    if (e->data_locked)
        show_field(cli, "Locked", "%s, not looked into", show_count(e->data_locked, "more volume", count));
    if (e->errors) show_field(cli, "Errors", "%s%u recorded%s", ink(cli, INK_BAD), e->errors, ink(cli, INK_PLAIN));
    const struct ws_survived *s = &r->survived;
    if (s->survive + s->again + s->deleted + s->lost)
        show_field(cli, "Before it",
                   "of what was saved %llu are as they were, %llu changed again, %llu deleted by it, %s%llu lost%s",
                   (unsigned long long)s->survive, (unsigned long long)s->again, (unsigned long long)s->deleted,
                   ink(cli, s->lost ? INK_BAD : INK_PLAIN), (unsigned long long)s->lost, ink(cli, INK_PLAIN));
}

static void show_items(const struct cli *cli, const struct ws_proof *p) {
    if (!p->items) return;
    say("\n  %s%-17s %-32s %-9s %-9s %s%s\n", ink(cli, INK_DIM), "change", "path", "console", "drive", "sha-256",
        ink(cli, INK_PLAIN));
    for (size_t i = 0; i < p->items; i++) {
        say("  %-17s %-32s ", ws_proof_change_name(p->item[i].change), p->item[i].path);
        show_survival(cli, p->item[i].console);
        show_survival(cli, p->item[i].drive);
        say("%s%.7s%s\n", ink(cli, INK_DIM), p->item[i].sha256, ink(cli, INK_PLAIN));
    }
}

static void show_proof(const struct cli *cli, const struct ws_proof *p) {
    char time[32];
    const struct ws_round *last = p->rounds ? &p->round[p->rounds - 1] : NULL;
    show_line(cli, INK_BOLD, "%s", p->drive);
    show_field(cli, "Remembers in", "\"%s\", %s", p->volume_label,
               strcmp(p->family, "system") == 0 ? "a full system's own volume" : p->family);
    if (p->starts) show_field(cli, "Starts", "%u in %s", p->starts, ws_duration(p->seconds, time, sizeof time));
    show_disk(cli, p);
    if (p->verdict == WS_VERDICT_NO_START && p->console_tail[0]) {
        say("\n  %sThe console's last lines:%s\n", ink(cli, INK_DIM), ink(cli, INK_PLAIN));
        show_console(p->console_tail);
        return;
    }
    if (last) show_evidence(cli, last);
    if (last && last->verdict != WS_VERDICT_NO_START) show_told(cli, &last->told);
    show_items(cli, p);
    if (p->rounds) show_rounds(cli, p);
    if (last && (p->verdict != WS_VERDICT_KEPT || !p->items)) proofs_show_chain(cli, last->link);
}

int proofs_conclude(struct cli *cli, const struct ws_proof *p) {
    static const char *const words[] = {"It remembers.", "It forgets.", "No start.", "Not proved yet."};
    static const enum ink colours[] = {INK_GOOD, INK_BAD, INK_BAD, INK_WARN};
    int code = p->verdict == WS_VERDICT_KEPT || p->verdict == WS_VERDICT_OPEN ? EXIT_DONE : EXIT_NEGATIVE;
    if (cli->json) {
        struct ws_text text = {0};
        if (ws_proof_write(p, false, &text, &cli->error) != WS_OK) code = cli_fail(cli);
        else cli_put_document(text.data);
        ws_text_free(&text);
        return code;
    }
    show_proof(cli, p);
    say("\n%s%s%s %s\n", ink(cli, colours[p->verdict]), words[p->verdict], ink(cli, INK_PLAIN), p->text);
    return code;
}
