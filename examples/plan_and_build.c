/* plan_and_build.c — a live image made into an image file of a drive that remembers, in one page.
 *
 *   example_plan_and_build IMAGE TARGET SIZE      (TARGET: a new file, made SIZE long; one that is there stays as it
 * is)
 */
#include "port/linux/linux.h"
#include "wild_satchel/wild_satchel.h"

#include <stdio.h>
#include <string.h>

static bool show(void *context, const struct ws_progress *p) {
    (void)context;
    printf("\r%-9s %3d %%", ws_step_name(p->step), p->total ? (int)(p->done * 100 / p->total) : 100);
    return true;
}

int main(int argc, char **argv) {
    struct ws_error error = {0};
    struct ws_port *port = NULL;
    struct ws_drive *drive = NULL;
    struct ws_drive_facts facts;
    struct ws_source *image = NULL;
    struct ws_build *build = NULL;
    struct ws_build_result result;
    struct ws_plan plan = {.kind = WS_PLAN_LIVE};
    uint64_t size = 0;
    enum ws_status status = WS_OK;
    if (argc != 4) {
        fprintf(stderr, "%s IMAGE TARGET SIZE\n", argv[0]);
        return 2;
    }
    WS_GO(ws_size_parse(argv[3], &size, &error));

    /* The drive: a plain file here; a real one is opened the same way, by its path. */
    WS_GO(ws_linux_make_file(argv[2], size / 512 * 512, &error)); /* refused if the name is taken */
    WS_GO(ws_linux_open(&port, &error));
    WS_GO(port->ops->open(port, argv[2], WS_OPEN_WRITE, &drive, &error));
    WS_GO(drive->ops->describe(drive, &facts, &error));

    /* The plan: what is wanted, on which drive. Preparing it fills in all that follows; nothing is written yet. */
    WS_GO(ws_source_file(argv[1], &image, &error));
    WS_GO(ws_source_hash(image, WS_HASH_SHA256, plan.image_sha256, &error));
    snprintf(plan.image_path, sizeof plan.image_path, "%s", argv[1]);
    snprintf(plan.drive_name, sizeof plan.drive_name, "%s", facts.short_name);
    snprintf(plan.drive_serial, sizeof plan.drive_serial, "%s", facts.serial);
    plan.drive_size = facts.size;
    plan.drive_sector = facts.logical_sector;
    plan.made_at = port->ops->wall_clock(port);
    WS_GO(port->ops->random(port, plan.id.byte, sizeof plan.id.byte, &error));
    ws_guid_from_random(&plan.id);
    WS_GO(ws_build_prepare(&plan, image, &build, &error));
    printf("%s: %llu bytes of persistence, %llu of them free\n", plan.family->title,
           (unsigned long long)plan.persistence_size, (unsigned long long)plan.persistence_free);

    /* Carried out: written, flushed, sealed, read back and compared. */
    struct ws_build_options options = {.confirm = facts.short_name, .on_progress = show};
    WS_GO(ws_build_carry_out(build, port, drive, &options, &result, &error));
    printf("\nwritten %llu bytes, checked %llu bytes, SHA-256 of the drive %.16s...\n",
           (unsigned long long)result.write.written, (unsigned long long)result.check.checked, result.check.sha256);
done:
    if (status != WS_OK) fprintf(stderr, "\n%s %s. %s\n", error.where, error.what, error.next);
    ws_build_close(build);
    ws_plan_free(&plan);
    ws_source_close(image);
    if (drive) drive->ops->close(drive);
    ws_port_close(port);
    return status == WS_OK ? 0 : 4;
}
