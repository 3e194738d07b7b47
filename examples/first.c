/* first.c — the shortest program that makes a drive: example_first IMAGE DRIVE, the latter a file of its size. */
#include "wild_satchel/port/linux.h"
#include "wild_satchel/wild_satchel.h"

#include <stdio.h>

int main(int argc, char **argv) {
    static struct ws_request request;
    struct ws_error error = {0};
    struct ws_port *port = NULL;
    struct ws_drive *drive = NULL;
    struct ws_drive_facts facts;
    struct ws_source *image = NULL;
    struct ws_build_setting setting;
    struct ws_build *build = NULL;
    struct ws_build_result result;
    enum ws_status status = argc == 3 ? WS_OK : ws_fail(&error, WS_E_USAGE, "example_first IMAGE DRIVE");
    if (status == WS_OK) status = ws_linux_open(&port, &error);
    if (status == WS_OK) status = ws_source_file(argv[1], &image, &error);
    if (status == WS_OK) status = port->ops->open(port, argv[2], WS_OPEN_WRITE, &drive, &error);
    if (status == WS_OK) status = drive->ops->describe(drive, &facts, &error);
    if (status == WS_OK) status = ws_build_setting_begin(&setting, port, &facts, &error);
    ws_request_begin(&request, WS_KIND_USUAL);
    setting.input[WS_INPUT_IMAGE] = image;
    if (status == WS_OK) status = ws_build_prepare(&request, &setting, &build, &error);
    const struct ws_build_options options = {.confirm = facts.short_name};
    if (status == WS_OK) status = ws_build_carry_out(build, port, drive, &options, &result, &error);
    printf("%s %s\n", status == WS_OK ? "checked" : error.what, error.next);
    ws_build_close(build);
    ws_source_close(image);
    if (drive) drive->ops->close(drive);
    ws_port_close(port);
    return status == WS_OK ? 0 : 4;
}
