/* test_proof.c — the proof against PCs that follow a script: silent ones, panicking ones, ones that lie. */
#include "tests/harness.h"

#include "demo/demo_image.h"
#include "wild_satchel/port/emulator.h"

enum { MIB = 1 << 20, DRIVE = 96 * MIB };

/* A PC with a shell of sorts: it answers what the proof asks, and forgets or lies as told. */
struct scripted {
    struct ws_pc pc;
    const char *boot; /* what it says after power-on */
    bool shell;       /* answers commands */
    bool remembers;   /* keeps hashes over restarts */
    bool dies;        /* stops answering after the first commands */
    bool turns_off;   /* by itself, all it has to say being said */
    const char *asks; /* before there is a shell: P a passphrase, N a name, W a password, S one more by sudo */
    const char *left; /* of these */
    bool echoes, rises;
    int deaf; /* so many characters typed after power-on are lost: the shell was not there yet */
    struct ws_text out;
    char line[2048];
    size_t typed;
    int starts, commands, typed_before_prompt, lost;
    bool prompted;
    struct {
        char path[128], hash[65];
    } file[32];
    size_t files;
};

static struct ws_port_ops fast_ops;
static struct ws_port fast = {&fast_ops};
static double fast_now;
static double fast_clock(struct ws_port *port) {
    (void)port;
    return fast_now;
}

static enum ws_status sp_describe(struct ws_pc *pc, struct ws_pc_facts *f, struct ws_error *e) {
    (void)pc, (void)e;
    memset(f, 0, sizeof *f);
    strcpy(f->name, "scripted");
    return WS_OK;
}
static enum ws_status sp_plug(struct ws_pc *pc, const char *id, struct ws_error *e) {
    (void)pc, (void)id, (void)e;
    return WS_OK;
}
static enum ws_status sp_unplug(struct ws_pc *pc, struct ws_error *e) {
    (void)pc, (void)e;
    return WS_OK;
}
static enum ws_status sp_on(struct ws_pc *pc, struct ws_error *e) {
    struct scripted *s = (struct scripted *)pc;
    (void)e;
    s->starts++;
    s->commands = 0;
    s->lost = s->deaf;
    s->left = s->asks ? s->asks : "";
    s->rises = false;
    s->prompted = strstr(s->boot, "# ") != NULL;
    ws_text_puts(&s->out, s->boot);
    if (!s->remembers) s->files = 0;
    return WS_OK;
}
static enum ws_status sp_read(struct ws_pc *pc, char *out, size_t room, double wait, size_t *got, struct ws_error *e) {
    struct scripted *s = (struct scripted *)pc;
    (void)e;
    *got = s->out.length < room ? s->out.length : room;
    if (*got == 0 && s->turns_off) return ws_fail(e, WS_E_GONE, "off");
    if (*got == 0) fast_now += wait;
    if (*got) memcpy(out, s->out.data, *got);
    if (*got) memmove(s->out.data, s->out.data + *got, s->out.length - *got);
    s->out.length -= *got;
    return WS_OK;
}

static char *path_of(char *command, bool last) {
    char *word = last ? strrchr(command, ' ') : strchr(command, '/');
    return word ? word + (last ? 1 : 0) : command;
}

