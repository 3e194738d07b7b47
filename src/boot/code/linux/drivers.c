/* drivers.c — takes drivers into the kernel from inside an initial RAM disk that does not know them.
 *
 * An archive behind the system's own brings it, the drivers, unpacked, and a list of their names in the order in which
 * they need one another, a line each (src/system/drivers.c). A hook of the initial RAM disk runs it before devices are
 * looked for; what finds and names them is the system's own from there on.
 */
#include "../start.h"
#include "calls.h"

#define OWN "/start-drivers.d"

static void add(const char *name) {
    char path[128];
    (void)start_format(path, sizeof path, OWN "/%s", name);
    long file = open_path(path, 0);
    if (file < 0) return;
    (void)linux_call(CALL_MODULE, file, (long)"", 0, 0, 0); /* one that is there already is as good */
    close_file(file);
}

__attribute__((noreturn, used)) void drivers_begin(void) {
    static char list[8192];
    long file = open_path(OWN "/list", 0);
    long length = file < 0 ? 0 : linux_call(CALL_READ, file, (long)list, sizeof list, 0, 0);
    for (long at = 0, from = 0; at < length; at++) {
        if (list[at] != '\n') continue;
        list[at] = '\0';
        add(list + from);
        from = at + 1;
    }
    for (;;) (void)linux_call(CALL_EXIT, 0, 0, 0, 0, 0);
}

__asm__(".globl _start\n_start:\n\txor %ebp, %ebp\n\tand $-16, %rsp\n\tcall drivers_begin\n");
