/* picture_none.c — built without pictures. */
#include "cli/cli.h"

static enum ws_status none(const char *path, struct ws_error *error) {
    ws_fail(error, WS_E_UNSUPPORTED, "this program was built without pictures");
    ws_fail_where(error, "%s", path);
    return ws_fail_next(error, "leave --picture out: the map stands on the screen, too");
}

enum ws_status cli_draw_maps(const char *path, const struct picture *picture, struct ws_text *out,
                             struct ws_error *error) {
    (void)picture, (void)out;
    return none(path, error);
}

enum ws_status cli_draw_kept(const char *path, const char *title, const struct ws_kept_report *report,
                             struct ws_text *out, struct ws_error *error) {
    (void)title, (void)report, (void)out;
    return none(path, error);
}
