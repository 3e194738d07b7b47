/* cut.c — volumes that can begin later. */
#include "fs/cut/clusters.h"

#include <string.h>

enum ws_status cut_in_use(struct ws_error *error) {
    ws_fail(error, WS_E_REFUSED, "it was taken out while something was still to be written to it");
    return ws_fail_next(error, "plug it in where it was used, and eject it there; or let a file system checker look at "
                               "it");
}

enum ws_status ws_front_cut(struct ws_front_cut *cut, struct ws_layout *layout, struct ws_error *error) {
    static enum ws_status (*const kinds[])(struct ws_front_cut *, struct ws_layout *, struct ws_error *) = {cut_fat,
                                                                                                            cut_exfat};
    enum ws_status status = WS_E_NOTFOUND;
    *cut = (struct ws_front_cut){.volume = cut->volume, .at = cut->at, .front = cut->front};
    for (size_t i = 0; i < sizeof kinds / sizeof kinds[0] && status == WS_E_NOTFOUND; i++)
        status = kinds[i](cut, layout, error);
    if (status == WS_E_NOTFOUND) ws_fail(error, status, "there is neither a FAT nor an exFAT volume here");
    return status;
}