/* Files are remembered by the hash of what was echoed into them; that is all the proof needs. */
static void answer(struct scripted *s) {
    char command[2048];
    int result = 0;
    strcpy(command, s->line);
    char *end = strstr(command, "; echo ws-\\done-");
    if (strstr(command, "echo ws-shell\\-answers")) ws_text_puts(&s->out, "ws-shell-answers\n");
    if (!end) return;
    s->commands++;
    if (s->dies && s->commands > 3) return;
    unsigned number = (unsigned)atoi(end + strlen("; echo ws-\\done-"));
    *end = '\0';
    char *target = strstr(command, " > ");
    char *path = path_of(command, true);
    size_t i = 0;
    while (i < s->files && strcmp(s->file[i].path, path) != 0) i++;
    if (strcmp(command, "id -u") == 0 && s->asks) {
        ws_text_puts(&s->out, s->left[0] ? "id -u\n\033[?2004l\r1000\n" : "0\n");
    } else if (strncmp(command, "echo ", 5) == 0 && target && i < 32) {
        char content[512], hex[WS_HASH_HEX];
        snprintf(content, sizeof content, "%.*s\n", (int)(target - command - 5), command + 5);
        if (ws_hash_bytes(WS_HASH_SHA256, content, strlen(content), hex, &error) != WS_OK) abort();
        snprintf(s->file[i].path, sizeof s->file[i].path, "%.120s", path);
        memcpy(s->file[i].hash, hex, 65);
        if (i == s->files) s->files++;
    } else if (strncmp(command, "sha256sum ", 10) == 0) {
        if (i < s->files) ws_text_printf(&s->out, "%s  %s\n", s->file[i].hash, path);
        result = i == s->files;
    } else if (strncmp(command, "test ", 5) == 0) {
        result = 1;
    }
    ws_text_printf(&s->out, "ws-done-%u-%d-\n# ", number, result);
}

#define PASSPHRASE "fulmar over the bar"
#define PASSWORD "gull 7 over"

static void ask(struct scripted *s) {
    ws_text_puts(&s->out, s->left[0] == 'P'   ? "\nPlease unlock disk root: "
                          : s->left[0] == 'N' ? "\nhut-3 login: "
                          : s->left[0] == 'W' ? "Kennwort: "
                                              : "\ntide@hut-3:~$ ");
}

/* @return whether the line was an answer to what is asked before there is a shell that may administer */
static bool is_asked(struct scripted *s) {
    const char is = s->left[0];
    if (is == 'S' && !s->rises) {
        s->rises = strstr(s->line, "exec sudo -p ws\\-secret sh") != NULL;
        if (s->rises) ws_text_puts(&s->out, "/usr/bin/sudo\nws-secret");
        return s->rises;
    }
    if (!is) return false;
    bool right = strcmp(s->line, is == 'P' ? PASSPHRASE : is == 'N' ? "tide" : PASSWORD) == 0;
    if (is == 'W' && !right) ws_text_puts(&s->out, "\nLogin incorrect\n");
    if (is == 'W' && !right) s->left--;
    else if (right) s->left++;
    if (is == 'S' && right) ws_text_puts(&s->out, "\n# ");
    else ask(s);
    return true;
}

/* A line ends where no quote stands open. */
static bool is_whole(const struct scripted *s) {
    size_t quotes = 0;
    for (size_t i = 0; i < s->typed; i++) quotes += s->line[i] == '"';
    return quotes % 2 == 0 && (s->typed == 0 || s->line[s->typed - 1] != '\\');
}

static enum ws_status sp_write(struct ws_pc *pc, const char *text, struct ws_error *e) {
    struct scripted *s = (struct scripted *)pc;
    (void)e;
    if (!s->prompted && !strstr(s->boot, "Linux version")) s->typed_before_prompt++;
    for (; *text; text++) {
        if (s->lost > 0 && s->lost--) continue;
        bool hidden = s->left[0] && strchr("PWS", s->left[0]) && (s->left[0] != 'S' || s->rises) && !s->echoes;
        if (!hidden || *text == '\n') ws_text_add(&s->out, text, 1);
        if (*text != '\n' || !is_whole(s)) {
            if (*text == '\n') ws_text_puts(&s->out, "> ");
            if (s->typed + 1 < sizeof s->line) s->line[s->typed++] = *text;
            continue;
        }
        s->line[s->typed] = '\0';
        s->typed = 0;
        if (!is_asked(s) && s->shell) answer(s);
    }
    return WS_OK;
}
static enum ws_status sp_off(struct ws_pc *pc, bool clean, struct ws_error *e) {
    struct scripted *s = (struct scripted *)pc;
    (void)clean, (void)e;
    s->out.length = 0;
    s->typed = 0;
    return WS_OK;
}
static void sp_close(struct ws_pc *pc) { (void)pc; }

