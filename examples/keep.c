/* keep.c — care for a drive: what it remembers told, and the room for it made as large as it can be.
 *
 *   example_keep DRIVE      (a path to a drive or to an image file of one)
 */
#include "wild_satchel/port/linux.h"
#include "wild_satchel/wild_satchel.h"

#include <stdio.h>

int main(int argc, char **argv) {
    struct ws_error error = {0};
    struct ws_port *port = NULL;
    struct ws_drive *drive = NULL;
    struct ws_source *source = NULL;
    struct ws_kept *kept = NULL;
    struct ws_drive_facts facts;
    struct ws_kept_report report;
    struct ws_write_result result;
    uint64_t least, most;
    enum ws_status status = WS_OK;
    if (argc != 2) {
        fprintf(stderr, "%s DRIVE\n", argv[0]);
        return 2;
    }
    WS_GO(ws_linux_open(&port, &error));
    WS_GO(ws_drive_find(port, argv[1], &facts, &error));
    WS_GO(port->ops->open(port, facts.id, WS_OPEN_WRITE, &drive, &error));
    WS_GO(ws_source_drive(drive, &source, &error));
    WS_GO(ws_kept_open(source, facts.logical_sector, NULL, &kept, &error));
    ws_kept_look(kept, &report);
    printf("%llu files are remembered, started %u times, %llu bytes are free\n", (unsigned long long)report.files,
           report.starts, (unsigned long long)report.free_bytes);
    for (size_t i = 0; i < report.folder_count; i++)
        printf("%12llu  %s\n", (unsigned long long)report.folder[i].bytes, report.folder[i].path);
    WS_GO(ws_kept_bounds(kept, &least, &most, &error));
    if (most <= report.size + (1 << 20)) goto done;                       /* it is that large already */
    const struct ws_kept_options options = {.confirm = facts.short_name}; /* a person's answer, in a real program */
    WS_GO(ws_kept_resize(kept, most, &error));
    WS_GO(ws_kept_prepare(kept, port->ops->wall_clock(port), NULL, &error));
    WS_GO(ws_kept_carry_out(kept, port, drive, &options, &result, &error));
    printf("the volume has grown to %llu bytes, for %llu written\n", (unsigned long long)most,
           (unsigned long long)result.written);
done:
    if (status != WS_OK) fprintf(stderr, "%s %s. %s\n", error.where, error.what, error.next);
    ws_kept_close(kept);
    ws_source_close(source);
    if (drive) drive->ops->close(drive);
    ws_port_close(port);
    return status == WS_OK ? 0 : 4;
}
