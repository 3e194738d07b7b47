/* read_memory.c — what a live drive remembers, read without mounting or starting anything.
 *
 *   example_read_memory DRIVE      (a path to a drive or to an image file of one)
 */
#include "wild_satchel/port/linux.h"
#include "wild_satchel/wild_satchel.h"

#include <stdio.h>

int main(int argc, char **argv) {
    struct ws_error error = {0};
    struct ws_source *drive = NULL;
    struct ws_source *volume = NULL;
    struct ws_tree *tree = NULL;
    struct ws_snapshot snapshot = {0};
    struct ws_memory memory;
    enum ws_status status = WS_OK;
    if (argc != 2) {
        fprintf(stderr, "%s DRIVE\n", argv[0]);
        return 2;
    }
    WS_GO(ws_source_file(argv[1], &drive, &error));
    WS_GO(ws_memory_look(drive, ws_table_sector_of(drive), &memory, &error));
    if (memory.cause != WS_FORGETS_NOT) printf("This drive forgets: %s.\n", memory.cause_text);
    if (memory.volume_size == 0) goto done;
    printf("%s, volume \"%s\", %llu bytes free%s\n", memory.family->title, memory.volume.label,
           (unsigned long long)memory.volume.free_bytes, memory.volume.needs_recovery ? ", not shut down cleanly" : "");
    WS_GO(ws_source_slice(drive, memory.volume_at, memory.volume_size, &volume, &error));
    WS_GO(ws_ext4_read(volume, &tree, NULL, &error));
    WS_GO(ws_snapshot_take(tree, WS_READ_ALL, NULL, &snapshot, &error));
    for (size_t i = 0; i < snapshot.count; i++)
        printf("%10llu  %-8s  %s\n", (unsigned long long)snapshot.shot[i].size,
               ws_whose_name(ws_whose_is(snapshot.shot[i].path)), snapshot.shot[i].path);
done:
    if (status != WS_OK) fprintf(stderr, "%s %s. %s\n", error.where, error.what, error.next);
    ws_snapshot_free(&snapshot);
    ws_tree_close(tree);
    ws_source_close(volume);
    ws_source_close(drive);
    return status == WS_OK ? 0 : 4;
}
