/* plan_and_build.c — a live image made into an image file of a drive that remembers, in one page.
 *
 *   example_plan_and_build IMAGE TARGET SIZE      (TARGET: a new file, made SIZE long; one that is there stays as it
 * is)
 */
#include "wild_satchel/port/linux.h"
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
    static struct ws_request request;
    struct ws_build_setting setting;
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

    /* The request: a live system that remembers, in the usual way. It says nothing about the drive. */
    ws_request_begin(&request, WS_KIND_LIVE);
    snprintf(request.input[WS_INPUT_IMAGE].path, sizeof request.input[0].path, "%s", argv[1]);
    WS_GO(ws_source_file(argv[1], &image, &error));

    /* Decided for this drive. Preparing it works out all that follows; nothing is written yet. */
    WS_GO(ws_build_setting_begin(&setting, port, &facts, &error));
    setting.input[WS_INPUT_IMAGE] = image;
    WS_GO(ws_build_prepare(&request, &setting, &build, &error));
    const struct ws_plan *plan = ws_build_plan(build);
    const struct ws_volume *persistence = ws_plan_volume(plan, WS_ROLE_PERSISTENCE);
    printf("%s: %llu bytes of persistence, %llu of them free\n", ws_plan_family(plan)->title,
           (unsigned long long)persistence->size, (unsigned long long)persistence->free_bytes);

    /* Carried out: written, flushed, sealed, read back and compared. */
    struct ws_build_options options = {.confirm = facts.short_name, .on_progress = show};
    WS_GO(ws_build_carry_out(build, port, drive, &options, &result, &error));
    printf("\nwritten %llu bytes, checked %llu bytes, SHA-256 of the drive %.16s...\n",
           (unsigned long long)result.write.written, (unsigned long long)result.check.checked, result.check.sha256);
done:
    if (status != WS_OK) fprintf(stderr, "\n%s %s. %s\n", error.where, error.what, error.next);
    ws_build_close(build);
    ws_source_close(image);
    if (drive) drive->ops->close(drive);
    ws_port_close(port);
    return status == WS_OK ? 0 : 4;
}
