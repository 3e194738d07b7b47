/* grow.c — a system that takes the room of a larger drive: a small program of ours, run at each start. */
#include "boot/code.h"
#include "system/own.h"

#include <string.h>

#define PROGRAM "/usr/local/sbin/take-room"

static const struct own_service services[] = {
    {WS_INIT_SYSTEMD, "/etc", "/etc/systemd/system/take-room.service", 0644,
     "[Unit]\nDescription=The room of a larger drive\nAfter=local-fs.target\nConditionPathIsReadWrite=/\n"
     "[Service]\nType=oneshot\nExecStart=" PROGRAM "\n[Install]\nWantedBy=multi-user.target\n",
     "/etc/systemd/system/multi-user.target.wants/take-room.service", "../take-room.service"},
    {WS_INIT_OPENRC, "/etc/runlevels", "/etc/init.d/take-room", 0755,
     "#!/sbin/openrc-run\ndescription=\"The room of a larger drive\"\ndepend() {\n\tneed localmount\n}\n"
     "start() {\n\t" PROGRAM "\n}\n",
     "/etc/runlevels/boot/take-room", "/etc/init.d/take-room"},
    {WS_INIT_RUNIT, "/etc/runit/core-services", "/etc/runit/core-services/99-take-room.sh", 0644, PROGRAM "\n", NULL,
     NULL},
};

enum ws_status own_growth(const struct edit *e, bool as_before) {
    static const char *const lines[] = {"gd::bootwait:" PROGRAM, "::wait:" PROGRAM};
    struct ws_text program = {0};
    bool put = false;
    const char *why =
        strcmp(e->facts->machine, "x86-64") != 0 ? "its programs are not known to be made for x86-64" : NULL;
    if (!why) WS_TRY(own_put_start(e, services, sizeof services / sizeof services[0], lines, &put));
    if (!why && !put) why = "nothing of it can be told what to do when it starts";
    if (why && as_before) {
        ws_findings_add(e->findings, WS_WARNING, "the system grew on larger drives, and the newer one does not: %s",
                        why);
        return WS_OK;
    }
    if (why) {
        ws_fail(e->error, WS_E_UNSUPPORTED, "this root cannot grow by itself: %s", why);
        return ws_fail_hint(e->error, WS_HINT_GROWTH, "", "leave it at the size of this drive");
    }
    ws_text_add(&program, (const char *)ws_code_grow, ws_code_grow_length);
    enum ws_status status = edit_save(e, PROGRAM, &program, 0755, NULL);
    ws_text_free(&program);
    return status;
}

bool ws_system_grows(const struct ws_tree *root) { return ws_system_find(root, PROGRAM) != NULL; }
