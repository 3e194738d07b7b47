/* signature_none.c — built without what checks signatures. */
#include "wild_satchel/port/linux.h"

enum ws_status ws_linux_check_signature(const char *keyring, const char *signature, const char *file, char *who,
                                        size_t room, struct ws_error *error) {
    (void)keyring, (void)signature, (void)file, (void)who, (void)room;
    ws_fail(error, WS_E_UNSUPPORTED, "this program was built without what checks signatures");
    return ws_fail_next(error, "compare the checksum, or build it with WS_SIGNATURES");
}