static const struct ws_pc_ops sp_ops = {sp_describe, sp_plug, sp_unplug, sp_on, sp_read,
                                        sp_write,    sp_off,  NULL,      NULL,  sp_close};

static struct memory_drive *the_drive;
static enum ws_status open_the_drive(struct ws_port *port, const char *id, enum ws_open_mode mode,
                                     struct ws_drive **drive, struct ws_error *e) {
    (void)port, (void)id, (void)mode, (void)e;
    *drive = &the_drive->drive;
    return WS_OK;
}

static void build_the_drive(enum ws_kind kind) {
    struct demo_params p = {.family = "live-boot", .table = DEMO_MBR};
    struct demo_image image;
    struct ws_build *build = NULL;
    struct ws_build_result result;
    struct planned plan;
    the_drive = memory_drive(DRIVE, 512);
    planned_begin(&plan, kind, &the_drive->facts);
    struct ws_build_options o = {.confirm = plan.setting.drive.name};
    OK(demo_image_make(&p, &image, &error));
    OK(planned_prepare(&plan, image.source, &build));
    OK(ws_build_carry_out(build, plain_port(), &the_drive->drive, &o, &result, &error));
    ws_build_close(build);
    demo_image_free(&image);
    fast_ops = *plain_port()->ops;
    fast_ops.open = open_the_drive;
    fast_ops.steady_clock = fast_clock;
}

static struct ws_text heard; /* the console, as it was told */
static void hear(void *context, const char *text, size_t length) {
    (void)context;
    ws_text_add(&heard, text, length);
}

static struct ws_proof *prove_as(struct scripted *s, const char *account, const char *password, const char *passphrase,
                                 enum ws_status wanted) {
    struct ws_proof *proof = calloc(1, sizeof *proof);
    struct ws_proof_options o = {.confirm = the_drive->facts.short_name,
                                 .start_wait_s = 120,
                                 .account = account,
                                 .password = password,
                                 .passphrase = passphrase,
                                 .on_console = hear};
    ws_text_free(&heard);
    s->pc.ops = &sp_ops;
    memset(&error, 0, sizeof error);
    struct ws_pc *pc = &s->pc;
    enum ws_status status = ws_prove(&fast, &pc, 1, "x", &o, proof, &error);
    if (status != wanted) fail_at(__FILE__, __LINE__, "%s: %s", ws_status_name(status), error.what);
    ws_text_free(&s->out);
    return proof;
}

static void free_proof(struct ws_proof *proof) {
    ws_proof_free(proof);
    free(proof);
}

static struct ws_proof *prove(struct scripted *s, enum ws_status wanted) {
    return prove_as(s, NULL, NULL, NULL, wanted);
}

