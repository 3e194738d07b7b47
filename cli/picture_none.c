/* picture_none.c — built without pictures. */
#include "cli/cli.h"

enum ws_status cli_draw_maps(const char *path, const struct picture *picture, struct ws_text *out,
                             struct ws_error *error) {
    (void)picture, (void)out;
    ws_fail(error, WS_E_UNSUPPORTED, "this program was built without pictures");
    ws_fail_where(error, "%s", path);
    return ws_fail_next(error, "leave --picture out: the map stands on the screen, too");
}
