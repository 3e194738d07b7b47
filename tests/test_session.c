/* test_session.c — a simulated live session: what its shell shows, and what of it reaches the persistence volume. */
#include "tests/harness.h"

#include "demo/demo_image.h"
#include "wild_satchel/port/sim.h"

enum { MIB = 1 << 20 };

static const char bench_text[] =
    "{\"format\": \"wild-satchel-bench\", \"version\": 1, \"drives\": [{\"name\": \"Gorse 32\", \"serial\": \"A\", "
    "\"size_bytes\": 134217728, \"write_bytes_s\": 20000000, \"read_bytes_s\": 100000000, \"cache_bytes\": 4194304}],"
    "\"pcs\": [{\"name\": \"hut\", \"firmware\": \"bios\"}]}";

struct session {
    struct ws_bench bench;
    struct ws_port *port;
    struct ws_pc *pc;
    struct planned plan;
    struct ws_volume persistence; /* as planned */
    char said[8192];
};

static bool open_session(struct session *s, enum ws_kind kind) {
    static int n;
    char name[32];
    struct demo_params dp = {.family = "live-boot", .table = DEMO_MBR};
    struct demo_image image;
    struct ws_build *build = NULL;
    struct ws_build_result result;
    struct ws_drive *d = NULL;
    memset(s, 0, sizeof *s);
    snprintf(name, sizeof name, "session-%d", n++);
    if (ws_bench_parse(bench_text, strlen(bench_text), &s->bench, &error) != WS_OK ||
        ws_bench_create(&s->bench, scratch(name), &error) != WS_OK ||
        ws_sim_port(&s->bench, &s->port, &error) != WS_OK || demo_image_make(&dp, &image, &error) != WS_OK)
        return false;
    planned_begin(&s->plan, kind, &s->bench.drive[0].facts);
    strcpy(s->plan.setting.drive.serial, "A");
    if (kind == WS_KIND_LIVE) ws_request_want(&s->plan.request, WS_ROLE_PERSISTENCE)->size = ws_size_of(24 * MIB);
    struct ws_build_options o = {.confirm = s->plan.setting.drive.name};
    bool good = planned_prepare(&s->plan, image.source, &build) == WS_OK &&
                s->port->ops->open(s->port, "Gorse 32", WS_OPEN_WRITE, &d, &error) == WS_OK &&
                ws_build_carry_out(build, s->port, d, &o, &result, &error) == WS_OK;
    if (good && VOLUME(s->plan, PERSISTENCE)) s->persistence = *VOLUME(s->plan, PERSISTENCE);
    if (d) d->ops->close(d);
    ws_build_close(build);
    demo_image_free(&image);
    return good && ws_sim_pc(&s->bench, "hut", &s->pc, &error) == WS_OK &&
           s->pc->ops->plug(s->pc, "Gorse 32", &error) == WS_OK;
}

static void close_session(struct session *s) {
    s->pc->ops->close(s->pc);
    s->port->ops->close(s->port);
}

/* Type a line and return what it printed, without the echo and the prompt. */
static const char *type(struct session *s, const char *line) {
    char all[8192];
    size_t n = 0, got = 0;
    char typed[1024];
    snprintf(typed, sizeof typed, "%s\n", line);
    while (s->pc->ops->console_read(s->pc, all, sizeof all, 0, &got, &error) == WS_OK && got) {
    }
    if (s->pc->ops->console_write(s->pc, typed, &error) != WS_OK) fail_at(__FILE__, __LINE__, "%s", error.what);
    while (s->pc->ops->console_read(s->pc, all + n, sizeof all - n - 1, 0, &got, &error) == WS_OK && got) n += got;
    all[n] = '\0';
    char *body = strchr(all, '\n');
    snprintf(s->said, sizeof s->said, "%s", body ? body + 1 : "");
    size_t length = strlen(s->said);
    if (length >= 2 && strcmp(s->said + length - 2, "# ") == 0) s->said[length - 2] = '\0';
    return s->said;
}