/* Systems that ask before they give a shell: what they are told is heard by nobody, even where it is echoed. */
static void what_a_system_asks_is_answered(void) {
    static const struct {
        const char *asks, *boot, *account, *password, *passphrase, *refused;
    } cases[] = {{"NWS", "\nhut-3 login: ", "tide", PASSWORD, NULL, NULL},
                 {"PNWS", "Linux version 6.1\nPlease unlock disk root: ", "tide", PASSWORD, PASSPHRASE, NULL},
                 {"P", "Please enter passphrase for disk root (system):  (press TAB for no echo) ", NULL, NULL,
                  PASSPHRASE, NULL},
                 {"NWS", "Linux version 6.1\nhut-3 login: [ 40.1] usb 1-1: late words\n", "tide", PASSWORD, NULL, NULL},
                 {"NW", "\nhut-3 login: ", NULL, NULL, NULL, "asked who logs in"},
                 {"NW", "\nhut-3 login: ", "tide", "another", NULL, "did not take the account and its password"},
                 {"NW", "\nhut-3 login: ", "tern", PASSWORD, NULL, "did not take the account and its password"},
                 {"P", "Please unlock disk root: ", NULL, NULL, "another one of them", "did not take the passphrase"},
                 {"P", "Please unlock disk root: ", NULL, NULL, NULL, "asked for a passphrase"}};
    build_the_drive(WS_KIND_LIVE);
    for (size_t i = 0; i < 2 * sizeof cases / sizeof cases[0]; i++) {
        struct scripted s = {
            .boot = cases[i / 2].boot, .asks = cases[i / 2].asks, .shell = true, .remembers = true, .echoes = i % 2};
        struct ws_proof *proof =
            prove_as(&s, cases[i / 2].account, cases[i / 2].password, cases[i / 2].passphrase, WS_OK);
        CHECK_INT(proof->verdict, cases[i / 2].refused ? WS_VERDICT_NO_START : WS_VERDICT_LOST);
        CHECK_INT(proof->starts, cases[i / 2].refused ? 1 : 2);
        if (cases[i / 2].refused) CHECK_HAS(proof->text, cases[i / 2].refused);
        else CHECK_HAS(proof->text, "Not tried: a changed file and a deleted file;"); /* it has no such files */
        const char *said[] = {heard.data ? heard.data : "", proof->text, proof->console_tail};
        for (size_t k = 0; k < 3; k++)
            if (strstr(said[k], PASSWORD) || strstr(said[k], PASSPHRASE) || strstr(said[k], "another one of"))
                fail_at(__FILE__, __LINE__, "%zu: a secret in \"%s\"", i, said[k]);
        free_proof(proof);
    }
    ws_text_free(&heard);
    memory_drive_free(the_drive);
}

static void a_silent_pc_is_no_start(void) {
    static const struct {
        const char *boot, *says;
    } cases[] = {{"", "(nothing)"},
                 {"No bootable device.\n", "No bootable device"},
                 {"Linux version 6.1\n[ 1.0] Kernel panic - not syncing: Attempted to kill init!\n", "Kernel panic"},
                 {"login: ", "asked who logs in"}};
    build_the_drive(WS_KIND_LIVE);
    for (size_t i = 0; i < 4; i++) {
        struct scripted s = {.boot = cases[i].boot};
        double began = fast_now;
        struct ws_proof *proof = prove(&s, WS_OK);
        CHECK_INT(proof->verdict, WS_VERDICT_NO_START);
        CHECK_INT(proof->starts, 1);
        CHECK_HAS(proof->text, cases[i].says);
        if (i == 2) CHECK(fast_now - began < 30);        /* a panic is not waited out */
        if (i != 2) CHECK_INT(s.typed_before_prompt, 0); /* a key would stop a menu's countdown */
        free_proof(proof);
    }
    memory_drive_free(the_drive);
}

/* A PC that turns itself off is not waited for: its kernel gave up, or it wanted to start again. */
static void a_pc_that_turns_itself_off_is_not_waited_for(void) {
    build_the_drive(WS_KIND_LIVE);
    struct scripted s = {.boot = "Linux version 6.1\nrebooting: no root\n", .turns_off = true};
    double began = fast_now;
    struct ws_proof *proof = prove(&s, WS_OK);
    CHECK_INT(proof->verdict, WS_VERDICT_NO_START);
    CHECK_HAS(proof->text, "switched itself off");
    CHECK_HAS(proof->text, "no root");
    CHECK(fast_now - began < 5);
    free_proof(proof);
    memory_drive_free(the_drive);
}

/* Prompts as real shells write them: one that asks the terminal where its cursor is, one that a kernel line follows. */
static void prompts_are_known_in_any_dress(void) {
    static const char *const boots[] = {"\n# ", "tide@hut:~$ ", "\nroot@curlew:/# \033[6n",
                                        "\033[1;32mtide\033[0m $ \033[?2004h",
                                        "Linux version 6.1\n# [ 31.2] usb 1-1: late words\n"};
    build_the_drive(WS_KIND_LIVE);
    for (size_t i = 0; i < sizeof boots / sizeof boots[0]; i++) {
        struct scripted s = {.boot = boots[i], .shell = true, .remembers = true};
        double began = fast_now;
        struct ws_proof *proof = prove(&s, WS_OK);
        if (proof->verdict != WS_VERDICT_LOST) fail_at(__FILE__, __LINE__, "%zu: %s", i, proof->text);
        CHECK_INT(proof->starts, 2);
        CHECK(fast_now - began < 60);
        free_proof(proof);
    }
    memory_drive_free(the_drive);
}

