/* emulator_none.c — built without emulated PCs. */
#include "wild_satchel/port/emulator.h"

enum ws_status ws_emulator_pc(const struct ws_emulator_params *params, struct ws_pc **pc, struct ws_error *error) {
    (void)params, (void)pc;
    ws_fail(error, WS_E_UNSUPPORTED, "this program was built without emulated PCs");
    return ws_fail_next(error, "build it with WS_EMULATOR, or prove the drive on a simulated bench");
}
