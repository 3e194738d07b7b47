/* twin.c — an existing drive carried over to another one, in one page; run again, it brings the twin up to date.
 *
 *   example_twin ORIGINAL TARGET SIZE      (ORIGINAL: a drive's image, a virtual disk; TARGET: a new file, made SIZE
 *   long, a virtual disk by its ending; or one that holds the twin, which is refreshed)
 */
#include "wild_satchel/port/linux.h"
#include "wild_satchel/wild_satchel.h"

#include <stdio.h>
#include <unistd.h>

/* What an original is made of, and what it could do without. */
static enum ws_status look(const struct ws_source *source, struct ws_error *error) {
    static struct ws_original original;
    struct ws_left_out tally[WS_LEAVES];
    enum ws_status status = ws_original_open(source, ws_table_sector_of(source), &original, error);
    for (size_t i = 0; i < original.volumes; i++)
        printf("partition %u: %s, %llu files, becomes one %s\n", original.volume[i].place.number,
               original.volume[i].system, (unsigned long long)original.volume[i].files,
               ws_twin_way_name(original.volume[i].way));
    ws_original_leavable(&original, tally);
    for (size_t i = 0; i < WS_LEAVES && status == WS_OK; i++)
        if (tally[i].files)
            printf("without %s: %llu bytes less\n", ws_leave_name((enum ws_leave)i),
                   (unsigned long long)tally[i].bytes);
    ws_original_close(&original);
    return status;
}

int main(int argc, char **argv) {
    static struct ws_request request;
    struct ws_error error = {0};
    struct ws_port *port = NULL;
    struct ws_drive *drive = NULL;
    struct ws_drive_facts facts;
    struct ws_source *original = NULL;
    struct ws_source *now = NULL;
    struct ws_packed_facts packed;
    struct ws_build *build = NULL;
    struct ws_build_result result;
    struct ws_build_setting setting;
    uint64_t size = 0;
    enum ws_status status = WS_OK;
    if (argc != 4) {
        fprintf(stderr, "%s ORIGINAL TARGET SIZE\n", argv[0]);
        return 2;
    }
    bool there = access(argv[2], F_OK) == 0;
    WS_GO(ws_size_parse(argv[3], &size, &error));
    WS_GO(ws_linux_open_image(argv[1], &original, &packed, &error));
    WS_GO(look(original, &error));
    if (!there) WS_GO(ws_linux_make_file(argv[2], size / 512 * 512, &error));
    WS_GO(ws_linux_open(&port, &error));
    WS_GO(port->ops->open(port, argv[2], WS_OPEN_WRITE, &drive, &error));
    WS_GO(drive->ops->describe(drive, &facts, &error));

    ws_request_begin(&request, WS_KIND_TWIN);
    snprintf(request.input[WS_INPUT_IMAGE].path, sizeof request.input[0].path, "%s", argv[1]);
    request.twin.leave_out = 1u << WS_LEAVE_CACHES;
    request.twin.refresh = there;
    if (there) WS_GO(ws_source_drive(drive, &now, &error));

    WS_GO(ws_build_setting_begin(&setting, port, &facts, &error));
    setting.input[WS_INPUT_IMAGE] = original;
    setting.now = now;
    WS_GO(ws_build_prepare(&request, &setting, &build, &error));
    const struct ws_outlook *outlook = ws_plan_outlooks(ws_build_plan(build));
    for (size_t i = 0; i < WS_OUTLOOKS; i++)
        printf("%s: %s\n", outlook[i].starts ? "starts" : "does not", outlook[i].why);

    struct ws_build_options options = {.confirm = facts.short_name};
    WS_GO(ws_build_carry_out(build, port, drive, &options, &result, &error));
    printf("%s: written %llu bytes\n", there ? "brought up to date" : "carried over",
           (unsigned long long)result.write.written);
done:
    if (status != WS_OK) fprintf(stderr, "%s %s. %s\n", error.where, error.what, error.next);
    ws_build_close(build);
    ws_source_close(now);
    ws_source_close(original);
    if (drive) drive->ops->close(drive);
    ws_port_close(port);
    return status == WS_OK ? 0 : 4;
}
