/* test_passport.c — the page of a drive: whole, of itself alone, and harmless whatever its texts are. */
#include "tests/harness.h"

#include "wild_satchel/passport.h"

/* Every tag that is opened is closed, in order; what stands between is text. */
static void check_page(const char *page) {
    char open[64][16];
    size_t depth = 0;
    static const char *const never[] = {"<script", "http", "src=", "href", "url(", "@import", "<img", "<link"};
    for (size_t i = 0; i < sizeof never / sizeof never[0]; i++)
        if (strstr(page, never[i])) fail_at(__FILE__, __LINE__, "there is %s in it", never[i]);
    for (const char *c = page; (c = strchr(c, '<')); c++) {
        const bool closes = c[1] == '/';
        char name[16] = "";
        const char *at = c + 1 + closes, *end = strchr(c, '>');
        size_t n = strspn(at, "abcdefghijklmnopqrstuvwxyz123456");
        if (*at == '!') continue;
        if (n == 0 || n >= sizeof name || !end || memchr(c + 1, '<', (size_t)(end - c - 1))) {
            fail_at(__FILE__, __LINE__, "no tag: %.40s", c);
            return;
        }
        memcpy(name, at, n);
        if (strcmp(name, "meta") == 0 || end[-1] == '/') continue;
        if (!closes && depth < 64) memcpy(open[depth++], name, sizeof name);
        else if (closes && (depth == 0 || strcmp(open[--depth], name) != 0)) {
            fail_at(__FILE__, __LINE__, "</%s> closes nothing: %.60s", name, c);
            return;
        }
    }
    CHECK_INT(depth, 0);
    for (size_t i = 0; page[i];) {
        uint32_t code;
        const size_t n = ws_utf8_next(page + i, 4, &code);
        if (!n) fail_at(__FILE__, __LINE__, "no UTF-8 at byte %zu", i);
        if (!n) return;
        i += n;
    }
}

/* Everything there can be, as long as it can be: names that are markup, controls, and no UTF-8. */
struct all {
    struct ws_drive_facts facts;
    struct ws_contents contents;
    struct ws_memory memory;
    struct ws_proof proof;
    struct ws_trial trial;
    struct ws_origin origin;
    struct ws_outlook outlook[WS_OUTLOOKS];
    char checked[300];
    struct ws_passport_event event[WS_PASSPORT_EVENTS_MOST];
    struct ws_passport passport;
};

static void fill(char *out, size_t room, int kind) {
    static const char *const texts[] = {"Survey of the tide gauges along the coast, second half ",
                                        "<script>alert('x')</script>&\"", "\x1b[31mred\xff\xfe",
                                        "Wasserstände-und-Gezeiten-ohne-jede-Lücke-"};
    const size_t length = strlen(texts[kind]);
    for (size_t i = 0; i + 1 < room; i++) out[i] = texts[kind][i % length];
    out[room - 1] = '\0'; /* cut wherever that is */
}

static struct all *everything(int kind) {
    struct all *a = calloc(1, sizeof *a);
    fill(a->facts.short_name, sizeof a->facts.short_name, kind);
    fill(a->facts.vendor, sizeof a->facts.vendor, kind);
    fill(a->facts.model, sizeof a->facts.model, kind);
    fill(a->facts.serial, sizeof a->facts.serial, kind);
    a->facts.size = 32010928128;
    fill(a->contents.guess, sizeof a->contents.guess, kind);
    for (size_t i = 0; i < 16; i++) {
        struct ws_content *v = &a->contents.part[a->contents.parts++];
        v->number = (unsigned)i + 1;
        v->at = i * (a->facts.size / 16);
        v->length = a->facts.size / 16 - 512;
        fill(v->label, sizeof v->label, kind);
        snprintf(v->system, sizeof v->system, "FAT32");
        v->free_bytes = 77777777;
        v->counted = true;
    }
    a->memory.system = true;
    a->memory.volume.size = 4ull << 30;
    a->memory.volume.mounts = 77;
    fill(a->proof.text, sizeof a->proof.text, kind);
    for (size_t i = 0; i < WS_PROOF_ROUNDS_MOST; i++) {
        struct ws_round *r = &a->proof.round[a->proof.rounds++];
        fill(r->pc, sizeof r->pc, kind);
        fill(r->text, sizeof r->text, kind);
        r->verdict = (enum ws_verdict)(i % 4);
        r->after.seen_at = 1795800000 + (int64_t)i * 86400;
    }
    a->proof.began = 1795800000;
    a->trial = (struct ws_trial){.made_at = 1795800000, .holds = a->facts.size, .sound = true, .write_bytes_s = 2e7};
    for (size_t i = 0; i < WS_PASSPORT_EVENTS_MOST; i++) {
        a->event[i].at = 1795800000 + (int64_t)i * 86400;
        fill(a->event[i].what, sizeof a->event[i].what, kind);
        fill(a->event[i].verdict, sizeof a->event[i].verdict, kind);
    }
    fill(a->origin.title, sizeof a->origin.title, kind);
    fill(a->origin.sha256, 65, 0);
    a->origin.made_at = 1795800000;
    fill(a->checked, sizeof a->checked, kind);
    for (size_t i = 0; i < WS_OUTLOOKS; i++) fill(a->outlook[i].why, sizeof a->outlook[i].why, kind);
    a->passport = (struct ws_passport){.made_at = 1795800000,
                                       .drive = &a->facts,
                                       .kind = "stick or card",
                                       .contents = &a->contents,
                                       .memory = &a->memory,
                                       .proof = &a->proof,
                                       .origin = &a->origin,
                                       .outlook = a->outlook,
                                       .checked = a->checked,
                                       .trial = &a->trial,
                                       .event = a->event,
                                       .events = WS_PASSPORT_EVENTS_MOST};
    return a;
}

static void a_page_is_whole_and_harmless(void) {
    for (int kind = 0; kind < 4; kind++) {
        struct all *a = everything(kind);
        for (int parts = 0; parts < 4; parts++) {
            struct ws_text page = {0}, document = {0};
            if (parts & 1) a->passport.proof = NULL;
            if (parts & 2) a->passport.memory = NULL;
            OK(ws_passport_html(&a->passport, &page, &error));
            check_page(page.data);
            if (kind == 1) CHECK_HAS(page.data, "&lt;script&gt;");
            if (kind == 2) CHECK(!strchr(page.data, '\x1b'));
            CHECK(page.length < 40000);             /* however long the lists are */
            if (getenv("WS_TEST_KEEP") && !parts) { /* to be looked at */
                char path[64];
                snprintf(path, sizeof path, "/tmp/passport-%d.html", kind);
                FILE *file = fopen(path, "w");
                if (file) fputs(page.data, file);
                if (file) fclose(file);
            }
            OK(ws_passport_json(&a->passport, &document, &error));
            CHECK_HAS(document.data, "wild-satchel-passport");
            ws_text_free(&page);
            ws_text_free(&document);
            a->passport.proof = &a->proof;
            a->passport.memory = &a->memory;
        }
        free(a);
    }
}

static void the_keys_are_a_table(void) {
    size_t count;
    const struct ws_start_key *key = ws_start_keys(&count);
    CHECK(count > 15);
    for (size_t i = 0; i < count; i++) CHECK(key[i].maker[0] && key[i].key[0]);
    CHECK_STR(key[count - 1].maker, "Others");
}

int main(int argc, char **argv) {
    static const struct test tests[] = {{"a page is whole and harmless", a_page_is_whole_and_harmless},
                                        {"the keys are a table", the_keys_are_a_table},
                                        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