/* The question comes too early and the terminal drops its beginning, up to any character. */
static void a_question_half_lost_is_asked_again(void) {
    build_the_drive(WS_KIND_LIVE);
    for (int deaf = 1; deaf < 60; deaf++) {
        struct scripted s = {.boot = "Linux version 6.1\n", .shell = true, .remembers = true, .deaf = deaf};
        struct ws_proof *proof = prove(&s, WS_OK);
        if (proof->starts != 2) fail_at(__FILE__, __LINE__, "%d lost: %s", deaf, proof->text);
        free_proof(proof);
    }
    memory_drive_free(the_drive);
}

static void a_shell_that_stops_answering_is_an_error(void) {
    build_the_drive(WS_KIND_LIVE);
    struct scripted s = {.boot = "Linux version 6.1\nwelcome\n# ", .shell = true, .dies = true};
    struct ws_proof *proof = prove(&s, WS_E_READ);
    CHECK_HAS(error.what, "stopped answering");
    free_proof(proof);
    memory_drive_free(the_drive);
}

/* The console says all is well, but nothing reached the drive: our own reader is not taken in. */
static void a_console_that_lies_is_found_out(void) {
    build_the_drive(WS_KIND_LIVE);
    struct scripted s = {.boot = "# ", .shell = true, .remembers = true};
    struct ws_proof *proof = prove(&s, WS_OK);
    CHECK_INT(proof->verdict, WS_VERDICT_LOST);
    bool saw = false;
    for (size_t i = 0; i < proof->items; i++)
        if (proof->item[i].change == WS_PROOF_NEW_FILE) {
            saw = true;
            CHECK_INT(proof->item[i].console, WS_SURVIVES);
            CHECK_INT(proof->item[i].drive, WS_LOST);
        }
    CHECK(saw);
    CHECK_INT(proof->cause, WS_FORGETS_NOT);
    free_proof(proof);
    memory_drive_free(the_drive);
}

static void a_system_that_forgets_is_found_out(void) {
    build_the_drive(WS_KIND_REPLICA);
    struct scripted s = {.boot = "# ", .shell = true};
    struct ws_proof *proof = prove(&s, WS_OK);
    CHECK_INT(proof->verdict, WS_VERDICT_LOST);
    CHECK_INT(proof->cause, WS_FORGETS_PARAMETER);
    CHECK_INT(s.starts, 2);
    free_proof(proof);
    memory_drive_free(the_drive);
}

static void the_emulated_pc_says_what_it_lacks(void) {
    struct ws_emulator_params p = {.firmware = WS_FIRMWARE_BIOS};
    struct ws_pc *pc = NULL;
    char *path = strdup(getenv("PATH"));
    setenv("PATH", "/nowhere", 1);
    FAILS(ws_emulator_pc(&p, &pc, &error), WS_E_NOTFOUND);
    CHECK_HAS(error.next, "qemu-system-x86");
    setenv("PATH", path, 1);
    free(path);
    if (!have_program("qemu-system-x86_64")) {
        skip_test("no emulator is installed");
        return;
    }
    struct ws_pc_facts facts;
    OK(ws_emulator_pc(&p, &pc, &error));
    OK(pc->ops->describe(pc, &facts, &error));
    CHECK_HAS(facts.name, "BIOS");
    FAILS(pc->ops->plug(pc, "/nowhere.img", &error), WS_E_NOTFOUND);
    FAILS(pc->ops->power_on(pc, &error), WS_E_USAGE);
    const char *blank = scratch("blank.img");
    CHECK_INT(shell(NULL, "truncate -s 4M '%s'", blank), 0);
    OK(pc->ops->plug(pc, blank, &error)); /* a real firmware finds nothing on it; the power is cut */
    OK(pc->ops->power_on(pc, &error));
    OK(pc->ops->power_off(pc, false, &error));
    CHECK_INT(shell(NULL, "rm '%s'", blank), 0); /* gone between plugging and starting: the emulator says so and ends */
    OK(pc->ops->power_on(pc, &error));
    char said[400] = "";
    enum ws_status status = WS_OK;
    for (size_t n = 0, got = 0; status == WS_OK && n < sizeof said - 1; n += got)
        status = pc->ops->console_read(pc, said + n, sizeof said - 1 - n, 20, &got, &error);
    CHECK_INT(status, WS_E_GONE);
    CHECK_HAS(said, "blank.img");
    pc->ops->close(pc);
}