static void the_shell_does_what_it_is_told(void) {
    static const struct {
        const char *line, *says;
    } lines[] = {
        {"echo one two", "one two\n"},
        {"echo \"one   two\" 'three'", "one   two three\n"},
        {"echo a; echo b", "a\nb\n"},
        {"echo \"ws-\"\"mark-$?-\"", "ws-mark-0-\n"},
        {"echo ws-\\mark\\;-$?-", "ws-mark;-0-\n"},
        {"cat /etc/hostname", "curlew\n"},
        {"cat /etc/nothing", "/etc/nothing: No such file\n"},
        {"echo $?", "1\n"},
        {"test -e /etc/motd; echo $?", "0\n"},
        {"test -e /etc/none; echo $?", "1\n"},
        {"echo first > /home/new; echo second >> /home/new; cat /home/new", "first\nsecond\n"},
        {"echo more >> /etc/hostname; cat /etc/hostname", "curlew\nmore\n"},
        {"printf 'a\\nb\\n' > /tmp/p; cat /tmp/p", "a\nb\n"},
        {"echo -n > /tmp/e; sha256sum /tmp/p", ""},
        {"rm /etc/issue.net; test -e /etc/issue.net; echo $?", "1\n"},
        {"rm /etc/issue.net; echo $?", "rm: /etc/issue.net: No such file\n1\n"},
        {"rm -f /etc/issue.net; echo $?", "0\n"},
        {"echo again > /etc/issue.net; cat /etc/issue.net", "again\n"},
        {"mkdir -p /srv/a/b; test -e /srv/a/b; echo $?", "0\n"},
        {"rm -rf /srv/a; test -e /srv/a/b; echo $?", "1\n"},
        {"frobnicate; echo $?", "sh: frobnicate: not found\n127\n"},
        {"printf '#!/bin/sh\\necho runs\\n' > /tmp/run; /tmp/run; echo $?", "/tmp/run: Permission denied\n126\n"},
        {"chmod 755 /tmp/run; /tmp/run", "runs\n"},
        {"", ""},
        {";;;", ""},
    };
    struct session s;
    CHECK(open_session(&s, WS_KIND_LIVE));
    OK(s.pc->ops->power_on(s.pc, &error));
    for (size_t i = 0; i < sizeof lines / sizeof lines[0]; i++) {
        const char *says = type(&s, lines[i].line);
        if (strncmp(lines[i].line, "echo -n", 7) == 0) CHECK_HAS(says, "  /tmp/p");
        else if (strcmp(says, lines[i].says) != 0) fail_at(__FILE__, __LINE__, "%s says \"%s\"", lines[i].line, says);
    }
    for (int i = 0; i < 2000; i++) { /* whatever is typed, it lives on */
        static const char *const words[] = {"echo",      "cat", "rm", ">", ">>",    ";",  "'",     "\"",     "/a",
                                            "/etc/motd", "..",  "$?", " ", "mkdir", "-p", "chmod", "printf", "\\n"};
        char line[600] = "";
        for (uint64_t k = random_below(20); k > 0; k--) {
            strcat(line, words[random_below(18)]);
            if (random_below(2)) strcat(line, " ");
        }
        (void)type(&s, line);
    }
    CHECK_STR(type(&s, "echo alive"), "alive\n");
    close_session(&s);
}

static struct ws_tree *volume_tree(struct session *s, struct ws_drive **d, struct ws_source **drive,
                                   struct ws_source **slice) {
    struct ws_tree *tree = NULL;
    if (s->port->ops->open(s->port, "Gorse 32", WS_OPEN_READ, d, &error) != WS_OK ||
        ws_source_drive(*d, drive, &error) != WS_OK ||
        ws_source_slice(*drive, s->persistence.at, s->persistence.size, slice, &error) != WS_OK ||
        ws_ext4_read(*slice, &tree, NULL, &error) != WS_OK)
        fail_at(__FILE__, __LINE__, "%s", error.what);
    return tree;
}

static void close_volume(struct ws_tree *tree, struct ws_drive *d, struct ws_source *drive, struct ws_source *slice) {
    ws_tree_close(tree);
    ws_source_close(slice);
    ws_source_close(drive);
    d->ops->close(d);
}

