/* compose_persistence.c — an ext4 persistence volume composed and written to a file; says how long and how much.
 *
 *   compose_persistence FILE SIZE
 */
#include "wild_satchel/port/linux.h"
#include "wild_satchel/wild_satchel.h"

#include <fcntl.h>
#include <stdio.h>
#include <stdlib.h>
#include <unistd.h>

int main(int argc, char **argv) {
    struct ws_error error = {0};
    struct ws_port *port = NULL;
    struct ws_drive *drive = NULL;
    struct ws_tree *tree = NULL;
    struct ws_layout *layout = NULL;
    struct ws_ext4_geometry g = {0};
    struct ws_ext4_params p = {.label = "persistence", .made_at = 1790000000};
    struct ws_write_result result;
    enum ws_status status = WS_OK;
    if (argc != 3) return 2;
    WS_GO(ws_size_parse(argv[2], &p.size, &error));
    int fd = open(argv[1], O_RDWR | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
    if (fd < 0 || ftruncate(fd, (off_t)p.size) != 0) WS_GO(ws_fail(&error, WS_E_WRITE, "no room for the volume"));
    close(fd);
    WS_GO(ws_linux_open(&port, &error));
    WS_GO(port->ops->random(port, p.id.byte, 16, &error));
    double began = port->ops->steady_clock(port);
    WS_GO(ws_live_volume_tree(ws_live_family_find("live-boot"), p.made_at, &tree, &error));
    WS_GO(ws_ext4_measure(&p, tree, &g, &error));
    WS_GO(ws_layout_create(p.size, &layout, &error));
    WS_GO(ws_ext4_compose(&g, 0, layout, WS_PHASE_BODY, &error));
    WS_GO(ws_layout_seal(layout, &error));
    double composed = port->ops->steady_clock(port);
    WS_GO(port->ops->open(port, argv[1], WS_OPEN_WRITE, &drive, &error));
    WS_GO(ws_write(port, layout, drive, NULL, &result, &error));
    double written = port->ops->steady_clock(port);
    printf("{\"compose_s\": %.4f, \"total_s\": %.4f, \"written_bytes\": %llu}\n", composed - began, written - began,
           (unsigned long long)result.written);
done:
    if (status != WS_OK) fprintf(stderr, "%s\n", error.what);
    if (drive) drive->ops->close(drive);
    ws_layout_close(layout);
    ws_ext4_geometry_free(&g);
    ws_tree_close(tree);
    ws_port_close(port);
    return status == WS_OK ? 0 : 4;
}