struct seen {
    char text[1000];
};

static void note(void *context, enum ws_change change, const struct ws_shot *before, const struct ws_shot *after) {
    struct seen *s = context;
    size_t n = strlen(s->text);
    snprintf(s->text + n, sizeof s->text - n, "%c%s ", "+~-"[change], (after ? after : before) -> path);
}

static void snapshots_compare_in_order(void) {
    struct ws_tree *a = NULL, *b = NULL;
    struct ws_snapshot sa = {0}, sb = {0};
    struct ws_node *n = NULL;
    struct seen seen = {""};
    OK(ws_tree_create(&a, &error));
    OK(ws_tree_create(&b, &error));
    OK(ws_tree_put(a, "a/same", "1", 1, NULL, &error));
    OK(ws_tree_put(b, "a/same", "1", 1, NULL, &error));
    OK(ws_tree_put(a, "a/text", "1", 1, NULL, &error));
    OK(ws_tree_put(b, "a/text", "2", 1, NULL, &error));
    OK(ws_tree_put(a, "gone", "1", 1, NULL, &error));
    OK(ws_tree_put(b, "new", "1", 1, NULL, &error));
    OK(ws_tree_put(a, "mode", "1", 1, NULL, &error));
    OK(ws_tree_put(b, "mode", "1", 1, &n, &error));
    n->mode = 0755;
    OK(ws_tree_add(a, ws_tree_root(a), "link", WS_NODE_LINK, &n, &error));
    OK(ws_tree_set_target(a, n, "here", &error));
    OK(ws_tree_add(b, ws_tree_root(b), "link", WS_NODE_LINK, &n, &error));
    OK(ws_tree_set_target(b, n, "ther", &error));
    OK(ws_snapshot_take(a, WS_READ_ALL, NULL, &sa, &error));
    OK(ws_snapshot_take(b, WS_READ_ALL, NULL, &sb, &error));
    ws_snapshot_compare(&sa, &sb, note, &seen);
    CHECK_STR(seen.text, "~/a/text -/gone ~/link ~/mode +/new ");
    seen.text[0] = '\0';
    ws_snapshot_compare(&sa, &sa, note, &seen);
    CHECK_STR(seen.text, "");
    ws_snapshot_free(&sa);
    ws_snapshot_free(&sb);
    ws_tree_close(a);
    ws_tree_close(b);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"what a system asks is answered", what_a_system_asks_is_answered},
        {"a silent PC is no start", a_silent_pc_is_no_start},
        {"a PC that turns itself off is not waited for", a_pc_that_turns_itself_off_is_not_waited_for},
        {"prompts are known in any dress", prompts_are_known_in_any_dress},
        {"a question half lost is asked again", a_question_half_lost_is_asked_again},
        {"a shell that stops answering is an error", a_shell_that_stops_answering_is_an_error},
        {"a console that lies is found out", a_console_that_lies_is_found_out},
        {"a system that forgets is found out", a_system_that_forgets_is_found_out},
        {"the emulated PC says what it lacks", the_emulated_pc_says_what_it_lacks},
        {"snapshots compare in order", snapshots_compare_in_order},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
