/* disk.c — the disk inside the PC that a drive is started on: what the running system makes of it. */
#include "proof/console.h"

#include <stdio.h>
#include <string.h>

const char *ws_disk_seen_name(enum ws_disk_seen seen) {
    static const char *const names[] = {"not-asked", "unseen", "read-only", "writable", "mounted"};
    return names[seen];
}

enum ws_status console_ask_for_disk(struct console *c, uint64_t sectors, enum ws_disk_seen *seen,
                                    struct ws_error *error) {
    struct ws_text said = {0};
    char command[400];
    int result = 0;
    (void)snprintf(
        command, sizeof command,
        "for d in /sys/block/*; do read s < $d/size; if [ $s = %llu ]; then read r < $d/ro; echo disk-ro-$r; "
        "grep ^/dev/${d##*/} /proc/mounts && echo disk-m\\ounted; fi; done",
        (unsigned long long)sectors);
    enum ws_status status = console_run(c, command, &result, &said, error);
    const char *text = said.data ? said.data : "";
    *seen = strstr(text, "disk-mounted") ? WS_DISK_MOUNTED
            : strstr(text, "disk-ro-1")  ? WS_DISK_READ_ONLY
            : strstr(text, "disk-ro-0")  ? WS_DISK_WRITABLE
                                         : WS_DISK_UNSEEN;
    ws_text_free(&said);
    return status;
}