/* The overlay's own conventions: changes under "rw", deletions as character devices 0:0. */
static void changes_reach_the_volume_when_they_are_synced(void) {
    struct session s;
    struct ws_drive *d = NULL;
    struct ws_source *drive = NULL, *slice = NULL;
    CHECK(open_session(&s, WS_KIND_LIVE));
    OK(s.pc->ops->power_on(s.pc, &error));
    (void)type(&s, "echo kept > /home/kept; rm /etc/issue.net; echo x >> /etc/motd; sync");
    (void)type(&s, "echo lost > /home/lost");
    OK(s.pc->ops->power_off(s.pc, false, &error)); /* the power goes: what was not synced goes with it */
    struct ws_tree *tree = volume_tree(&s, &d, &drive, &slice);
    const struct ws_node *n = ws_tree_find(tree, "rw/home/kept");
    CHECK(n && ws_node_size(n) == 5);
    n = ws_tree_find(tree, "rw/etc/issue.net");
    CHECK(n && n->kind == WS_NODE_CHAR && n->major == 0 && n->minor == 0);
    CHECK(ws_tree_find(tree, "rw/etc/motd") != NULL);
    CHECK(ws_tree_find(tree, "persistence.conf") != NULL);
    CHECK(!ws_tree_find(tree, "rw/home/lost"));
    close_volume(tree, d, drive, slice);
    OK(s.pc->ops->power_on(s.pc, &error));
    CHECK_STR(type(&s, "cat /home/kept; test -e /etc/issue.net; echo $?; test -e /home/lost; echo $?"), "kept\n1\n1\n");
    (void)type(&s, "rm -rf /home/kept; poweroff");
    OK(s.pc->ops->power_off(s.pc, true, &error));
    tree = volume_tree(&s, &d, &drive, &slice);
    CHECK(!ws_tree_find(tree, "rw/home/kept"));
    close_volume(tree, d, drive, slice);
    close_session(&s);
}

static void a_full_volume_is_said_and_survived(void) {
    struct session s;
    CHECK(open_session(&s, WS_KIND_LIVE));
    OK(s.pc->ops->power_on(s.pc, &error));
    (void)type(&s, "echo small > /home/small; sync");
    char line[512];
    (void)type(&s, "echo 0123456789012345678901234567890123456789012345678901234567890123456789 > /home/grow");
    for (int i = 0; i < 8; i++)
        (void)type(&s, "cat /home/grow > /home/twin; cat /home/twin >> /home/grow; cat /home/twin >> /home/grow");
    const char *says = "";
    for (int i = 0; i < 60 && !strstr(says, "I/O error"); i++) {
        snprintf(line, sizeof line, "cat /home/grow > /home/copy-%d; cat /home/grow >> /home/copy-%d; sync", i, i);
        says = type(&s, line);
    }
    CHECK_HAS(says, "I/O error");
    OK(s.pc->ops->power_off(s.pc, false, &error));
    OK(s.pc->ops->power_on(s.pc, &error));
    CHECK_STR(type(&s, "cat /home/small"), "small\n"); /* what was there before is still there */
    close_session(&s);
}

static void without_persistence_everything_stays_in_memory(void) {
    struct session s;
    CHECK(open_session(&s, WS_KIND_REPLICA));
    OK(s.pc->ops->power_on(s.pc, &error));
    CHECK_STR(type(&s, "echo x > /home/x; sync; cat /home/x"), "x\n");
    OK(s.pc->ops->power_off(s.pc, false, &error));
    OK(s.pc->ops->power_on(s.pc, &error));
    CHECK_STR(type(&s, "cat /home/x"), "/home/x: No such file\n");
    OK(s.pc->ops->unplug(s.pc, &error));
    FAILS(s.pc->ops->power_on(s.pc, &error), WS_E_USAGE);
    close_session(&s);
}

int main(int argc, char **argv) {
    static const struct test tests[] = {
        {"the shell does what it is told", the_shell_does_what_it_is_told},
        {"changes reach the volume when they are synced", changes_reach_the_volume_when_they_are_synced},
        {"a full volume is said, and survived", a_full_volume_is_said_and_survived},
        {"without persistence everything stays in memory", without_persistence_everything_stays_in_memory},
        {NULL, NULL}};
    return run_tests(argc, argv, tests);
}
