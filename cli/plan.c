/* plan.c — satchel plan: the whole drive decided, drawn and saved. */
#include "cli/cli.h"

#include "port/linux/linux.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

static void show_plan(const struct cli *cli, const struct ws_plan *p) {
    static const enum ink colours[] = {INK_TEAL, INK_DIM, INK_BLUE, INK_DIM};
    struct map_part part[WS_PLAN_PARTS_MOST];
    char size[48];
    char free_size[48];
    for (size_t i = 0; i < p->parts; i++)
        part[i] = (struct map_part){
            p->part[i].what,   p->part[i].label,
            p->part[i].number, p->part[i].at,
            p->part[i].length, strcmp(p->part[i].what, "persistence") == 0 ? INK_BLUE : colours[i % 4]};
    show_line(cli, INK_BOLD, "%s on %s", p->image_title, p->drive_name);
    show_field(cli, "Kind", "%s", p->kind == WS_PLAN_LIVE ? "live system that remembers" : "replica, byte for byte");
    show_field(cli, "Image", "%s", p->image_path);
    show_field(cli, "SHA-256", "%s", p->image_sha256);
    show_field(cli, "Drive", "%s, serial %s, %s", p->drive_model, p->drive_serial[0] ? p->drive_serial : "unknown",
               ws_size_both(p->drive_size, size, sizeof size));
    if (p->kind == WS_PLAN_LIVE) {
        show_field(cli, "Live family", "%s", p->family->title);
        show_field(cli, "Persistence", "%s on partition %u, %s of it free at first",
                   ws_size_both(p->persistence_size, size, sizeof size), p->persistence_number,
                   ws_size_both(p->persistence_free, free_size, sizeof free_size));
        show_field(cli, "Table", "%s", show_table(p->table));
    }
    for (size_t i = 0; i < p->edits; i++)
        show_field(cli, i ? "" : "Changes", "%s: %s%s", p->edit[i].path, p->edit[i].what,
                   p->edit[i].behind ? " (moved behind the image)" : "");
    show_field(cli, "To write", "%s", ws_size_both(p->bytes_written, size, sizeof size));
    show_findings(cli, &p->findings);
    show_map(cli, p->drive_size, part, p->parts);
}

int run_plan(struct cli *cli, int argc, const char **argv) {
    char *image_path = NULL, *drive_word = NULL, *kind = NULL, *persistence = NULL, *save = NULL;
    const struct poptOption options[] = {
        {"image", 'i', POPT_ARG_STRING, &image_path, 0, "the image to lay down", "FILE"},
        {"drive", 'd', POPT_ARG_STRING, &drive_word, 0, "the drive to plan for: its name or path", "DRIVE"},
        {"kind", 'k', POPT_ARG_STRING, &kind, 0, "live (remembers; the default) or replica", "KIND"},
        {"persistence", 'p', POPT_ARG_STRING, &persistence, 0, "room for what is remembered, or \"rest\" (the default)",
         "SIZE"},
        {"save", 's', POPT_ARG_STRING, &save, 0, "keep the plan document here", "PLAN"},
        POPT_TABLEEND};
    struct ws_plan plan = {0};
    struct ws_drive_facts facts;
    struct ws_source *source = NULL;
    struct ws_packed_facts packed;
    struct ws_build *build = NULL;
    struct ws_text text = {0};
    enum ws_status status = WS_OK;
    int code = cli_options(cli, cli_command("plan"), argc, argv, options, NULL, 0, 0);
    if (code) return code - 1;
    if (!image_path || !drive_word) {
        status = ws_fail(&cli->error, WS_E_USAGE, "a plan needs --image FILE and --drive DRIVE");
        goto done;
    }
    if (kind && strcmp(kind, "live") != 0 && strcmp(kind, "replica") != 0)
        WS_GO(ws_fail(&cli->error, WS_E_USAGE, "\"%s\" is not a kind of drive: live and replica are", kind));
    plan.kind = kind && strcmp(kind, "replica") == 0 ? WS_PLAN_REPLICA : WS_PLAN_LIVE;
    if (persistence && strcmp(persistence, "rest") != 0) {
        if (plan.kind == WS_PLAN_REPLICA)
            WS_GO(ws_fail(&cli->error, WS_E_USAGE, "a replica has no persistence; leave --persistence out"));
        WS_GO(ws_size_parse(persistence, &plan.persistence_asked, &cli->error));
        if (plan.persistence_asked < WS_EXT4_LEAST)
            WS_GO(
                ws_fail(&cli->error, WS_E_USAGE, "a persistence partition needs at least 16 MiB, not %s", persistence));
    }
    WS_GO(cli_open_port(cli));
    WS_GO(cli_find_drive(cli, drive_word, &facts));
    WS_GO(ws_linux_open_image(image_path, &source, &packed, &cli->error));
    char *real = realpath(image_path, NULL);
    (void)snprintf(plan.image_path, sizeof plan.image_path, "%s", real ? real : image_path);
    free(real);
    (void)snprintf(plan.drive_name, sizeof plan.drive_name, "%s", facts.short_name);
    (void)snprintf(plan.drive_model, sizeof plan.drive_model, "%s", facts.model);
    (void)snprintf(plan.drive_serial, sizeof plan.drive_serial, "%s", facts.serial);
    (void)snprintf(plan.drive_seen_at, sizeof plan.drive_seen_at, "%s", facts.id);
    plan.drive_size = facts.size;
    plan.drive_sector = facts.logical_sector;
    plan.made_at = cli->port->ops->wall_clock(cli->port);
    WS_GO(cli->port->ops->random(cli->port, plan.id.byte, 16, &cli->error));
    ws_guid_from_random(&plan.id);
    WS_GO(ws_source_hash(source, WS_HASH_SHA256, plan.image_sha256, &cli->error));
    WS_GO(ws_build_prepare(&plan, source, &build, &cli->error));
    WS_GO(ws_plan_to_json(&plan, &text, &cli->error));
    if (save) WS_GO(cli_write_file(save, text.data, text.length, &cli->error));
    if (cli->json) {
        fputs(text.data, stdout);
    } else {
        struct ws_target_rules rules = {false};
        struct ws_error refusal = {0};
        show_plan(cli, &plan);
        if (ws_drive_may_write(&facts, &rules, &refusal) != WS_OK)
            printf("\n  %sThis drive would be refused:%s %s. %s.\n", ink(cli, INK_WARN), ink(cli, INK_PLAIN),
                   refusal.what, refusal.next);
        if (save)
            show_result(cli, true, "The plan is kept in %s. Nothing was written. Next: satchel build %s", save, save);
        else show_result(cli, true, "Nothing was written, and the plan was not kept; --save PLAN keeps it.");
    }
done:
    if (status != WS_OK) {
        ws_fail_where(&cli->error, "%s", image_path ? image_path : "");
        code = cli_fail(cli);
    }
    ws_text_free(&text);
    ws_build_close(build);
    ws_source_close(source);
    ws_plan_free(&plan);
    return code;
}
